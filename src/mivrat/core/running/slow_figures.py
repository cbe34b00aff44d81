"""The figures that take longer than a glance: each class against the rest, calibration against chance, temperature,
selective prediction, and intervals of figures that are no shares."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import current_stop
from mivrat.core.figures.calibration import Calibration, ChanceEce, adaptive_calibration, ece_if_calibrated
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.ranked import OneVersusRest
from mivrat.core.figures.selective import Selective, selective
from mivrat.core.figures.temperature import Temperature, scale
from mivrat.core.figures.uncertainty import Intervals, intervals
from mivrat.core.figures.units import calibration_over_units


@dataclass(frozen=True)
class SlowFigures:
    """SlowFigures figures over ``total`` images; None where what they take is not known."""

    total: int
    ranked: OneVersusRest | None
    adaptive: Calibration
    chance: ChanceEce | None
    temperature: Temperature | None
    selective: Selective
    intervals: Intervals | None


def in_fixed_order(
    judged: EvaluatedRun, use: NDArray[np.integer], other: Outcomes | None = None
) -> NDArray[np.integer]:
    """Some images in an order that their answers tell, whatever order they are listed in: what is drawn at random below then
    does not depend on how files are named or listed. ``other`` is what another run says of the same images."""
    keys = (*(_keys(other) if other is not None else ()), *_keys(judged.outcomes(use)))
    order = np.lexsort(keys)
    if not judged.has_scores or len(use) < 2:
        return use[order]
    # Of images alike in all that is told of them, the whole rows of scores decide.
    alike = np.logical_and.reduce([one[order][1:] == one[order][:-1] for one in keys])
    twins = np.flatnonzero(np.append(alike, False) | np.append(False, alike))
    weights, mixed = np.cos(np.arange(1, judged.rows.shape[1] + 1)), np.zeros(len(use))
    step = max(1, (1 << 18) // len(weights))
    for first in range(0, len(twins), step):
        some = twins[first : first + step]
        mixed[some] = judged.rows[use[order[some]]] @ weights
    group = np.cumsum(np.append(True, ~alike))
    return use[order[np.lexsort((mixed, group))]]


def _keys(found: Outcomes) -> tuple[NDArray[Any], ...]:
    return found.squares, found.own, found.confidence, found.rank, found.predicted, found.labels


def intervals_over(
    judged: EvaluatedRun,
    use: NDArray[np.integer],
    found: Outcomes,
    seed: int = 0,
) -> Intervals | None:
    """The intervals of figures that are no shares over the images at ``use``, in a fixed order, whose outcomes are ``found``; None where
    it was stopped."""
    units = judged.units.of(use) if judged.units is not None else None
    column = judged.units.column if judged.units is not None else ""
    return intervals(found, judged.classes, units, column, seed=seed)


def slow_figures(
    judged: EvaluatedRun,
    among: NDArray[np.bool_] | None = None,
    seed: int = 0,
    ranked: OneVersusRest | None = None,
) -> SlowFigures | None:
    """All slow figures over the evaluated images that ``among`` marks (all of them without); None where it was stopped.

    Where images belong together intervals, and the search for a threshold, are over whole units.
    """
    use = in_fixed_order(judged, np.flatnonzero(judged.evaluated_among(among)))
    found = judged.outcomes(use)
    right = found.predicted == found.labels
    sure = ~np.isnan(found.confidence)
    confidence, sure_right = found.confidence[sure], right[sure]
    if ranked is None and judged.has_scores and len(use):
        ranked = judged.one_versus_rest(np.sort(use))  # row after row, as they lie in memory
    if current_stop().stopped:
        return None
    temperature = None
    if judged.has_scores and len(use):
        temperature = scale(
            lambda some: judged.logits(use[some]), found.labels, right, found.own, confidence, judged.classes, seed
        )
    if current_stop().stopped:
        return None
    units = judged.units.of(use) if judged.units is not None else None
    intervals = intervals_over(judged, use, found, seed)
    if current_stop().stopped:
        return None
    adaptive = adaptive_calibration(confidence, sure_right)
    if units is not None:
        adaptive = calibration_over_units(adaptive, confidence, sure_right, units[sure], adaptive=True)
    return SlowFigures(
        len(use),
        ranked,
        adaptive,
        ece_if_calibrated(confidence, seed=seed),
        temperature,
        selective(confidence, sure_right, units[sure] if units is not None else None),
        intervals,
    )
