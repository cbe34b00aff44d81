"""Another run's answers laid on the images of the run shown, so that both can be read image by image."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import BOTH_WRONG, OUTCOMES, outcome_codes

ONE_ONLY, SAME_WRONG = "answered by one only", "same wrong answer"
# What an image can be while another run is held against the one shown.
STATES = (*OUTCOMES[1:], SAME_WRONG, ONE_ONLY)


@dataclass(frozen=True)
class Other:
    """The other run's answers for the N images listed in the run shown; ``at`` is where an image stands there, -1 where it does not.

    ``predicted`` is -1, ``confidence`` and ``own`` (p of this run's label) NaN and ``rank`` 0 without an answer. A prediction
    that this run's class list does not have stands behind its last class.
    """

    judged: EvaluatedRun
    at: NDArray[np.int64]
    answered: NDArray[np.bool_]
    predicted: NDArray[np.int64]
    confidence: NDArray[np.float64]
    own: NDArray[np.float64]
    rank: NDArray[np.int64]
    squares: NDArray[np.float64]
    tied: NDArray[np.bool_]

    @cached_property
    def answered_here(self) -> NDArray[np.bool_]:
        """The images that the run shown has an answer for."""
        return self.judged.state == SCORED

    @cached_property
    def both(self) -> NDArray[np.bool_]:
        """The labelled images that both have answered."""
        return self.judged.evaluated & self.answered

    @cached_property
    def codes(self) -> NDArray[np.int8]:
        """The outcome of each image under both, 0 where one has no answer or there is no label."""
        right = self.predicted == self.judged.labels
        return np.where(self.both, outcome_codes(self.judged.right, right), 0).astype(np.int8)

    def mask(self, state: str) -> NDArray[np.bool_]:
        """The images that are in one of STATES."""
        if state == ONE_ONLY:
            return self.answered_here != self.answered
        if state == SAME_WRONG:
            return (self.codes == BOTH_WRONG) & (self.predicted == self.judged.predicted)
        return self.codes == OUTCOMES.index(state)

    @cached_property
    def gain(self) -> NDArray[np.float64]:
        """How much more probable the other holds the label (without a label: how much surer it is); NaN where that is not known."""
        labelled = self.judged.labels >= 0
        known = labelled & ~np.isnan(self.judged.own) & ~np.isnan(self.own)
        return np.where(known, self.own - self.judged.own, self.confidence - self.judged.confidence)

    def outcomes(self, use: NDArray[np.integer] | NDArray[np.bool_]) -> Outcomes:
        """The other's outcomes of some images that both have answered."""
        return Outcomes(
            self.judged.labels[use],
            self.predicted[use],
            self.confidence[use],
            self.rank[use],
            self.own[use],
            self.squares[use],
            self.tied[use],
        )


def align(
    judged: EvaluatedRun, other: EvaluatedRun, at: NDArray[np.int64], same_class: NDArray[np.int64] | None = None
) -> Other:
    """``other``'s answers by where its images stand (``at``, -1: not there) for those of ``judged``.

    ``same_class`` gives for each class of the other's list its place in this run's, or behind it. Ranks and probabilities of the
    label are those by the label here, worked out anew where both runs label an image otherwise.
    """
    there = at >= 0
    answered = np.zeros(len(at), bool)
    answered[there] = other.state[at[there]] == SCORED
    places = np.arange(other.classes) if same_class is None else same_class
    here, use = np.flatnonzero(answered), at[answered]
    back = np.full(int(places.max(initial=-1)) + 2, -1, np.int64)
    back[places] = np.arange(len(places))
    labels = judged.labels[here]
    wanted = np.where((labels >= 0) & (labels < len(back)), back[np.minimum(labels, len(back) - 1)], -1)
    by_label = other.labels[use]
    if (wanted != by_label).any():
        changed = {int(i): int(k) for i, k in zip(use, wanted, strict=True) if other.labels[i] != k and k >= 0}
        other = other.relabelled(changed)
    known = wanted >= 0
    size = len(at)
    found = Other(
        judged,
        at,
        answered,
        np.full(size, -1, np.int64),
        np.full(size, np.nan),
        np.full(size, np.nan),
        np.zeros(size, np.int64),
        np.full(size, np.nan),
        np.zeros(size, bool),
    )
    found.predicted[here] = places[other.predicted[use]]
    found.confidence[here], found.squares[here], found.tied[here] = (
        other.confidence[use],
        other.squares[use],
        other.tied[use],
    )
    found.own[here[known]], found.rank[here[known]] = other.own[use[known]], other.rank[use[known]]
    return found
