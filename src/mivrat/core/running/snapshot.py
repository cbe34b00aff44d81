"""A run as judged at one moment, with its figures; and the figures of a selection of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun, ImageCounts
from mivrat.core.answers.judging import Judging, units_in
from mivrat.core.figures.confusion import Mistakes, mistakes
from mivrat.core.figures.summary import Figures, sensible_ks
from mivrat.core.running.slow_figures import SlowFigures
from mivrat.core.study.records import RunRecord

# How many of the most frequent mistakes are listed.
MOST_PAIRS = 8


@dataclass(frozen=True, eq=False)
class Snapshot:
    """A run as judged at one moment; made in a worker, never changed afterwards."""

    record: RunRecord
    judged: EvaluatedRun
    figures: Figures
    counts: ImageCounts
    mistakes: Mistakes


def judged_as_asked(record: RunRecord, judging: Judging | None = None) -> EvaluatedRun:
    """A run as judged now, at the threshold it has, if any; ``judging`` is what has been judged already."""
    judged = (judging or Judging(record.answers, record.image_set.labels, units_in(record.image_set))).judged()
    if record.threshold is not None and judged.has_scores:
        return judged.at_threshold(record.threshold)
    return judged


def snapshot_with(record: RunRecord, judged: EvaluatedRun, figures: Figures) -> Snapshot:
    """A run as judged, with figures that have been worked out."""
    return Snapshot(record, judged, figures, judged.counts(), mistakes(figures.matrix, MOST_PAIRS))


def take_snapshot(record: RunRecord, judging: Judging | None = None) -> Snapshot:
    """Judge a run, unless ``judging`` has done so, and work out its figures (slow for large runs: call it in a worker)."""
    judged = judged_as_asked(record, judging)
    return snapshot_with(record, judged, judged.figures(sensible_ks(len(record.classes)), ranked=False))


@dataclass(frozen=True)
class Measured:
    """What the Measure step shows: figures of all images or of the selection (those that ``among`` marks); the slow ones once
    they are worked out."""

    figures: Figures
    mistakes: Mistakes
    deep: SlowFigures | None = None
    of_selection: bool = False
    among: NDArray[np.bool_] | None = None
