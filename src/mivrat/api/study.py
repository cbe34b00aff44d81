"""A study file: its runs, findings and criteria, the next model held to them, and the report."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mivrat.api.evaluating import evaluate
from mivrat.api.figure import as_table
from mivrat.api.inputs import Classes, Place, RecipeLike, class_names, image_set_of, recipe_of
from mivrat.api.run import Run
from mivrat.api.work import Work
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Progress
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.concluding.evaluation_context import reference_of
from mivrat.core.concluding.of_study import ground_of, read_findings, read_snapshot
from mivrat.core.concluding.requirements import as_written
from mivrat.core.concluding.verifying import Verified, VerifyRequest, as_json, asked_of, recipe_known
from mivrat.core.concluding.verifying import verify as verified
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import judged_as_asked
from mivrat.core.running.unkept import record_of, snapshot_of
from mivrat.core.study.file import Study as StudyFile
from mivrat.core.study.image_sets import declared_places, list_image_sets
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import NotAllowed, allow_folders, allowed_folders, places_to_ask_about
from mivrat.core.study.records import RunInfo
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_criteria

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


class Verification:
    """The next model held to a study: ``passed``, what is ``failing``, and ``criteria`` and ``findings`` as frames."""

    def __init__(self, found: Verified) -> None:
        self._found = found

    @property
    def passed(self) -> bool:
        """Whether no criterion is missed, and every finding that blocks is gone."""
        return not self._found.failing

    @property
    def failing(self) -> tuple[str, ...]:
        """The criteria that are missed and the findings that block and are not gone."""
        return self._found.failing

    @property
    def criteria(self) -> pl.DataFrame:
        """A row for each criterion: its text, how it stands (met, missed, inconclusive), the figure before and now."""
        rows = [
            {
                "criterion": one.outcome.text,
                "verdict": one.outcome.verdict,
                "before": earlier.value,
                "now": one.outcome.value,
                "low": one.outcome.low,
                "high": one.outcome.high,
                "images": one.outcome.images,
                "problem": one.outcome.problem or None,
            }
            for earlier, one in self._found.criteria
        ]
        texts = {"criterion": pl.String, "verdict": pl.String, "problem": pl.String}
        return _frame(
            rows, {**texts, **dict.fromkeys(("before", "now", "low", "high"), pl.Float64), "images": pl.Int64}
        )

    @property
    def findings(self) -> pl.DataFrame:
        """A row for each finding: its title and weight, what has become of it, and why that is said."""
        rows = [
            {"finding": one.title, "weight": one.weight, "state": as_written(checked.state), "why": checked.why}
            for one, checked in self._found.findings
        ]
        return _frame(rows, dict.fromkeys(("finding", "weight", "state", "why"), pl.String))

    def as_json(self) -> dict[str, Any]:
        """The content of ``verify.json``."""
        return as_json(self._found)

    def save(self, path: Place) -> None:
        """Write ``verify.json``."""
        write_whole(Path(path), json.dumps(self.as_json(), indent=1, ensure_ascii=False, allow_nan=False) + "\n")

    def __repr__(self) -> str:
        return f"<Verification: {'passed' if self.passed else 'not passed: ' + '; '.join(self.failing)}>"

    def _repr_html_(self) -> str:
        lines = [f"{one['verdict']}: {one['criterion']}" for one in self.criteria.to_dicts()]
        lines += [f"{one['state']}: {one['finding']} ({one['weight']})" for one in self.findings.to_dicts()]
        return as_table([], "Passed" if self.passed else "Not passed", lines)


def _frame(rows: list[dict[str, Any]], kinds: dict[str, Any]) -> pl.DataFrame:
    """Rows as a frame whose columns have their kinds, whether there are rows or not."""
    order = list(rows[0]) if rows else list(kinds)
    return pl.DataFrame(rows, schema={name: kinds[name] for name in order})


class Study:
    """A study in a ``.mivrat`` file. It is opened for each call and closed again, so the window may have it open meanwhile."""

    def __init__(self, path: Path, classes: Sequence[str]) -> None:
        """Made by ``open_study``."""
        self.path, self._classes = path, list(classes)

    @property
    def class_names(self) -> list[str]:
        """Its classes, in the order of the models' scores."""
        return list(self._classes)

    @property
    def runs(self) -> pl.DataFrame:
        """A row for each run: the name that ``run`` takes, model, image set, images."""
        with StudyFile.open(self.path, again=True) as study:
            found = list_runs(study)
            listed = {one.id: one.images for one in list_image_sets(study)}
        names = names_of_runs(self.path) if found else []
        rows = [
            {"run": name, "model": one.model, "image_set": one.image_set, "images": listed.get(one.set_id)}
            for name, one in zip(names, found, strict=True)
        ]
        return _frame(rows, {**dict.fromkeys(("run", "model", "image_set"), pl.String), "images": pl.Int64})

    def run(self, name: str | None = None) -> Run:
        """A run by its name in ``runs``, or by its model or image set where that says it; the latest without a name."""
        info, _ = run_named(self.path, name)
        with StudyFile.open(self.path, again=True) as study:
            record, judging = load_judged(study, info.id)
        return Run(record, judged_as_asked(record, judging))

    @property
    def findings(self) -> pl.DataFrame:
        """A row for each finding: title, sentence, weight, what it was found on, and whether it was put aside."""
        found, _ = read_findings(self.path)
        rows = [
            {
                "finding": one.title,
                "sentence": one.sentence,
                "weight": one.weight,
                "model": one.made.model_name,
                "images": one.made.images_name,
                "value": one.before.value,
                "low": one.before.low,
                "high": one.before.high,
                "aside": one.aside,
            }
            for one in found
        ]
        texts = dict.fromkeys(("finding", "sentence", "weight", "model", "images"), pl.String)
        return _frame(rows, {**texts, **dict.fromkeys(("value", "low", "high"), pl.Float64), "aside": pl.Boolean})

    def criteria(self, run: str | None = None) -> list[str]:
        """The criteria that the model of a run (the latest without a name) is held to."""
        info, _ = run_named(self.path, run)
        with StudyFile.open(self.path, again=True) as study:
            return list(load_criteria(study, info.model_id))

    def evaluate(self, model: Place, images: Place | pl.DataFrame, recipe: RecipeLike = None, **more: Any) -> Run:
        """``mivrat.evaluate`` with this study's classes, kept in it."""
        return evaluate(model, images, self._classes, recipe, study=self.path, **more)

    def verify(
        self,
        model: Place,
        images: Place | pl.DataFrame | None = None,
        recipe: RecipeLike = None,
        *,
        batch: int = 32,
        threads: int = 0,
        progress: Callable[[Progress], object] | None = None,
    ) -> Verification:
        """Hold the next model to this study's criteria and findings, on the images they are of, or on others. Nothing is kept. Without a
        recipe that of the study's own model is taken where it fits. InputError where there is nothing to be held to."""

        def events() -> Iterator[Progress | Verification]:
            may_read(self.path, ())
            asked = asked_of(self.path, image_set_of(images, self._classes) if images is not None else None)
            chosen = next_model(Path(model), recipe, threads, asked)
            request = with_study_units(asked)
            one = Evaluation(chosen.model, request.images, measuring=True)
            yield from one.run(batch, threads)
            if len(one.answers.pending):
                return
            record = record_of(one, self._classes, request.families, set_id=request.set_id, threshold=chosen.threshold)
            for event in verified(request, snapshot_of(one, record)):
                yield Verification(event) if isinstance(event, Verified) else event[1]

        return Work(events()).finish(progress)

    def report(
        self, *out: Place, run: str | None = None, progress: Callable[[Progress], object] | None = None
    ) -> list[Path]:
        """Write the report of a run (the latest without a name): a file for each path, of the kind that its name ends with (``.html``,
        ``.pdf``, ``.md``, ``.json``). Returns what was written."""
        from mivrat.core.reporting.report.making import (  # what draws takes long to load
            AssembledReport,
            Making,
            check_ending,
            load_wanted,
            make_report,
            runs_against,
            write_report,
        )

        for one in out:
            check_ending(Path(one))

        def events() -> Iterator[Progress | list[Path]]:
            may_read(self.path, ())
            info, _ = run_named(self.path, run)
            snapshot = read_snapshot(self.path, info.id)
            findings, _ = read_findings(self.path)
            ground = ground_of(self.path, snapshot, MakerPool())
            with StudyFile.open(self.path, again=True) as study:
                wanted = load_wanted(study, ground)
            against = runs_against(self.path, wanted.against) if wanted.against else []
            for event in make_report(self.path, ground, findings, wanted, against, allowed_folders()):
                if isinstance(event, AssembledReport):
                    yield list(dict.fromkeys(path for one in out for path in write_report(event, Path(one))))
                elif isinstance(event, Making) and event.within is not None:
                    yield event.within

        return Work(events()).finish(progress)

    def __repr__(self) -> str:
        return f"<Study {self.path.name}: {len(self._classes)} classes>"

    def _repr_html_(self) -> str:
        return f"<p><b>{self.path.name}</b></p>{self.runs._repr_html_()}"


