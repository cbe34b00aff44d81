"""Differences of figures that are no shares, by drawing images (or whole units) again: once for two runs on the same images,
apart for two sets. All figures are made of sums over images, so that one product of matrices does many draws."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.later import Later
from mivrat.core.figures.calibration import BINS, bin_index
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.probability import losses, squared_errors
from mivrat.core.figures.uncertainty import DRAWS, FEW, LEAST, LEAST_UNITS

if TYPE_CHECKING:
    from scipy import sparse
else:
    sparse = Later("scipy.sparse")

# So many draws are made at a time, and as many weights at most.
_AT_ONCE, _WEIGHTS = 64, 1 << 23
# The figures that are means over images: their intervals are by bootstrap-t (Hall 1988), the others' are percentiles.
MEANS = ("log_loss", "brier")

# Where fewer images came out differently, drawing them again says little of a figure made of right and wrong alone.
LEAST_CHANGED = 10

Ends = tuple[float, float]
Numbers = NDArray[np.float64]


@dataclass(frozen=True)
class Sums:
    """What the figures are made of, over some images: by class those labelled and called so and those right (each ... x K), by
    bin the sum of confidence less correctness (... x BINS), and of the means their sums; None where they are not known."""

    support: Numbers
    called: Numbers
    right: Numbers
    leads: Numbers | None
    totals: dict[str, Numbers]

    @classmethod
    def of(cls, found: Outcomes, classes: int) -> Sums:
        """The sums over N outcomes, each counted once."""
        return _columns(found, classes).sums(np.ones((1, len(found.labels))))

    def every(self) -> dict[str, Numbers]:
        """The figures, NaN where they are undefined."""
        n = self.support.sum(axis=-1)
        there = self.support > 0
        with np.errstate(divide="ignore", invalid="ignore"):
            f1 = np.where(there, 2 * self.right / (self.support + self.called), 0.0)
            found = {"macro_f1": f1.sum(axis=-1) / there.sum(axis=-1)}
            found |= {name: total / n for name, total in self.totals.items()}
            if self.leads is not None:
                found["ece"] = np.abs(self.leads).sum(axis=-1) / n
        return found

    def figures(self) -> dict[str, float | None]:
        """The figures of a single sum; None where they are undefined."""
        found = {name: float(np.ravel(values)[0]) for name, values in self.every().items()}
        return {name: None if np.isnan(value) else value for name, value in found.items()}


@dataclass(frozen=True)
class _Columns:
    """N images (or units) by what each adds to every sum: ``counts`` sparse, a line for each of 3 K + BINS sums, ``means`` dense by
    name."""

    counts: sparse.csr_array
    means: dict[str, Numbers]
    classes: int
    sure: bool

    def sums(self, weights: Numbers) -> Sums:
        """The sums with each image counted so often (draws x N)."""
        found = np.asarray((self.counts @ np.ascontiguousarray(weights.T)).T)
        k = self.classes
        return Sums(
            found[:, :k],
            found[:, k : 2 * k],
            found[:, 2 * k : 3 * k],
            found[:, 3 * k :] if self.sure else None,
            {name: weights @ values for name, values in self.means.items()},
        )

    def by_unit(self, unit: NDArray[np.integer]) -> _Columns:
        """The same with whole units in place of images."""
        units = int(unit.max()) + 1
        gather = sparse.csr_array((np.ones(len(unit)), (unit, np.arange(len(unit)))), shape=(units, len(unit)))
        means = {name: gather @ values for name, values in self.means.items()}
        return _Columns((self.counts @ gather.T).tocsr(), means, self.classes, self.sure)


def _columns(found: Outcomes, classes: int) -> _Columns:
    n = len(found.labels)
    right = found.predicted == found.labels
    sure = not bool(np.isnan(found.confidence).any())
    lines = np.arange(n)
    at, line, value = [found.labels, classes + found.predicted, 2 * classes + found.labels[right]], [lines, lines, lines[right]], [np.ones(n), np.ones(n), np.ones(int(right.sum()))]  # fmt: skip
    means: dict[str, Numbers] = {}
    if sure:
        lead = found.confidence - right
        at.append(3 * classes + bin_index(found.confidence, BINS))
        line.append(lines)
        value.append(lead)
    if found.complete:
        means |= {"log_loss": losses(found.own), "brier": squared_errors(found.own, found.squares)}
    counts = sparse.csr_array(
        (np.concatenate(value), (np.concatenate(at), np.concatenate(line))), shape=(3 * classes + BINS, n)
    )
    return _Columns(counts, means, classes, sure)


def with_ends(means: dict[str, Difference], drawn: dict[str, Ends]) -> dict[str, Difference]:
    """Differences with the ends of their intervals, those of which any were drawn."""
    return {
        name: replace(one, low=drawn[name][0], high=drawn[name][1]) if name in drawn else one
        for name, one in means.items()
    }


def weights_drawn(rng: np.random.Generator, total: int, draws: int) -> Numbers:
    """How often each of so many is drawn, with replacement (draws x total)."""
    picked = rng.integers(0, total, (draws, total)) + (np.arange(draws) * total)[:, None]
    return np.bincount(picked.ravel(), minlength=draws * total).reshape(draws, total).astype(float)


def _batches(total: int, draws: int) -> list[int]:
    step = max(1, min(_AT_ONCE, _WEIGHTS // max(1, total)))
    return [min(step, draws - first) for first in range(0, draws, step)]


def _too_few(total: int, units: int | None) -> bool:
    return total < LEAST or (units is not None and units < LEAST_UNITS)


def paired_draws(
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit: NDArray[np.integer] | None = None,
    draws: int = DRAWS,
    seed: int = 0,
    stopped: Callable[[], bool] = lambda: False,
) -> dict[str, Ends] | None:
    """The ends of the 95 % intervals of b - a, by figure, images (or the units that ``unit`` numbers) drawn once for both.

    Empty with too few images or units; a figure of which all draws are alike has none. None where it was stopped.
    """
    total = len(a.labels)
    if _too_few(total, None if unit is None else len(np.unique(unit))):
        return {}
    one, other = _columns(a, classes), _columns(b, classes)
    sizes = np.ones(total)
    if unit is not None:
        one, other = one.by_unit(unit), other.by_unit(unit)
        sizes = np.bincount(unit).astype(float)
    leads = {name: other.means[name] - one.means[name] for name in one.means if name in other.means}
    rng, plain, drawn = np.random.default_rng(seed), {}, dict[str, list[Numbers]]()
    for name, lead in leads.items():
        plain[name] = _mean_and_error(lead, sizes, np.ones((1, len(sizes))))
    for some in _batches(len(sizes), draws):
        if stopped():
            return None
        weights = weights_drawn(rng, len(sizes), some)
        first, second = one.sums(weights).every(), other.sums(weights).every()
        for name in first:
            if name not in MEANS and name in second:
                drawn.setdefault(name, []).append(second[name] - first[name])
        for name, lead in leads.items():
            drawn.setdefault(name, []).append(_turned(plain[name], _mean_and_error(lead, sizes, weights)))
    found = _ends(drawn, plain, total)
    if np.count_nonzero((a.predicted == a.labels) != (b.predicted == b.labels)) < LEAST_CHANGED:
        found.pop("macro_f1", None)
    return found


def unpaired_draws(
    a: Outcomes,
    b: Outcomes,
    classes: int,
    unit_a: NDArray[np.integer] | None = None,
    unit_b: NDArray[np.integer] | None = None,
    draws: int = DRAWS,
    seed: int = 0,
    stopped: Callable[[], bool] = lambda: False,
) -> dict[str, Ends] | None:
    """As ``paired_draws``, of two sets: each is drawn by itself."""
    units = [None if unit is None else len(np.unique(unit)) for unit in (unit_a, unit_b)]
    if any(_too_few(len(one.labels), many) for one, many in zip((a, b), units, strict=True)):
        return {}
    sides = []
    for one, unit in ((a, unit_a), (b, unit_b)):
        columns = _columns(one, classes)
        sides.append((columns, np.ones(len(one.labels))) if unit is None else (columns.by_unit(unit), np.bincount(unit).astype(float)))  # fmt: skip
    shared = [name for name in sides[0][0].means if name in sides[1][0].means]

    def means(weights: list[Numbers], name: str) -> tuple[Numbers, Numbers]:
        parts = [_mean_and_error(c.means[name], n, w) for (c, n), w in zip(sides, weights, strict=True)]
        return parts[1][0] - parts[0][0], np.hypot(parts[0][1], parts[1][1])

    rng, drawn = np.random.default_rng(seed), dict[str, list[Numbers]]()
    plain = {name: means([np.ones((1, len(n))) for _, n in sides], name) for name in shared}
    for some in _batches(max(len(n) for _, n in sides), draws):
        if stopped():
            return None
        weights = [weights_drawn(rng, len(n), some) for _, n in sides]
        first, second = (columns.sums(w).every() for (columns, _), w in zip(sides, weights, strict=True))
        for name in first:
            if name not in MEANS and name in second:
                drawn.setdefault(name, []).append(second[name] - first[name])
        for name in shared:
            drawn.setdefault(name, []).append(_turned(plain[name], means(weights, name)))
    return _ends(drawn, plain, min(len(a.labels), len(b.labels)))


def _mean_and_error(sums: Numbers, sizes: Numbers, weights: Numbers) -> tuple[Numbers, Numbers]:
    """The mean over images of a quantity told by unit sums, and its standard error (Cochran 1977, 6.10), draw by draw."""
    n, y = weights @ sizes, weights @ sums
    units = weights.sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = y / n
        spread = weights @ sums**2 - 2 * mean * (weights @ (sums * sizes)) + mean**2 * (weights @ sizes**2)
        return mean, np.sqrt(np.maximum(0.0, spread) * units / (units - 1)) / n


def _turned(plain: tuple[Numbers, Numbers], drawn: tuple[Numbers, Numbers]) -> Numbers:
    """How many standard errors each draw lies above the figure itself."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(drawn[1] > 0, (drawn[0] - plain[0]) / drawn[1], np.nan)


def _ends(drawn: dict[str, list[Numbers]], plain: dict[str, tuple[Numbers, Numbers]], total: int) -> dict[str, Ends]:
    found = {}
    for name, parts in drawn.items():
        if name == "ece" and total < FEW:
            continue  # its bias by chance is larger than what could be told
        values = np.concatenate(parts)
        values = values[~np.isnan(values)]
        if len(values) < 0.9 * sum(len(part) for part in parts):
            continue  # most draws say nothing
        low, high = np.quantile(values, [0.025, 0.975])
        if name in plain:
            mean, error = float(plain[name][0][0]), float(plain[name][1][0])
            low, high = mean - high * error, mean - low * error
        if low < high:
            found[name] = float(low), float(high)
    return found
