"""The strain test: photos distorted step by step, scored again, and what becomes of the figures."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from mivrat.api.figure import Figure, as_table, of_share
from mivrat.api.inputs import (
    Classes,
    Place,
    RecipeLike,
    class_names,
    image_set_of,
    model_of,
    study_at,
    where_worked,
)
from mivrat.api.work import Work
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.concluding.requirements import RequirementOutcome
from mivrat.core.concluding.strain_requirements import parse_strain_requirement
from mivrat.core.figures.metrics import metric
from mivrat.core.models.model import Model
from mivrat.core.pictures.distorting.kinds import BY_KEY, Distortion, sweep_from_text
from mivrat.core.pictures.distorting.names import USUAL
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.reporting.strain import in_sentences, write_strain
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.straining.curves import MARGIN, StrainFigures
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked
from mivrat.core.study.file import Study
from mivrat.core.study.kept_strains import keep_strains, load_strains
from mivrat.core.study.models import add_model

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


class StrainTest:
    """What became of the figures: ``frame`` level by level, ``breaks`` by kind, ``untouched`` the accuracy of the photos as they are."""

    def __init__(self, found: StrainFigures, sweep: Sweep, classes: list[str]) -> None:
        self.found, self.sweep, self._classes = found, sweep, classes

    @property
    def untouched(self) -> Figure:
        """The accuracy of the photos as they are."""
        return of_share(metric("top1"), self.found.untouched, "no labelled image was scored")

    @cached_property
    def frame(self) -> pl.DataFrame:
        """A row for each level of each kind: accuracy, its difference to untouched (strained less untouched), p corrected over all
        levels, the share of answers that changed, mean confidence."""
        rows = [
            {
                "kind": curve.spelled,
                "level": one.strain.level,
                "unit": BY_KEY[curve.kind].unit,
                "images": one.accuracy.total,
                "top1": one.accuracy.value,
                "low": one.accuracy.low,
                "high": one.accuracy.high,
                "difference": one.difference.value,
                "difference_low": one.difference.low,
                "difference_high": one.difference.high,
                "p": one.p_holm,
                "changed": one.changed.value,
                "confidence": one.confidence,
            }
            for curve in self.found.curves
            for one in curve.levels
        ]
        return pl.DataFrame(rows, infer_schema_length=None)

    @property
    def breaks(self) -> dict[str, list[float]]:
        """The levels at which each kind breaks accuracy: from there on it is lower beyond chance, and by more than the margin."""
        return {curve.spelled: curve.breaks for curve in self.found.curves}

    def require(self, text: str) -> RequirementOutcome:
        """A criterion on this test, such as ``at(blur, 1.5, top1) >= 0.8``, as ``strain --require`` takes it."""
        return parse_strain_requirement(text, self.sweep.plan.strains).against(self.found)

    def save(self, folder: Place, group: str = "") -> list[Path]:
        """Write ``strain.json`` and ``strain.csv``, as the command does; returns their paths."""
        return write_strain(Path(folder), self.found, self.sweep, self._classes, group)

    def __repr__(self) -> str:
        return f"<StrainTest: {', '.join(curve.spelled for curve in self.found.curves)}; untouched: {self.untouched}>"

    def _repr_html_(self) -> str:
        return as_table([self.untouched], "Strain test", in_sentences(self.found)[1:])


def strain(
    model: Place,
    images: Place | pl.DataFrame,
    classes: Classes,
    recipe: RecipeLike = None,
    *,
    kinds: Sequence[str] = USUAL,
    margin: float = MARGIN,
    study: Place | None = None,
    together: str | None = None,
    where: str | None = None,
    batch: int = 32,
    threads: int = 0,
    seed: int = 0,
    progress: Callable[[Progress], object] | None = None,
) -> StrainTest:
    """Distort the photos by ``kinds``, such as ``"blur"`` or ``"blur:0.5,1,2"``, score them again, and say where accuracy breaks: from
    which level on it is lower beyond chance and by more than the ``margin``. Kept in a ``study``, only what is new is asked for."""

    def events() -> Iterator[Progress | StrainTest]:
        names = class_names(classes)
        strains = checked([one for text in kinds for one in sweep_from_text(text)])
        kept = Path(study) if study is not None else None
        loaded = model_of(model, names, recipe, threads, kept)
        image_set = image_set_of(images, names, together)
        with ExitStack() as held:
            opened = study_at(kept, names, held, [loaded.path.parent, image_set.root]) if kept is not None else None
            there = where_worked(where, [loaded], held)
            for event in strained(loaded, image_set, strains, opened, there, batch, threads, seed):
                if isinstance(event, Progress):
                    yield event
                elif event.complete:
                    yield StrainTest(event.figures(margin), event, names)

    return Work(events()).finish(progress)


def strained(
    model: Model,
    image_set: ImageSet,
    strains: Sequence[Distortion],
    study: Study | None,
    where: Where | None,
    batch: int,
    threads: int,
    seed: int,
) -> Iterator[Progress | Sweep]:
    """Score the images as they are and distorted, yielding progress and at last the sweep; of one that was stopped it lacks answers,
    and there is none where the images as they are were not all scored. InputError where the model cannot score."""
    if not model.kind.can.scores:
        raise InputError(model.kind.lacks("A strain test needs"), where=model.path, hint="name the model itself")
    evaluation = Evaluation(model, image_set, study, where)
    yield from evaluation.run(batch, threads)
    if len(evaluation.answers.pending):
        return
    judged = evaluation.judging.judged()
    plan = StrainPlan(tuple(np.flatnonzero(judged.predicted >= 0).tolist()), tuple(strains), seed)
    contents = evaluation.answers.contents
    model_id = add_model(study, model) if study is not None else 0
    known = load_strains(study, model_id, set(contents.values())) if study is not None else None
    sweep = Sweep(
        judged,
        image_set,
        model,
        plan,
        contents,
        known,
        lambda rows: keep_strains(study, model_id, rows) if study is not None else None,
        where,
    )
    yield from sweep.run(threads)
    yield sweep
