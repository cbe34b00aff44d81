"""More than two runs on the same images: whether they differ at all, which pairs do, and what choosing the best does to its figure."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.paired import share_difference
from mivrat.core.figures.resampling import weights_drawn
from mivrat.core.figures.significance import holm
from mivrat.core.figures.units import share

if TYPE_CHECKING:
    from scipy import special
else:
    special = LazyModule("scipy.special")

_PERMUTATIONS, _DRAWS, _AT_ONCE = 1_999, 1_000, 50


@dataclass(frozen=True)
class PairOfRuns:
    """Two of the runs by number, the better one first; ``p_holm`` is McNemar's corrected over all pairs."""

    better: int
    worse: int
    difference: Difference
    p_holm: float


@dataclass(frozen=True)
class Several:
    """m runs on the same N images: ``accuracy`` of each, the ``order`` best first, Cochran's ``q`` and its probability if all were
    as good, all ``pairs``; and ``optimism``, how much too good the best one's figure looks for having been chosen."""

    total: int
    accuracy: list[Proportion]
    order: list[int]
    q: float
    p: float
    pairs: list[PairOfRuns]
    optimism: float


def several(right: NDArray[np.bool_], unit: NDArray[np.integer] | None = None, seed: int = 0) -> Several:
    """``right`` is m x N, m at least 2 and N at least 1; ``unit`` numbers what belongs together, from 0 without gaps.

    Cochran 1950's Q by chi-square on m - 1; over units the runs' answers are exchanged within whole units. Pairs by McNemar's
    exact test with Holm's correction. The optimism is the mean, over images drawn again, of how much higher the best of a draw
    is there than among all images (Efron 1983).
    """
    runs, total = right.shape
    accuracy = [share(one, unit) for one in right]
    order = sorted(range(runs), key=lambda i: (-accuracy[i].hits, i))
    found = []
    for one, other in combinations(order, 2):
        found.append((one, other, share_difference(right[other], right[one], unit)))
    corrected = holm([difference.p or 0.0 for _, _, difference in found])
    pairs = [PairOfRuns(*one, p) for one, p in zip(found, corrected, strict=True)]
    q, p = cochran(right) if unit is None else _q_over_units(right, unit, seed)
    return Several(total, accuracy, order, q, p, pairs, _optimism(right, unit, seed))


def cochran(right: NDArray[np.bool_]) -> tuple[float, float]:
    """Cochran's Q (1950) of m x N answers, right or wrong, and its probability by chi-square on m - 1; (0, 1) where every image
    came out the same under all."""
    runs = len(right)
    by_run, by_image = right.sum(axis=1).astype(float), right.sum(axis=0).astype(float)
    below = float((by_image * (runs - by_image)).sum())
    if below == 0:
        return 0.0, 1.0
    q = float((runs - 1) * runs * ((by_run - by_run.mean()) ** 2).sum() / below)
    return q, float(special.chdtrc(runs - 1, q))


def _q_over_units(right: NDArray[np.bool_], unit: NDArray[np.integer], seed: int) -> tuple[float, float]:
    """Q, and its probability with the runs' answers exchanged within whole units."""
    q, _ = cochran(right)
    if q == 0:
        return 0.0, 1.0
    sums = np.stack([np.bincount(unit, one) for one in right], axis=1)
    seen, rng = float(np.square(sums.sum(axis=0)).sum()), np.random.default_rng(seed)
    higher = sum(
        float(np.square(rng.permuted(sums, axis=1).sum(axis=0)).sum()) >= seen * (1 - 1e-12)
        for _ in range(_PERMUTATIONS)
    )
    return q, (1 + higher) / (_PERMUTATIONS + 1)


def _optimism(right: NDArray[np.bool_], unit: NDArray[np.integer] | None, seed: int) -> float:
    """How much too good the best looks for having been chosen: how much the best of a draw is better there than it is, on average.

    What the runs are is not what they show: their figures lie further apart than they are, by the same luck. So they are first drawn
    together to what lies between them beyond that luck (James and Stein 1961); a draw from the figures as they stand is a third too
    small where all are as good.
    """
    sums, sizes = right.T.astype(float), np.ones(right.shape[1])
    if unit is not None:
        sums, sizes = np.stack([np.bincount(unit, one) for one in right], axis=1), np.bincount(unit).astype(float)
    whole, rng, draws = sums.sum(axis=0) / sizes.sum(), np.random.default_rng(seed), list[NDArray[np.float64]]()
    for _ in range(0, _DRAWS, _AT_ONCE):
        weights = weights_drawn(rng, len(sizes), _AT_ONCE)
        drawn = (weights @ sums) / (weights @ sizes)[:, None]
        draws.append(drawn - whole)
    luck = np.concatenate(draws)
    between = float(((whole - whole.mean()) ** 2).sum())
    by_luck = float(((luck - luck.mean(axis=1, keepdims=True)) ** 2).sum(axis=1).mean())
    doubt = 1 + 1 / (len(whole) - 1)  # of few runs, how far apart they are is hardly known
    kept = max(0.0, 1 - doubt * by_luck / between) if between > 0 else 0.0
    true = whole.mean() + kept * (whole - whole.mean())
    best = (true + luck).argmax(axis=1)
    return max(0.0, float(luck[np.arange(len(luck)), best].mean()))