def open_study(path: Place, classes: Classes | None = None, agree_folders: Sequence[Place] = ()) -> Study:
    """The study in a file; with ``classes`` one is made where there is none. ``agree_folders``: folders that it may read models and
    images from, beside its own; a study made elsewhere may name any. InputError where it cannot be used."""
    place = Path(path)
    if not place.exists():
        if classes is None:
            raise InputError(
                "the study does not exist", where=place, hint="name a .mivrat file, or pass classes to make one"
            )
        with StudyLock(place):
            StudyFile.create(place, class_names(classes)).close()
    if agree_folders:
        allow_folders(*(Path(one) for one in agree_folders))
    with readable(place), StudyFile.open(place, again=True) as study:
        known = study.classes
    if classes is not None and class_names(classes) != known:
        raise InputError(
            f"was made for {len(known)} other classes, or in another order", where=place, hint="use a new study"
        )
    return Study(place, known)


# --- shared with the commands ---


@contextmanager
def readable(path: Path, busy: Callable[[], object] = lambda: None) -> Iterator[None]:
    """A study that is only read: held, and brought up to this version; or while a window has it open (``busy`` is called), as it is."""
    with ExitStack() as held:
        try:
            held.enter_context(StudyLock(path))
        except InputError:
            busy()
        else:
            StudyFile.open(path).close()
        yield


