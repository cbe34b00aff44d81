"""Which images of a pool to label for a figure, drawn with known probabilities; and what the labels say once they are back."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import ceil
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import decimal
from mivrat.core.concluding.requirements import parse_requirement
from mivrat.core.figures.intervals import Z95
from mivrat.core.figures.label_sample import (
    Estimated,
    allocate,
    estimate_difference,
    estimate_ratio,
    half_width_expected,
    spread_expected,
    strata_by,
)
from mivrat.core.figures.sample_size import for_half_width
from mivrat.core.study.records import RunRecord

Figure = Literal["top1", "recall", "precision", "difference"]
DIFFERENCE = "difference(top1)"
# What is expected of a recall or a precision, at least and at most, whatever the model says of itself.
_MODEST = (0.2, 0.8)
# The least variance of a difference of right and wrong.
_LEAST_VARIANCE = 0.05
_LEAST_LABELS = 10


@dataclass(frozen=True)
class WantedFigure:
    """What is to be known: a figure, of which class where it is of one, as it was written."""

    figure: Figure
    class_index: int | None
    text: str

    @property
    def name(self) -> str:
        """What it is called in a sentence."""
        return {"top1": "top-1 accuracy", DIFFERENCE: "difference in top-1 accuracy"}.get(self.text, self.text)


def wanted_figure(text: str, classes: Sequence[str]) -> WantedFigure:
    """``top1``, ``recall["x"]``, ``precision["x"]`` or ``difference(top1)``. InputError for anything else."""
    if text.replace(" ", "") == DIFFERENCE:
        return WantedFigure("difference", None, DIFFERENCE)
    found = parse_requirement(f"{text} >= 0", classes)
    if not found.plain or found.figure not in ("top1", "recall", "precision"):
        raise InputError(
            f"{text!r} is not a figure that labels can be drawn for",
            where="--figure",
            hint='ask for top1, recall["class"], precision["class"] or difference(top1)',
        )
    return WantedFigure(found.figure, found.class_index, text)  # type: ignore[arg-type]


@dataclass(frozen=True)
class LabelStratum:
    """Some images of the pool that are alike to the model: how many, how many of them are labelled, and the standard deviation expected
    of what each adds to the figure."""

    name: str
    pool: int
    labels: int
    expected_sd: float


@dataclass(frozen=True)
class LabelSample:
    """What is to be labelled. ``listed`` are positions in random order, ``stratum`` their strata and ``inclusion`` the probability with
    which each came to be listed. ``same`` images count as zero with certainty; ``half_width`` is what is expected of the interval, and
    ``simple_random`` how many labels a simple random sample would need for it (None: more than can be told)."""

    wanted: WantedFigure
    pool: int
    same: int
    seed: int
    strata: tuple[LabelStratum, ...]
    listed: NDArray[np.int64]
    stratum: NDArray[np.int64]
    inclusion: NDArray[np.float64]
    half_width: float
    simple_random: int | None
    asked_half_width: float | None = None


@dataclass(frozen=True)
class _Pool:
    """The images that can matter, by position, with what is expected of each."""

    images: NDArray[np.int64]
    same: int
    values: NDArray[np.float64]
    spread: NDArray[np.float64]
    apart: NDArray[np.bool_]
    what: tuple[str, str]
    # The share expected, what its half-width is a multiple of in that of the mean, and how rare what it is of is.
    expected: float
    scale: float
    rare: float


def draw_labels(
    record: RunRecord,
    judged: EvaluatedRun,
    wanted: WantedFigure,
    *,
    labels: int | None = None,
    half_width: float | None = None,
    seed: int = 0,
    against: EvaluatedRun | None = None,
    labelled: Sequence[int] = (),
) -> LabelSample:
    """Draw so many images to label, or as many as the half-width takes. ``labelled`` are positions of a simple random sample of the pool
    that has labels already: they count, and more are drawn beside them. InputError where nothing can be drawn."""
    pool = _pool(judged, wanted, against)
    total = len(pool.images)
    if total < _LEAST_LABELS:
        raise InputError(
            f"only {total} images matter for {wanted.text}",
            where=record.image_set.name,
            hint="take a larger pool, or another figure",
        )
    if labels is None:
        assert half_width is not None
        labels = _enough(pool, half_width)
    if labels < _LEAST_LABELS:
        raise InputError(f"{labels} labels are too few", where="--labels", hint=f"give {_LEAST_LABELS} or more")
    labels = min(labels, total)
    stratum, sizes, spread, counts = _laid_out(pool, labels)
    order = _in_random_order(record, pool.images, seed)
    known = set(labelled)
    there = [at for at in order if int(pool.images[at]) in known]
    counts = np.maximum(counts, np.bincount(stratum[there], minlength=len(sizes)))
    left, chosen = counts.tolist(), set()
    for at in (*there, *order):
        h = stratum[at]
        if left[h] and at not in chosen:
            chosen.add(at)
            left[h] -= 1
    listed = np.array([at for at in order if at in chosen], np.int64)
    expected = half_width_expected(sizes, spread, counts) * pool.scale
    strata = tuple(
        LabelStratum(_name(pool, stratum == h), int(sizes[h]), int(counts[h]), float(spread[h]))
        for h in range(len(sizes))
    )
    return LabelSample(
        wanted,
        total + pool.same,
        pool.same,
        seed,
        strata,
        pool.images[listed],
        stratum[listed],
        (counts / sizes)[stratum[listed]],
        expected,
        _simple_random(pool, wanted, expected),
        half_width,
    )


def _pool(judged: EvaluatedRun, wanted: WantedFigure, against: EvaluatedRun | None) -> _Pool:
    there = judged.state == SCORED
    if wanted.figure in ("recall", "difference") and not judged.has_scores:
        raise InputError(
            f"{wanted.text} needs the score of every class", hint="use a model, or a table with all scores"
        )
    if wanted.figure == "difference":
        return _pool_of_difference(judged, against)
    k = wanted.class_index
    if wanted.figure == "recall":
        assert k is not None
        images = np.flatnonzero(there)
        p = judged.column(k, images)
        called = judged.predicted[images] == k
        expected = float(np.clip(p[called].sum() / max(1e-12, p.sum()), *_MODEST))
        spread = spread_expected(p) * np.where(called, 1 - expected, expected)
        rare = max(1 / max(1, len(images)), float(p.mean()))
        return _Pool(
            images, 0, p, spread, called, ("probability", "predicted so, probability"), expected, 1 / rare, rare
        )
    images = np.flatnonzero(there & (judged.predicted == k) if wanted.figure == "precision" else there)
    sure = np.nan_to_num(judged.confidence[images], nan=0.5)
    expected = float(sure.mean()) if len(sure) else 0.5
    none = np.zeros(len(images), bool)
    return _Pool(images, 0, sure, spread_expected(sure), none, ("confidence", "confidence"), expected, 1.0, 1.0)


def _pool_of_difference(judged: EvaluatedRun, against: EvaluatedRun | None) -> _Pool:
    if against is None:
        raise InputError("a difference needs another model", where="--figure", hint="name it with --against")
    if not against.has_scores or against.classes != judged.classes:
        raise InputError(
            "both models must give the scores of the same classes", where="--against", hint="name another model"
        )
    both = (judged.state == SCORED) & (against.state == SCORED)
    differ = both & (judged.predicted != against.predicted)
    images = np.flatnonzero(differ)
    a, b = judged.probabilities(images), against.probabilities(images)
    mean = (a + b) / 2
    lines = np.arange(len(images))
    this, other = mean[lines, judged.predicted[images]], mean[lines, against.predicted[images]]
    lead = this - other
    spread = np.sqrt(np.maximum(_LEAST_VARIANCE, this + other - lead**2))
    same = int((both & ~differ).sum())
    none = np.zeros(len(images), bool)
    scale = len(images) / max(1, len(images) + same)
    return _Pool(images, same, lead, spread, none, ("lead of this model", ""), 0.5, scale, scale)


def _laid_out(
    pool: _Pool, labels: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64], NDArray[np.int64]]:
    """The stratum of each image, and of each stratum its size, spread and number of labels."""
    values = np.round(pool.values, 3)  # strata that differ by less would have one name
    stratum = strata_by(np.where(pool.apart, 2 + values, values), pool.spread, labels)
    stratum = np.unique(2 * stratum + pool.apart, return_inverse=True)[1].astype(np.int64)
    sizes = np.bincount(stratum)
    spread = np.sqrt(np.bincount(stratum, weights=pool.spread**2) / sizes)
    return stratum, sizes, spread, allocate(sizes, spread, labels)


def _enough(pool: _Pool, half_width: float) -> int:
    """The least number of labels that promises this half-width; all of the pool where none smaller does."""
    low, high = _LEAST_LABELS, len(pool.images)

    def promised(labels: int) -> float:
        _, sizes, spread, counts = _laid_out(pool, labels)
        return half_width_expected(sizes, spread, counts) * pool.scale

    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if promised(middle) <= half_width else (middle + 1, high)
    return low


def _simple_random(pool: _Pool, wanted: WantedFigure, half_width: float) -> int | None:
    """How many labels a simple random sample of the pool would need for this half-width."""
    if half_width <= 0:
        return len(pool.images) + pool.same
    if wanted.figure == "difference":
        whole = len(pool.images) + pool.same
        variance = float((pool.spread**2).sum()) / max(1, whole)
        found: int | None = ceil(variance * (Z95 / half_width) ** 2)
    else:
        found = for_half_width(pool.expected, half_width)
        found = None if found is None else ceil(found / pool.rare) if wanted.figure == "recall" else found
        whole = len(pool.images)
    return None if found is None else min(whole, ceil(found / (1 + found / whole)))


def _name(pool: _Pool, inside: NDArray[np.bool_]) -> str:
    values = pool.values[inside]
    what = pool.what[bool(pool.apart[inside][0])]
    return f"{what} {decimal(float(values.min()), 3)} to {decimal(float(values.max()), 3)}"


def _in_random_order(record: RunRecord, images: NDArray[np.int64], seed: int) -> list[int]:
    """Places in ``images`` in an order that seed, content and path alone decide."""
    items, contents = record.image_set.items, record.answers.contents

    def key(at: int) -> bytes:
        i = int(images[at])
        content = contents.get(i, b"").hex()
        name = f"labels {seed} {content} {items[i].path}"
        return hashlib.sha256(name.encode("utf-8", "surrogateescape")).digest()

    return sorted(range(len(images)), key=key)


@dataclass(frozen=True)
class SampleRow:
    """One listed image, as the list tells it: predictions by class index (``other`` that of the model compared with, -1: none)."""

    stratum: int
    predicted: int
    other: int = -1


def estimate_from_labels(
    wanted: WantedFigure, strata: Sequence[int], same: int, rows: Sequence[SampleRow], labels: Mapping[int, int]
) -> Estimated:
    """The estimate from the labels of listed images, by place in ``rows``; ``strata`` counts the pool's images of each. InputError where a
    listed image has no label: leaving some out would choose among them."""
    missing = [i for i in range(len(rows)) if i not in labels]
    if missing:
        raise InputError(
            f"{len(missing)} of {len(rows)} listed images have no label",
            where="labels",
            hint="label all of them: which are left out is not chance",
        )
    label = np.array([labels[i] for i in range(len(rows))])
    predicted, other = (np.array([getattr(one, name) for one in rows]) for name in ("predicted", "other"))
    stratum, pool = np.array([one.stratum for one in rows], np.int64), np.array(strata, np.int64)
    if wanted.figure == "difference":
        return estimate_difference((predicted == label).astype(float) - (other == label), stratum, pool, same)
    if wanted.figure == "recall":
        of_class = label == wanted.class_index
        return estimate_ratio((of_class & (predicted == label)).astype(float), of_class.astype(float), stratum, pool)
    return estimate_ratio((predicted == label).astype(float), np.ones(len(rows)), stratum, pool)
