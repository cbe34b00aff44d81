"""Each class against the rest over many logits: one pass over the rows, and a look at what lies high enough in each column."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from math import log

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.calibration import BINS
from mivrat.core.figures.ranked import NEAR, OfClass, OneVersusRest, areas, images_by_label, over_classes

# How many scores are worked on at a time: few enough to stay in the processor's cache.
PIECE = 1 << 17
# So many classes are looked through at a time, a line of the processor's cache of each row.
ACROSS = 16
# So many rows of these are turned on their side at a time: all at once, they would fall out of the cache in between.
LINES = 1024
LN2 = log(2.0)
# Sums of scores below this have lost digits.
_TINY = 1e-280

Floats = NDArray[np.float64]


class LogOdds:
    """Of N rows of logits (those of ``rows`` at ``use``) what log-odds are made of: s_k - ln Σ_{j≠k} exp s_j, so that nothing ties
    near 0 and 1 that did not tie before.

    On the same way the sums of the probabilities of every class: in all (``sums``), and those in each bin above the first of equal
    width (``sums_in_bins``, classes x bins; the first is left at 0); and the bin of each image's own probability.
    """

    def __init__(self, rows: NDArray[np.floating], use: NDArray[np.integer], labels: NDArray[np.integer]) -> None:
        self.rows, self.use, self.labels = rows, use, labels
        count, self.classes = len(use), rows.shape[1]
        self.top = np.empty(count, np.int64)
        self.highest, self.rest, self.whole = np.empty((3, count))
        self.own_bin = np.empty(count, np.int64)
        self._coarse = 1.5 * 2.0 ** max(1, count).bit_length()
        self.everything = count == len(rows) and bool((use == np.arange(count)).all())
        step = max(1, PIECE // self.classes)
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            found = list(pool.map(lambda start: self._look_at(slice(start, start + step)), range(0, count, step)))
        self.largest = max((most for *_, most in found), default=0.0)
        self.sums = np.sum([one[0] for one in found], axis=0) if found else np.zeros(self.classes)
        cells, p = (np.concatenate([one[i] for one in found]) if found else np.zeros(0) for i in (1, 2))
        binned = (
            np.bincount(cells.astype(np.int64), p, self.classes * BINS) if len(cells) else np.zeros(self.classes * BINS)
        )
        self.sums_in_bins = binned.reshape(self.classes, BINS)

    def _look_at(self, here: slice) -> tuple[Floats, NDArray[np.int64], Floats, float]:
        rows = self.rows[here if self.everything else self.use[here]]
        lines = np.arange(len(rows))
        best = rows.argmax(axis=1)
        highest = rows[lines, best].astype(np.float64)
        largest = max(float(highest.max(initial=0.0)), -float(rows.min(initial=0.0)))
        raised = rows.astype(np.float64)
        # From here on all is told from the highest score, so that rounding does not grow with it.
        raised -= highest[:, None]
        np.exp(raised, out=raised)
        raised[lines, best] = 0.0
        others = raised.sum(axis=1)
        with np.errstate(divide="ignore"):
            log_others = np.log(others)
        far = others < _TINY
        if far.any():  # the next highest is far below: told from that one
            z = rows[far].astype(np.float64) - highest[far, None]
            z[np.arange(len(z)), best[far]] = -np.inf
            second = z.max(axis=1)
            log_others[far] = second + np.log(np.exp(z - second[:, None]).sum(axis=1))
        self.top[here], self.highest[here] = best, highest
        self.rest[here], self.whole[here] = log_others, np.log1p(others)
        raised[lines, best] = 1.0
        share = 1 / (1 + others)
        # Only few probabilities lie above the first bin: at most as many in a row as there are bins.
        # Told by their places in one line, which are found far faster than lines and columns are.
        above = np.flatnonzero(raised > ((1 / BINS + NEAR) * (1 + others))[:, None])
        line, column = np.divmod(above, self.classes)
        p = self._rounded(raised[line, column] * share[line])
        cuts = np.arange(1, BINS) / BINS + NEAR
        self.own_bin[here] = np.searchsorted(cuts, raised[lines, self.labels[here]] * share, "left")
        raised *= share[:, None]
        return self._rounded(raised).sum(axis=0), column * BINS + np.searchsorted(cuts, p, "left"), p, largest

    def _rounded(self, p: Floats) -> Floats:
        """Probabilities, in place, as whole numbers of a unit so small that their sums over all images are exact, in whatever order
        images are listed."""
        p += self._coarse
        p -= self._coarse
        return p

    def keys(self, scores: NDArray[np.floating], images: NDArray[np.integer], k: int) -> Floats:
        """What puts images (places among ``use``) in the order of their log-odds of class ``k``, and lets tie what ties there, from their
        scores: ln p up to p = 1/2, where it keeps as many digits, and from there the log-odds, set on at ln 1/2."""
        z = scores.astype(np.float64)
        z -= self.highest[images]
        z -= self.whole[images]
        best = np.flatnonzero(self.top[images] == k)
        rest = self.rest[images[best]]
        z[best] = np.where(rest < 0, -rest - LN2, z[best])
        return z

    def gaps(self) -> list[float]:
        """The class-wise calibration gaps: Σ n_m/N |share_m - mean p_m| over bins of equal width."""
        total = max(1, len(self.use))
        counted = np.bincount(self.labels * BINS + self.own_bin, minlength=self.classes * BINS).reshape(-1, BINS)
        sums = self.sums_in_bins.copy()
        sums[:, 0] = self.sums - sums[:, 1:].sum(axis=1)
        gaps: list[float] = (np.abs(counted - sums).sum(axis=1) / total).tolist()
        return gaps

    def one_versus_rest(self) -> OneVersusRest:
        """All classes: of each only the images whose score is not below all of its own images' has to be put in order."""
        count, gaps = len(self.use), self.gaps()
        by_label = images_by_label(self.labels, self.classes)
        whole = (self.highest + self.whole).astype(np.float32)
        # What is told in single precision may be off by so much.
        slack = np.float32(1e-4 + 4e-7 * max(self.largest, float(np.abs(whole).max(initial=0.0))))

        def measured(first: int) -> list[OfClass]:
            some = range(first, min(first + ACROSS, self.classes))
            block = np.empty((len(some), count), self.rows.dtype)
            for start in range(0, count, LINES):
                lines = slice(start, start + LINES) if self.everything else self.use[start : start + LINES]
                block[:, start : start + LINES] = self.rows[lines, some.start : some.stop].T
            found = []
            for at, k in enumerate(some):
                own, near = by_label[k], block[at] - whole
                least = near[own].min() - slack if len(own) else np.inf
                images = np.flatnonzero(near >= np.float32(least))
                ordered = np.sort(self.keys(block[at, images], images, k))
                of_own = np.sort(self.keys(block[at, own], own, k))
                auroc, precision, spread = areas(ordered, of_own, count, log_odds=True)
                found.append(OfClass(auroc, precision, gaps[k], spread))
            return found

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            return over_classes([one for some in pool.map(measured, range(0, self.classes, ACROSS)) for one in some])
