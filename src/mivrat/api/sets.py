"""Prediction sets of a run: which classes to answer so that the label is among them as often as was asked for."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.api.figure import Figure, as_table, of_share
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.metrics import COVERAGE
from mivrat.core.reporting.sets_report import in_sentences, threshold_as_json
from mivrat.core.running.set_valued import PredictionSets, SetPlan, at_last, coverage_by, members, own_sets, sets_at
from mivrat.core.study.records import RunRecord

if TYPE_CHECKING:
    import polars as pl

    from mivrat.api.run import Run
else:
    pl = LazyModule("polars")


class Sets:
    """The sets of a run's images, and how often they hold the label: ``coverage``, ``mean_size``, ``threshold``, ``frame``.

    Where the threshold comes from the same images, each image's set is from a threshold that has not seen it.
    """

    def __init__(self, record: RunRecord, judged: EvaluatedRun, found: PredictionSets) -> None:
        self._record, self._judged, self._found = record, judged, found

    @property
    def coverage(self) -> Figure:
        """The share of labelled images whose label is in their set."""
        return of_share(COVERAGE, self._found.coverage, "no labelled image was scored")

    @property
    def mean_size(self) -> float | None:
        """How many classes a set holds, on average."""
        return self._found.mean_size

    @property
    def threshold(self) -> float | list[float | None] | None:
        """The threshold, or one for each class (None: this class is in every set)."""
        return threshold_as_json(self._found.threshold)

    @cached_property
    def sizes(self) -> NDArray[np.int64]:
        """How many classes each listed image's set holds (N; -1: no answer)."""
        return self._found.sizes

    @cached_property
    def frame(self) -> pl.DataFrame:
        """A row for each image with an answer: path, label, set (a list of names, at the threshold from all images), and whether the set
        holds the label (where the threshold is from the same images, at one that has not seen this image)."""
        at = np.flatnonzero(self._found.sizes >= 0)
        names, images = self._record.classes, self._record.image_set
        labels = self._judged.labels[at].tolist()
        return pl.DataFrame(
            {
                "path": [images.told_path(i) for i in at.tolist()],
                "label": [names[k] if k >= 0 else None for k in labels],
                "set": [[names[k] for k in one] for one in members(self._judged, self._found, at)],
                "holds_label": [
                    bool(held) if k >= 0 else None for held, k in zip(self._found.covers[at], labels, strict=True)
                ],
            },
            schema={"path": pl.String, "label": pl.String, "set": pl.List(pl.String), "holds_label": pl.Boolean},
        )

    def by(self, column: str) -> pl.DataFrame:
        """Coverage by the groups of a column, with p of so far below the level (corrected over the groups)."""
        found = coverage_by(self._record, self._judged, self._found, column)
        return pl.DataFrame(
            [
                {
                    column: one.name,
                    "images": one.coverage.total,
                    "coverage": one.coverage.value,
                    "low": one.coverage.low,
                    "high": one.coverage.high,
                    "p_below_level": one.p_holm,
                }
                for one in found
            ],
            infer_schema_length=None,
        )

    def on(self, run: Run) -> Sets:
        """The same threshold judged on another run of the same classes."""
        if list(run.class_names) != list(self._record.classes):
            raise InputError("the runs have different classes", where="on", hint="name a run of the same class list")
        found = at_last(sets_at(run.record, run.judged, self._found.plan, self._found.threshold))
        assert found is not None, "nothing here is asked to stop"
        return Sets(run.record, run.judged, found)

    def __repr__(self) -> str:
        return f"<Sets: {self.coverage}>"

    def _repr_html_(self) -> str:
        return as_table([self.coverage], "Prediction sets", in_sentences(self._found))


def sets_of(
    record: RunRecord, judged: EvaluatedRun, level: float, score: Literal["least", "adaptive"], by_class: bool
) -> Sets:
    """The prediction sets of a run, its threshold from its own labelled images, out of fold."""
    if not 0 < level < 1:
        raise InputError(f"{level:g} is not a share between 0 and 1", where="level", hint="such as 0.9")
    found = at_last(own_sets(record, judged, SetPlan(level, score, by_class)))
    assert found is not None, "nothing here is asked to stop"
    return Sets(record, judged, found)
