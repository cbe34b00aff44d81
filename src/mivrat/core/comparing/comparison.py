"""Everything that can be said of one run held against another: on the same images, or on two sets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import Other
from mivrat.core.figures import paired as pairs
from mivrat.core.figures import two_sets as sets
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.paired import ClassDifference, Paired
from mivrat.core.figures.summary import sensible_ks
from mivrat.core.figures.two_sets import SetClass, TwoSets
from mivrat.core.running.slow_figures import in_fixed_order

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Names:
    """What a is and what b is, in words."""

    a: str
    b: str


@dataclass(frozen=True)
class OverlapCounts:
    """How many labelled images both have answered, how many only one of them, and how many are left out because only one of
    the two class lists has their label; of two sets how many pictures stand ``in_both``."""

    both: int
    only_a: int
    only_b: int
    other_class: int = 0
    in_both: int = 0


@dataclass(frozen=True)
class Comparison:
    """Run b held against run a; every difference is b - a. Exactly one of ``paired`` (the same images) and ``sets`` is there.

    ``known`` are the classes that both lists have, None where the lists are the same. ``unit_column`` tells what belongs together.
    ``apart``, of the same images: where both predict the same for each, how far the probabilities of the predicted and the
    labelled class lie apart at most; None otherwise.
    """

    names: Names
    classes: list[str]
    shared: OverlapCounts
    paired: Paired | None = None
    sets: TwoSets | None = None
    known: int | None = None
    unit_column: str = ""
    apart: float | None = None

    @property
    def either(self) -> Paired | TwoSets:
        """The figures, whichever kind there is."""
        found = self.paired or self.sets
        assert found is not None
        return found

    @property
    def lines(self) -> Sequence[ClassDifference | SetClass]:
        """The differences by class."""
        return self.either.classes

    @property
    def total(self) -> int:
        """The images that the figures are of; of two sets those of both together."""
        return self.paired.total if self.paired is not None else self.sets.total_a + self.sets.total_b  # type: ignore[union-attr]


@dataclass(frozen=True)
class OnSameImages:
    """Two runs on the same images, laid on each other; ``only_b`` of b's labelled, answered images are not among a's.

    ``both_know`` marks the classes that stand in both lists; images labelled otherwise are left out. None: the lists are the same.
    """

    names: Names
    classes: list[str]
    other: Other
    only_b: int = 0
    both_know: Mask | None = None

    def _parts(
        self, among: Mask | None, to_draw: bool = False
    ) -> tuple[NDArray[np.integer], Outcomes, Outcomes, NDArray[np.int64] | None]:
        judged, other = self.other.judged, self.other
        use = other.both if among is None else other.both & among
        if self.both_know is not None:
            use = use & self.both_know[judged.labels]
        at: NDArray[np.integer] = np.flatnonzero(use)
        if to_draw:  # what is drawn at random must not depend on how images are listed
            at = in_fixed_order(judged, at, other.outcomes(at))
        unit = judged.units.of(at) if judged.units is not None else None
        return at, judged.outcomes(at), other.outcomes(at), unit

    def compare(self, among: Mask | None = None) -> Comparison:
        """All figures at a glance, of all images or those that a mask over a's keeps."""
        judged, other = self.other.judged, self.other
        mask = np.ones(len(judged.labels), bool) if among is None else among
        at, a, b, unit = self._parts(among)
        ks = [k for k in sensible_ks(len(self.classes)) if k == 1 or (judged.has_scores and a.complete and b.complete)]
        found = pairs.paired(a, b, len(self.classes), ks, unit)
        labelled = mask & (judged.labels >= 0)
        shared = OverlapCounts(
            len(at),
            int((labelled & other.answered_here & ~other.answered).sum()),
            int((labelled & other.answered & ~other.answered_here).sum()) + (self.only_b if among is None else 0),
            int((other.both & mask).sum()) - len(at),
        )
        column = judged.units.column if judged.units is not None else ""
        known = None if self.both_know is None else int(self.both_know.sum())
        return Comparison(
            self.names, self.classes, shared, paired=found, known=known, unit_column=column, apart=_apart(a, b)
        )

    def of_b(self, among: Mask | None = None) -> tuple[Outcomes, NDArray[np.int64] | None]:
        """What b says of the images compared, and the units they are of."""
        _, _, b, unit = self._parts(among)
        return b, unit

    def deepen(self, found: Comparison, among: Mask | None = None, seed: int = 0) -> Comparison | None:
        """The same with the intervals that take drawing again; None where it was stopped."""
        assert found.paired is not None
        _, a, b, unit = self._parts(among, to_draw=True)
        deep = pairs.with_intervals(found.paired, a, b, len(self.classes), unit, seed)
        return None if deep is None else replace(found, paired=deep)


