"""What may be claimed of a comparison and what may not: sentences made from its tests and intervals, and from nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from mivrat.core.base.text import count, images, in_a_row, minus
from mivrat.core.comparing.comparison import Comparison, better_classes, worse_classes
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.metrics import METRICS
from mivrat.core.figures.paired import ClassDifference, Paired
from mivrat.core.figures.two_sets import TwoSets, largest_mix_up, largest_pair

LEVEL, MARGIN = 0.05, 0.01
# Probabilities that lie no further apart than this come of rounding along another way.
NEARLY = 1e-3
# So many classes are named; of more their number is told.
MOST_NAMED = 4
# Figures of which less is better.

About = Literal["whole", "classes", "pairs", "confidence"]
MarginVerdict = Literal["met", "missed", "inconclusive"]


@dataclass(frozen=True)
class ComparisonClaim:
    """One sentence; ``holds`` is true of what may be claimed, false of what may not; ``about`` says what it is of."""

    text: str
    holds: bool = True
    about: About = "whole"


def points(share: float) -> str:
    """A difference of shares in percentage points, without its sign."""
    return f"{100 * abs(share):.1f}"


def _signed(share: float) -> str:
    text = f"{100 * share:.1f}"
    return "0.0" if text == "-0.0" else minus(text)


def _points_in_words(share: float) -> str:
    return f"{points(share)} point{'' if points(share) == '1.0' else 's'}"


def not_worse(found: Difference, margin: float) -> MarginVerdict:
    """Whether b is not worse than a by more than a margin: met where the interval's lower end is at or above it, missed where
    the upper end is below."""
    if found.low is None or found.high is None:
        return "inconclusive"
    return "met" if found.low >= -margin else "missed" if found.high < -margin else "inconclusive"


def claims(found: Comparison, margin: float = MARGIN) -> list[ComparisonClaim]:
    """What may be claimed of it and what may not, the whole first, then classes, then confidence."""
    return _of_sets(found, found.sets) if found.sets is not None else _of_pairs(found, found.paired, margin)


def _named(found: Comparison, some: Sequence[int]) -> str:
    names = [found.classes[k] for k in some[:MOST_NAMED]]
    return in_a_row(names) if len(some) <= MOST_NAMED else f"{len(some)} classes ({', '.join(names[:3])}, …)"


def _of_pairs(found: Comparison, figures: Paired | None, margin: float) -> list[ComparisonClaim]:
    assert figures is not None
    if not figures.total:
        return [ComparisonClaim("No labelled image has an answer of both: there is nothing to compare.", False)]
    a, b, top1 = found.names.a, found.names.b, figures.top1
    on = f"on the same {images(figures.total)}" if figures.total > 1 else "on one image"
    told = _same(found.apart, on)
    told += [_whole(a, b, on, top1, figures.four.changed, figures.total, margin)]
    told += _classes(found, top1)
    told += _pairs(found, figures)
    told += _confidence(figures.means, b)
    told += _cannot_rule_out(found, figures.classes, margin)
    return told


def _same(apart: float | None, on: str) -> list[ComparisonClaim]:
    """That both may be one and the same model, where nothing here speaks against it."""
    if apart is None or apart > NEARLY:
        return []
    how = "exactly the same probabilities" if apart == 0 else f"probabilities that differ by {apart:.1g} at most"
    return [
        ComparisonClaim(f"Both give the same predictions {on}, and {how}. On these images they are the same model.")
    ]


def _pairs(found: Comparison, figures: Paired) -> list[ComparisonClaim]:
    """The two classes whose being confused with each other makes up most of the change in wrong answers."""
    change = figures.four.broken - figures.four.fixed
    parts = {(one.label, one.predicted): one.b - one.a for one in figures.pairs}
    largest = largest_pair({pair: float(n) for pair, n in parts.items()}, -1 if change < 0 else 1)
    if not change or largest is None:
        return []
    first, second, part = largest
    way = "fewer" if change < 0 else "more"
    mixed_up = (
        f"{found.classes[first]} and {found.classes[second]} confused with each other: {count(abs(round(part)))} {way}"
    )
    return [ComparisonClaim(f"{count(abs(change))} {way} wrong answers in all; {mixed_up}.", about="pairs")]


def _beyond(top1: Difference) -> int:
    """1 where b is better beyond chance, -1 where it is worse, 0 where that cannot be told."""
    if top1.p is None or top1.p >= LEVEL or top1.value is None or top1.low is None:
        return 0
    return (top1.value > 0) - (top1.value < 0)


def _interval(one: Difference) -> str:
    return "no interval" if one.low is None or one.high is None else f"{_signed(one.low)} to {_signed(one.high)}"


def _whole(a: str, b: str, on: str, top1: Difference, changed: int, total: int, margin: float) -> ComparisonClaim:
    assert top1.value is not None
    if top1.low is None or top1.high is None:
        return ComparisonClaim(
            f"Nothing can be claimed of {b} against {a}: these images are of too few units for any interval.", False
        )
    which = _beyond(top1)
    if which:
        low, high = sorted((abs(top1.low), abs(top1.high)))
        ends = f"{points(low)} to {points(high)}" if top1.low * top1.high > 0 else f"interval {_interval(top1)}"
        return ComparisonClaim(
            f"{b} is {'better' if which > 0 else 'worse'} than {a} by {_points_in_words(top1.value)} ({ends}) {on}."
        )
    if max(abs(top1.low), abs(top1.high)) <= margin:
        return ComparisonClaim(f"{b} and {a} are alike to within {_points_in_words(margin)} {on}: {_interval(top1)}.")
    room = []
    if top1.low < 0:
        room.append(f"up to {_points_in_words(top1.low)} worse")
    if top1.high > 0:
        room.append(f"up to {_points_in_words(top1.high)} better")
    few = (
        f"{count(changed)} of {images(total)} are answered differently"
        if changed
        else "no image is answered differently"
    )
    return ComparisonClaim(f"No significant difference {on}: {b} may be {' or '.join(room)} than {a} ({few}).", False)


def _classes(found: Comparison, top1: Difference) -> list[ComparisonClaim]:
    better, worse = better_classes(found), worse_classes(found)
    if not better and not worse:
        return [ComparisonClaim("No class is significantly better or worse.", False, "classes")]

    def are(some: Sequence[int], how: str) -> str:
        return f"{_named(found, some)} {'is' if len(some) == 1 else 'are'} significantly {how}"

    if better and worse:
        first, second = (are(better, "better"), are(worse, "worse"))
        return [ComparisonClaim(f"By recall {first}, but {second}.", about="classes")]
    if worse:
        return [
            ComparisonClaim(
                f"{'But by' if _beyond(top1) > 0 else 'By'} recall {are(worse, 'worse')}; no class is significantly better.",
                about="classes",
            )
        ]
    return [ComparisonClaim(f"By recall {are(better, 'better')}; no class is significantly worse.", about="classes")]


def _confidence(means: dict[str, Difference], b: str) -> list[ComparisonClaim]:
    ways: dict[str, list[str]] = {"better": [], "worse": []}
    for one in METRICS:
        if one.lower_is_better and one.key in means and (sign := means[one.key].beyond_chance):
            ways["better" if sign < 0 else "worse"].append(one.called)
    parts = [
        f"{in_a_row(some)} {'is' if len(some) == 1 else 'are'} significantly {how}"
        for how, some in ways.items()
        if some
    ]
    return [ComparisonClaim(f"Under {b} {', but '.join(parts)}.", about="confidence")] if parts else []


def _cannot_rule_out(found: Comparison, lines: Sequence[ClassDifference], margin: float) -> list[ComparisonClaim]:
    """The class of which the largest loss cannot be ruled out, of those that are not worse already."""
    worse = set(worse_classes(found))
    open_ones = [(one.recall.low, k) for k, one in enumerate(lines) if one.recall.low is not None and k not in worse]
    if not open_ones:
        return []
    low, k = min(open_ones)
    if low >= -margin:
        where = "every other class" if worse else "every class"
        ruled_out = f"A loss of more than {_points_in_words(margin)} of recall can be ruled out in {where}."
        return [ComparisonClaim(ruled_out, about="classes")]
    told = f"With {images(lines[k].support)} of {found.classes[k]} a loss of up to {_points_in_words(low)} there cannot be ruled out."
    return [ComparisonClaim(told, False, "classes")]


def _of_sets(found: Comparison, figures: TwoSets) -> list[ComparisonClaim]:
    if not figures.total_a or not figures.total_b:
        return [
            ComparisonClaim("One of the sets has no labelled image with an answer: only estimates can be had.", False)
        ]
    a, b, top1 = found.names.a, found.names.b, figures.top1
    on = f"(N = {count(figures.total_a)} and {count(figures.total_b)})"
    assert top1.value is not None
    if top1.low is None or top1.high is None:
        return [
            ComparisonClaim(
                f"Nothing can be claimed of {b} against {a}: one of them is of too few units for any interval.", False
            )
        ]
    which = _beyond(top1)
    if which:
        low, high = sorted((abs(top1.low), abs(top1.high)))
        ends = f"{points(low)} to {points(high)}" if top1.low * top1.high > 0 else f"interval {_interval(top1)}"
        how = "higher" if which > 0 else "lower"
        told = [
            ComparisonClaim(f"On {b} accuracy is {how} by {_points_in_words(top1.value)} ({ends}) than on {a} {on}.")
        ]
        told.append(_of_drop(found, figures))
    else:
        told = [
            ComparisonClaim(f"No significant difference between {a} and {b}: {_interval(top1)} points {on}.", False)
        ]
    told += _classes(found, top1)
    if found.shared.in_both:
        told.append(
            ComparisonClaim(
                f"{images(found.shared.in_both)} are in both sets. The intervals assume independent images, so they are too narrow.",
                False,
            )
        )
    few = [k for k, one in enumerate(figures.classes) if bool(one.support_a) != bool(one.support_b)]
    if few:
        told.append(
            ComparisonClaim(f"Nothing can be said of {_named(found, few)}: only one of the sets has any.", False)
        )
    return told


def _of_drop(found: Comparison, figures: TwoSets) -> ComparisonClaim:
    drop = figures.drop
    text = f"Of {_signed(drop.total)} points, {_signed(drop.class_mix)} are another class mix and {_signed(drop.within)} the same classes recognised {'better' if drop.within > 0 else 'worse'}"
    largest = largest_mix_up(drop)
    if largest is not None:
        first, second, part = largest
        text += f"; {_signed(part)} of these are {found.classes[first]} and {found.classes[second]} confused with each other"
        if (ends := (drop.intervals or {}).get("largest_pair")) is not None:
            text += f" ({_signed(ends[0])} to {_signed(ends[1])})"
    return ComparisonClaim(f"{text}.", about="pairs")


def standing_of(found: Comparison, margin: float) -> MarginVerdict:
    """Whether b is not worse by more than the margin, over all."""
    return not_worse(found.either.top1, margin)
