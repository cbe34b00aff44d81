"""The runs of a study: a model on an image set, with all that showing it or going on with it takes."""

from __future__ import annotations

from mivrat.core.answers.answers import UNREADABLE, Answers, dtype_of, kind_source_of
from mivrat.core.base.errors import InputError
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.recipe import parse_recipe
from mivrat.core.study.class_list import load_families
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_listed
from mivrat.core.study.kept_answers import fill_answers
from mivrat.core.study.names import model_names, set_names
from mivrat.core.study.records import Removed, RunInfo, RunRecord
from mivrat.core.study.removing import take_away
from mivrat.core.study.schema import LISTED
from mivrat.core.study.score_files import score_rows
from mivrat.core.study.settings import load_temperature, load_threshold
from mivrat.core.study.soundness import (
    reading,
)


def remove_run(study: Study, run_id: int) -> Removed:
    """Take a run away; what it has answered stays."""
    return take_away(
        study,
        ("check_result", "run_id = ?", run_id),
        ("cover_test", "run_id = ?", run_id),
        ("kept_columns", "what = 'run' AND id = ?", run_id),
        ("run", "id = ?", run_id),
    )


@reading
def listed_in_run(study: Study, run_id: int) -> int:
    """How many images the set of a run lists, readable or not; the positions of its results are below it."""
    query = f"SELECT {LISTED} FROM image_set WHERE id = (SELECT set_id FROM run WHERE id = ?)"
    found = study.db.execute(query, (run_id,)).fetchone()
    return int(found[0]) if found else 0


def add_run(study: Study, model_id: int, set_id: int, columns: int, kind: Kind | None) -> int:
    """Begin a run of a model on a set, or find the one begun before."""
    with study.writing() as db:
        db.execute(
            "INSERT INTO run (model_id, set_id, score_columns, kind) VALUES (?, ?, ?, ?) ON CONFLICT (model_id, set_id) DO NOTHING",
            (model_id, set_id, columns, kind),
        )
    return int(
        study.db.execute("SELECT id FROM run WHERE model_id = ? AND set_id = ?", (model_id, set_id)).fetchone()[0]
    )


@reading
def list_runs(study: Study) -> list[RunInfo]:
    """All runs, oldest first."""
    models, sets = model_names(study), set_names(study)
    found = study.db.execute("SELECT id, model_id, set_id FROM run ORDER BY id")
    return [RunInfo(key, models[model], sets[images], model, images) for key, model, images in found]


@reading
def load_run(study: Study, run_id: int, *, with_answers: bool = True, to_go_on: bool = False) -> RunRecord:
    """One run with its image list and all answers so far; or without answers, for ``fill_answers`` to put in. ``to_go_on``: what is
    put into the scores of a large run is kept in its file. Raises InputError where there is no such run."""
    info = next((one for one in list_runs(study) if one.id == run_id), None)
    if info is None:
        raise InputError(f"holds no run {run_id}", where=study.path, hint="choose one of the runs it lists")
    model_kind, model_path, digest, recipe, guess = study.db.execute(
        "SELECT kind, path, sha256, recipe, recipe_is_guess FROM model WHERE id = ?", (info.model_id,)
    ).fetchone()
    (image_set, contents), classes = load_listed(study, info.set_id), study.classes
    columns, kind, score_file = study.db.execute(
        "SELECT score_columns, kind, score_file FROM run WHERE id = ?", (run_id,)
    ).fetchone()
    preparing = parse_recipe(recipe, study.path)
    of = KINDS[model_kind]
    kind_source, dtype = kind_source_of(of, preparing), dtype_of(of)
    rows = None if score_file is None else score_rows(study, score_file, "r+" if to_go_on else "c")
    answers = Answers(len(image_set.items), columns, kind, len(classes), kind_source, dtype, rows)
    answers.score_file = score_file
    for position, problem in study.db.execute(
        "SELECT position, problem FROM image WHERE set_id = ? AND problem IS NOT NULL", (info.set_id,)
    ):
        answers.state[position], answers.reasons[position] = UNREADABLE, problem
    answers.contents = contents
    record = RunRecord(
        info,
        classes,
        study.resolved(model_path),
        preparing,
        bool(guess),
        image_set,
        answers,
        of,
        digest,
        load_families(study),
        load_threshold(study, info.model_id) if len(classes) == 2 else None,
        load_temperature(study, info.model_id),
        str(study.path.resolve()),
    )
    if with_answers:
        for _ in fill_answers(study, record):
            pass
    return record
