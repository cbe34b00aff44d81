"""The runs of a study: a model on an image set, with all that showing it or going on with it takes."""

from __future__ import annotations

from mivrat.core.answers.answers import UNREADABLE, Answers, dtype_of, told_by_of
from mivrat.core.base.errors import InputError
from mivrat.core.models.kinds import KINDS
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.recipe import parse_recipe
from mivrat.core.study.class_list import load_families
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_set, load_stamps
from mivrat.core.study.kept_answers import fill_answers
from mivrat.core.study.names import model_names, set_names
from mivrat.core.study.records import Removed, RunInfo, RunRecord
from mivrat.core.study.removing import take_away
from mivrat.core.study.settings import load_temperature, load_threshold
from mivrat.core.study.soundness import (
    reading,
)


def remove_run(study: Study, run_id: int) -> Removed:
    """Take a run away; what it has answered stays."""
    return take_away(
        study, ("check_result", "run_id = ?", run_id), ("cover_test", "run_id = ?", run_id), ("run", "id = ?", run_id)
    )


@reading
def listed_in_run(study: Study, run_id: int) -> int:
    """How many images the set of a run lists, readable or not; the positions of its results are below it."""
    query = "SELECT COUNT(*) FROM image WHERE set_id = (SELECT set_id FROM run WHERE id = ?)"
    (found,) = study.db.execute(query, (run_id,)).fetchone()
    return int(found)


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
def load_run(study: Study, run_id: int, *, with_answers: bool = True) -> RunRecord:
    """One run with its image list and all answers so far; or without answers, for ``fill_answers`` to put in. Raises InputError
    where there is none."""
    info = next((one for one in list_runs(study) if one.id == run_id), None)
    if info is None:
        raise InputError(f"holds no run {run_id}", where=study.path, hint="choose one of the runs it lists")
    model_kind, model_path, digest, recipe, guess = study.db.execute(
        "SELECT kind, path, sha256, recipe, recipe_is_guess FROM model WHERE id = ?", (info.model_id,)
    ).fetchone()
    image_set, classes = load_image_set(study, info.set_id), study.classes
    columns, kind = study.db.execute("SELECT score_columns, kind FROM run WHERE id = ?", (run_id,)).fetchone()
    preparing = parse_recipe(recipe, study.path)
    of = KINDS[model_kind]
    told_by, dtype = told_by_of(of, preparing), dtype_of(of)
    answers = Answers(len(image_set.items), columns, kind, len(classes), told_by, dtype)
    for position, problem in study.db.execute(
        "SELECT position, problem FROM image WHERE set_id = ? AND problem IS NOT NULL", (info.set_id,)
    ):
        answers.state[position], answers.reasons[position] = UNREADABLE, problem
    answers.contents = {i: stamp.content for i, stamp in load_stamps(study, info.set_id).items()}
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