@dataclass(frozen=True)
class OnTwoSets:
    """Two runs on different images, each judged; their labels are by the same classes. ``in_both`` pictures stand in both sets."""

    names: Names
    classes: list[str]
    a: EvaluatedRun
    b: EvaluatedRun
    in_both: int = 0

    def _parts(
        self, among: Mask | None, among_b: Mask | None, to_draw: bool = False
    ) -> tuple[Outcomes, Outcomes, NDArray[np.int64] | None, NDArray[np.int64] | None]:
        told: list[Outcomes] = []
        units: list[NDArray[np.int64] | None] = []
        for judged, mask in ((self.a, among), (self.b, among_b)):
            at: NDArray[np.integer] = np.flatnonzero(judged.evaluated_among(mask))
            if to_draw:
                at = in_fixed_order(judged, at)
            told.append(judged.outcomes(at))
            units.append(judged.units.of(at) if judged.units is not None else None)
        return told[0], told[1], units[0], units[1]

    def compare(self, among: Mask | None = None, among_b: Mask | None = None) -> Comparison:
        """All figures at a glance."""
        a, b, unit_a, unit_b = self._parts(among, among_b)
        ks = sensible_ks(len(self.classes)) if self.a.has_scores and self.b.has_scores else [1]
        found = sets.two_sets(a, b, len(self.classes), ks, unit_a, unit_b)
        columns = [one.units.column for one in (self.a, self.b) if one.units is not None]
        shared = OverlapCounts(0, len(a.labels), len(b.labels), in_both=self.in_both)
        return Comparison(
            self.names, self.classes, shared, sets=found, unit_column=" and ".join(dict.fromkeys(columns))
        )

    def of_b(self, among_b: Mask | None = None) -> tuple[Outcomes, NDArray[np.int64] | None]:
        """What b says of its images, and the units they are of."""
        _, b, _, unit = self._parts(None, among_b)
        return b, unit

    def deepen(
        self,
        found: Comparison,
        among: Mask | None = None,
        among_b: Mask | None = None,
        seed: int = 0,
    ) -> Comparison | None:
        """The same with the intervals that take drawing again; None where it was stopped."""
        assert found.sets is not None
        a, b, unit_a, unit_b = self._parts(among, among_b, to_draw=True)
        deep = sets.with_intervals(found.sets, a, b, len(self.classes), unit_a, unit_b, seed)
        return None if deep is None else replace(found, sets=deep)


def _apart(a: Outcomes, b: Outcomes) -> float | None:
    if not len(a.labels) or (a.predicted != b.predicted).any():
        return None
    both = np.abs(np.stack([a.confidence - b.confidence, a.own - b.own]))
    known = both[~np.isnan(both)]
    return float(known.max()) if len(known) else None


def worse_classes(found: Comparison, level: float = 0.05) -> list[int]:
    """The classes whose recall is lower under b beyond chance, the surest first."""
    return _beyond(found, -1, level)


def better_classes(found: Comparison, level: float = 0.05) -> list[int]:
    """The classes whose recall is higher under b beyond chance, the surest first."""
    return _beyond(found, 1, level)


def _beyond(found: Comparison, sign: int, level: float) -> list[int]:
    lines = found.lines
    some = [k for k, one in enumerate(lines) if one.p_holm < level and (one.recall.value or 0.0) * sign > 0]
    return sorted(some, key=lambda k: (lines[k].p_holm, k))
