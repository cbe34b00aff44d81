"""The orders in which images are looked at, and the bands they are put into."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import ONE_ONLY, Other
from mivrat.core.figures.groups import MOST_GROUPS, group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.property_effects import quarter_ranges
from mivrat.core.pictures.classes import natural_key
from mivrat.core.pictures.image_sets import ImageItem, column_of, paths_of
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ranges import range_text
from mivrat.core.study.reviews import Reviews

Order = str
SUREST_MISTAKE, NARROWEST, UNLIKE, AS_LISTED = (
    "confident mistakes",
    "narrowest margin",
    "most unlike its class",
    "as listed",
)
ORDERS: tuple[Order, ...] = (
    SUREST_MISTAKE,
    "least confident first",
    NARROWEST,
    "worst rank of the label",
    "likeliest wrong label",
    UNLIKE,
    "name",
    AS_LISTED,
)
# Orders while another run is held against the one shown: by how much more, or less, probable that holds the label.
GAINS, LOSES = "label gains most", "label loses most"
ORDERS_OF_BOTH: tuple[Order, ...] = (GAINS, LOSES)
# Orders by a column of the image table are named so.
BY_COLUMN = "column: "
# Orders and bands by a property of the photos are named so; the other way round, with this behind.
BY_PROPERTY, HIGHEST_FIRST = "photo: ", ", highest first"

Keys = NDArray[np.float64]


def _likeliest_wrong(judged: EvaluatedRun) -> Keys:
    """Place among the suspected labels; behind them the other labelled images by falling loss of the label."""
    found = np.where(judged.evaluated, 2.0 + np.nan_to_num(judged.own), np.nan)
    suspected = judged.suspected_labels()
    found[suspected.positions] = suspected.margins
    return found


_KEYS: dict[Order, Callable[[EvaluatedRun], Keys]] = {
    SUREST_MISTAKE: lambda judged: np.where(judged.wrong, 0.0, 2.0) - np.nan_to_num(judged.confidence, nan=-9.0),
    "least confident first": lambda judged: judged.confidence,
    NARROWEST: lambda judged: judged.margins,
    "worst rank of the label": lambda judged: np.where(judged.rank > 0, -judged.rank.astype(float), np.nan),
    "likeliest wrong label": _likeliest_wrong,
}


def order_keys(
    order: Order,
    judged: EvaluatedRun,
    items: Sequence[ImageItem],
    likeness: Callable[[], Keys] | None = None,
    other: Other | None = None,
    measures: Measures | None = None,
) -> Keys:
    """For each listed image the number that an order goes by, the lowest first; NaN where there is none: those come last.

    Some orders take seconds for large runs. ``likeness`` gives each image's likeness to its class, from features; ``other`` is the
    run held against this one.
    """
    if order in ORDERS_OF_BOTH:
        gain = other.gain if other is not None else np.full(len(items), np.nan)
        return -gain if order == GAINS else gain
    if order in _KEYS:
        return _KEYS[order](judged)
    if order == UNLIKE:
        return likeness() if likeness is not None else np.full(len(items), np.nan)
    if order == AS_LISTED:
        return np.arange(len(items), dtype=float)
    if order.startswith(BY_PROPERTY):
        values = _measured(order.removeprefix(BY_PROPERTY).removesuffix(HIGHEST_FIRST), len(items), measures)
        return -values if order.endswith(HIGHEST_FIRST) else values
    column = order.removeprefix(BY_COLUMN)
    texts = paths_of(items) if order == "name" else column_of(items, column)
    found = np.empty(len(items))
    found[sorted(range(len(items)), key=lambda i: (not texts[i], natural_key(texts[i])))] = np.arange(len(items))
    if order != "name":  # equal values are equal keys, so that they stay as listed
        first: dict[str, float] = {}
        for i in np.argsort(found, kind="stable").tolist():
            found[i] = first.setdefault(texts[i], found[i])
    return found


def _measured(name: str, listed: int, measures: Measures | None) -> Keys:
    """A property of all photos; NaN where nobody has measured it."""
    if measures is None or not measures.has(name) or len(measures.of(name)) != listed:
        return np.full(listed, np.nan)
    return measures.of(name)


@dataclass(frozen=True)
class Band:
    """A stretch of the images shown that belong together, from ``start`` up to ``stop``, and how many of them are right."""

    name: str
    start: int
    stop: int
    accuracy: Proportion


NO_BANDS = "not grouped"
BY_CAUSE, BY_ROLE = "cause", "called and labelled"
BANDS = (NO_BANDS, "prediction", "label", BY_CAUSE, "family")
BY_BOTH = "outcome"
# Orders and bands that tell nothing of what models answer, beside those by column and by property.
WITHOUT_ANSWERS = ("name", AS_LISTED, NO_BANDS, "label", BY_CAUSE, "family")
_QUICK_ORDERS = {SUREST_MISTAKE, "least confident first", "worst rank of the label", AS_LISTED, *ORDERS_OF_BOTH}
# More images than this are put in order in the background.
MOST_AT_ONCE = 100_000
_QUICK_BANDS = {NO_BANDS, "prediction", "label", "family", BY_ROLE, BY_BOTH}
# How the bands of both stand: what changed first.
_OF_BOTH = ("broken", "fixed", "both wrong", "both right", ONE_ONLY)


def tells_answers(by: str) -> bool:
    """Whether an order, or bands, tell what models answer to the images."""
    return by not in WITHOUT_ANSWERS and not by.startswith((BY_COLUMN, BY_PROPERTY))


def columns_to_group_by(items: Sequence[ImageItem]) -> list[str]:
    """The columns whose values, or months, are few enough to make groups; judged by the first 5,000 images."""
    names = list(items[0].columns) if items else []
    return [name for name in names if 1 < len(set(group_names(column_of(items, name, 5000)))) <= MOST_GROUPS]


def band_names(
    by: str,
    judged: EvaluatedRun,
    items: Sequence[ImageItem],
    classes: Sequence[str],
    families: dict[int, str],
    reviews: Reviews,
    about: int | None = None,
    other: Other | None = None,
    measures: Measures | None = None,
) -> tuple[list[str], NDArray[np.int64]]:
    """The bands' names in the order they stand in, and the band of each listed image.

    ``about`` is the class that the bands of what is called and what is labelled so are about, ``other`` the run held against this.
    """
    if by == BY_BOTH:
        if other is None:
            return ["nothing held"], np.zeros(len(items), np.int64)
        return [*_OF_BOTH, "no answer or no label"], np.select(
            [other.mask(state) for state in _OF_BOTH], [*range(5)], 5
        )
    if by in ("prediction", "label", "family"):
        of = judged.predicted if by == "prediction" else judged.labels
        last = {"prediction": "no answer", "label": "no label", "family": "no label"}[by]
        if by != "family":
            return [*classes, last], np.where(of >= 0, of, len(classes))
        names = [families.get(k, name) for k, name in enumerate(classes)]
        listed = list(dict.fromkeys(names))
        place = np.array([listed.index(name) for name in names] + [len(listed)])
        return [*listed, last], place[of]
    if by == BY_ROLE and about is not None:
        called, labelled, name = judged.predicted == about, judged.labels == about, classes[about]
        known = [
            f"called {name}, and labelled so",
            f"called {name}, labelled otherwise",
            f"labelled {name}, called otherwise",
        ]
        if not (judged.labels >= 0).all():
            known[1] = f"called {name}, labelled otherwise or not at all"
        return [*known, "neither"], np.select([called & labelled, called, labelled], [0, 1, 2], 3)
    if by.startswith(BY_PROPERTY):
        name = by.removeprefix(BY_PROPERTY)
        values = _measured(name, len(items), measures)
        ranges = quarter_ranges(values)
        ends = [high for _, high in ranges]
        of = np.where(np.isfinite(values), np.searchsorted(ends, values), len(ranges))
        return [*(f"{name} {range_text(name, *one)}" for one in ranges), "not measured"], of.astype(np.int64)
    if by == BY_CAUSE:
        texts = [
            " + ".join(reviews.names(i)) or ("reviewed, no cause" if reviews[i].reviewed else "not reviewed")
            for i in range(len(items))
        ]
    else:
        texts = group_names(column_of(items, by.removeprefix(BY_COLUMN)))
    listed = sorted(
        set(texts), key=lambda text: (text in ("reviewed, no cause", "not reviewed", "(none)"), natural_key(text))
    )
    place_of = {name: i for i, name in enumerate(listed)}
    return listed, np.array([place_of[text] for text in texts], np.int64)


@dataclass(frozen=True)
class Arrangement:
    """How all listed images stand: ``positions`` in their order, and the band ``of`` each, with the bands' names; without
    bands ``of`` is None. Any selection of images is arranged by it."""

    order: Order
    by: str
    about: int | None
    positions: NDArray[np.int64]
    names: Sequence[str] = ()
    of: NDArray[np.int64] | None = None

    def shown(self, mask: NDArray[np.bool_], judged: EvaluatedRun) -> tuple[NDArray[np.int64], list[Band]]:
        """The images that a mask keeps, as they stand, and the bands that hold any of them."""
        return self.banded(self.positions[mask[self.positions]], judged)

    def banded(self, shown: NDArray[np.int64], judged: EvaluatedRun) -> tuple[NDArray[np.int64], list[Band]]:
        """Some images that stand in order already, band by band."""
        if self.of is None or not len(shown):
            return shown, []
        by_band = shown[np.argsort(self.of[shown], kind="stable")]
        which = self.of[by_band]
        starts = np.flatnonzero(np.diff(which, prepend=-1))
        stops = np.append(starts[1:], len(by_band))
        found = []
        for start, stop in zip(starts.tolist(), stops.tolist(), strict=True):
            inside = by_band[start:stop]
            accuracy = judged.accuracy(inside)
            found.append(Band(self.names[int(which[start])], start, stop, accuracy))
        return by_band, found


@dataclass(frozen=True)
class ToArrange:
    """A run's images as they can be put in order and into bands."""

    judged: EvaluatedRun
    items: Sequence[ImageItem]
    classes: Sequence[str]
    families: dict[int, str]
    reviews: Reviews
    likeness: Callable[[], Keys] | None = None
    other: Other | None = None
    measures: Measures | None = None

    def is_quick(self, order: Order, by: str) -> bool:
        """Whether arranging them so takes a few milliseconds only."""
        quick = order in _QUICK_ORDERS and by in _QUICK_BANDS and len(self.items) <= MOST_AT_ONCE
        return quick or len(self.items) <= 2000 or (order, by) == (AS_LISTED, NO_BANDS)

    def arranged(self, order: Order, by: str = NO_BANDS, about: int | None = None) -> Arrangement:
        """All listed images in an order (equal ones as listed, those it says nothing of last) and into bands."""
        if (order, by) == (AS_LISTED, NO_BANDS):
            return Arrangement(order, by, about, np.arange(len(self.items)))
        positions = np.argsort(
            order_keys(order, self.judged, self.items, self.likeness, self.other, self.measures), kind="stable"
        )
        if by == NO_BANDS:
            return Arrangement(order, by, about, positions)
        names, of = band_names(
            by, self.judged, self.items, self.classes, self.families, self.reviews, about, self.other, self.measures
        )
        return Arrangement(order, by, about, positions, names, of)