def may_read(path: Path, agreed: Sequence[Path]) -> None:
    """Raises NotAllowed where the study, which may be a stranger's, names folders that the user has not."""
    from mivrat.demo.study import DATA

    with StudyFile.open(path, again=True) as study:
        places = places_to_ask_about(path, declared_places(study), [DATA, *agreed, *allowed_folders()])
    if places:
        raise NotAllowed(path, places)


def names_of_runs(path: Path) -> list[str]:
    """What the runs of a study are called: model and image set; two models of one name are told apart by the beginning of the hash of
    what they are."""
    return [names for names, *_ in _runs_with_names(path)]


def _runs_with_names(path: Path) -> list[tuple[str, str, str, RunInfo]]:
    """Each run's name, what it is called in short, the reference to its model, and the run."""
    with StudyFile.open(path, again=True) as study:
        runs = list_runs(study)
        records = [load_run(study, one.id, with_answers=False) for one in runs]
    references = [reference_of(one) for one in records]
    plain = [f"{one.model} on {one.image_set}" for one in runs]
    return [
        (name if plain.count(name) == 1 else f"{reference} on {one.image_set}", name, reference, one)
        for name, reference, one in zip(plain, references, runs, strict=True)
    ]


def run_named(path: Path, wanted: str | None) -> tuple[RunInfo, list[str]]:
    """The run of this name (the latest without one), and the names of the others. InputError where it is none, or several."""
    runs = _runs_with_names(path)
    if not runs:
        raise InputError("holds no run to report on", where=path, hint="score images with a model first")
    names = [name for name, *_ in runs]
    if wanted is None:
        return runs[-1][3], names[:-1]
    found = [
        i
        for i, (name, plain, reference, one) in enumerate(runs)
        if wanted in (name, plain, reference, one.model, one.image_set)
    ]
    if not found:
        raise InputError(f"holds no run {wanted!r}; its runs: {', '.join(names)}", where=path, hint="name one of these")
    if len(found) > 1:
        several = ", ".join(names[i] for i in found)
        raise InputError(f"{wanted!r} is several runs: {several}", where="--run", hint="name one of these")
    return runs[found[0]][3], [name for i, name in enumerate(names) if i != found[0]]


class NextModel:
    """The model to be held to a study, its threshold where the study has one for it, and what was taken from the study and is to be said."""

    def __init__(self, model: Model, threshold: float | None, remarks: list[str]) -> None:
        self.model, self.threshold, self.remarks = model, threshold, remarks


def next_model(path: Path, recipe: RecipeLike, threads: int, asked: VerifyRequest) -> NextModel:
    """The next model, with the recipe given, or with that of the study's own model where it fits."""
    given = recipe_of(recipe)
    model = load_model(path, asked.classes, given, threads)
    known, remarks = recipe_known(asked.path, model.content), []
    if given is None and model.kind.can.scores:
        of = known or asked.reference
        try:
            model = load_model(path, asked.classes, of.recipe, threads)
            remarks.append(
                f"no recipe was given: that of {of.info.model} in the study is taken"
                + (", which was a guess" if of.recipe_is_guess else "")
            )
        except InputError as error:
            remarks.append(
                f"no recipe was given, and that of {of.info.model} does not fit ({error.what}): it is guessed"
            )
    same = known is not None and known.recipe == model.recipe
    threshold = known.threshold if known is not None and same else None
    if asked.reference.threshold is not None and threshold is None:
        remarks.append(
            f"the threshold {asked.reference.threshold:g} is that of {asked.reference.info.model} and is not applied to {model.name}"
        )
    return NextModel(model, threshold, remarks)


def with_study_units(asked: VerifyRequest) -> VerifyRequest:
    """The images with what belongs together, where they have the column that says so in the study."""
    column = asked.reference.image_set.unit_column
    if not column or asked.images.unit_column:
        return asked
    if not all(column in item.columns for item in asked.images.items):
        return replace(
            asked,
            remarks=(
                *asked.remarks,
                f"the images have no column {column!r}, by which those of the study are related: intervals treat each image as independent",
            ),
        )
    return replace(asked, images=replace(asked.images, unit_column=column))
