"""What a model's answers say, image by image, and every figure that follows from them."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, PENDING, SCORED, UNREADABLE
from mivrat.core.answers.missing_scores import are_missing
from mivrat.core.answers.odds import PIECE, LogOdds
from mivrat.core.figures.decision import Costs, called_at, costs
from mivrat.core.figures.families import within_family
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.probability import SMALLEST
from mivrat.core.figures.ranked import OfClass, OneVersusRest, images_by_label, of_class, over_classes
from mivrat.core.figures.significance import even_split
from mivrat.core.figures.summary import Figures, summarise
from mivrat.core.figures.suspicion import Suspects, self_confidence, suspects
from mivrat.core.figures.units import Units, against_claim, alike_of, direction, figures_over_units, share
from mivrat.core.models.scores import Kind, ranking_scores, to_probabilities

# So often labels are drawn from the model's own probabilities, to see how many would be suspected if none were wrong.
CLEAN_DRAWS = 20


@dataclass(frozen=True)
class ImageCounts:
    """Every listed image stands in exactly one of the others: evaluated (in the figures), unreadable, failed (NaN or
    infinity among its scores), unlabelled (scored, but with nothing to judge it by), or pending."""

    listed: int
    evaluated: int
    unreadable: int
    unlabelled: int
    failed: int
    pending: int


@dataclass(frozen=True)
class EvaluatedRun:
    """What the answers say, image by image (arrays over all listed images).

    ``predicted`` is -1, ``confidence`` NaN and ``rank`` 0 where there is no answer (rank also without a label).
    ``own`` is p of the label, ``squares`` the sum of p squared, ``tied`` whether the highest score stands twice.
    ``evaluated`` marks labelled images with an answer: the N of every figure. ``units`` are those of images that belong
    together, where the set says so: every interval is then over these.
    """

    labels: NDArray[np.int64]
    state: NDArray[np.int8]
    predicted: NDArray[np.int64]
    confidence: NDArray[np.float64]
    rank: NDArray[np.int64]
    own: NDArray[np.float64]
    squares: NDArray[np.float64]
    tied: NDArray[np.bool_]
    rows: NDArray[np.floating]
    kind: Kind
    classes: int
    units: Units | None = None

    @cached_property
    def evaluated(self) -> NDArray[np.bool_]:
        return (self.state == SCORED) & (self.labels >= 0)

    @cached_property
    def right(self) -> NDArray[np.bool_]:
        return self.evaluated & (self.predicted == self.labels)

    @cached_property
    def wrong(self) -> NDArray[np.bool_]:
        return self.evaluated & (self.predicted != self.labels)

    @property
    def has_scores(self) -> bool:
        """Whether every class's score is known, not the prediction alone."""
        return self.kind != "prediction" and not are_missing(self.rows)

    def probabilities(self, indices: NDArray[np.integer] | Sequence[int]) -> NDArray[np.float64]:
        """Probabilities (images x classes) of some images; NaN where there are none."""
        indices = np.asarray(indices)
        if not self.has_scores:
            return np.full((len(indices), self.classes), np.nan)
        found = to_probabilities(self.rows[indices], self.kind)
        found[self.state[indices] != SCORED] = np.nan
        return found

    def at_temperature(self, image: int, temperature: float) -> NDArray[np.float64]:
        """One image's probabilities with its logits divided by a temperature."""
        z = self.logits(np.array([image]))[0].astype(np.float64) / temperature
        raised = np.exp(z - z.max())
        found: NDArray[np.float64] = raised / raised.sum()
        return found

    def ranking(self, image: int) -> NDArray[np.int64]:
        """All classes from the highest score to the lowest; of equal ones, the first in class-list order."""
        if not self.has_scores:
            return np.array([self.predicted[image]])
        return np.argsort(-ranking_scores(self.rows[[image]], self.kind)[0], kind="stable")

    def highest(self, images: NDArray[np.integer], number: int) -> NDArray[np.int64]:
        """The first so many classes of ``ranking`` for several scored images of a model that gives scores (images x number)."""
        scores, found = ranking_scores(self.rows[images], self.kind).copy(), []
        lines = np.arange(len(scores))
        for _ in range(number):
            found.append(scores.argmax(axis=1))  # of equal ones the first
            scores[lines, found[-1]] = -np.inf
        return np.stack(found, axis=1)

    def at_threshold(self, threshold: float) -> EvaluatedRun:
        """The same answers of a model of two classes, the second one called where its probability is at least this.

        Confidence is then the probability of the class called; ranks and every figure that rests on them follow.
        """
        if self.classes != 2 or not self.has_scores:
            raise ValueError("a threshold is for the scores of two classes")
        scored = np.flatnonzero(self.state == SCORED)
        predicted, confidence, rank = self.predicted.copy(), self.confidence.copy(), self.rank.copy()
        p = self.probabilities(scored)
        predicted[scored] = called_at(p[:, 1], threshold)
        confidence[scored] = np.take_along_axis(p, predicted[scored][:, None], 1)[:, 0]
        known = self.labels >= 0
        rank[known & (self.state == SCORED)] = np.where(predicted == self.labels, 1, 2)[known & (self.state == SCORED)]
        return replace(self, predicted=predicted, confidence=confidence, rank=rank, tied=np.zeros_like(self.tied))

    def suspected_labels(self) -> Suspects:
        """The evaluated images whose label is suspected to be wrong, the most suspicious first; none without all scores."""
        use = np.flatnonzero(self.evaluated) if self.has_scores else np.zeros(0, np.int64)
        thresholds = self_confidence(self.own[use], self.labels[use], self.classes)
        step, found = max(1, PIECE // self.classes), []
        for start in range(0, len(use), step):
            some = use[start : start + step]
            which, likely, margins = suspects(self.probabilities(some), self.labels[some], thresholds)
            found.append((some[which], likely[which], margins[which]))
        positions, likely, margins = (np.concatenate([part[k] for part in found] or [np.zeros(0)]) for k in range(3))
        order = np.argsort(margins, kind="stable")
        return Suspects(positions[order].astype(np.int64), likely[order].astype(np.int64), margins[order])

    def expected_suspects(self, seed: int = 0) -> float | None:
        """How many labels would be suspected if none were wrong: labels drawn from the model's own probabilities, as if it were
        calibrated, and judged as ``suspected_labels`` does; the mean of some draws. None without all scores."""
        use = np.flatnonzero(self.evaluated) if self.has_scores else np.zeros(0, np.int64)
        if not len(use):
            return None
        draws = CLEAN_DRAWS if len(use) * self.classes <= PIECE * CLEAN_DRAWS else 2
        rng, step = np.random.default_rng(seed), max(1, PIECE // self.classes)
        luck = rng.random((draws, len(use)))
        labels, own = np.zeros((draws, len(use)), np.int64), np.zeros((draws, len(use)))
        pieces = range(0, len(use), step)
        for start in pieces:
            p = self.probabilities(use[start : start + step])
            reached = p.cumsum(axis=1)
            for line in range(draws):
                some = slice(start, start + len(p))
                wanted = luck[line, some, None] * reached[:, -1:]
                labels[line, some] = np.minimum((reached < wanted).sum(axis=1), self.classes - 1)
                own[line, some] = p[np.arange(len(p)), labels[line, some]]
        thresholds = [self_confidence(own[line], labels[line], self.classes) for line in range(draws)]
        found = 0
        for start in pieces:
            p = self.probabilities(use[start : start + step])
            for line in range(draws):
                found += int(suspects(p, labels[line, start : start + len(p)], thresholds[line])[0].sum())
        return found / draws

    @cached_property
    def margins(self) -> NDArray[np.float64]:
        """How far the highest probability stands above the second, image by image; NaN where that is not known."""
        found = np.full(len(self.labels), np.nan)
        if self.has_scores and self.classes > 1:
            scored, step = np.flatnonzero(self.state == SCORED), max(1, PIECE // self.classes)
            for start in range(0, len(scored), step):
                some = scored[start : start + step]
                best = np.partition(self.probabilities(some), self.classes - 2, axis=1)[:, -2:]
                found[some] = best[:, 1] - best[:, 0]
        return found

    @cached_property
    def alike(self) -> float | None:
        """How alike answers are within units, over all evaluated images; None without units."""
        use = np.flatnonzero(self.evaluated)
        return None if self.units is None else alike_of(self.outcomes(use), self.units.of(use))

    def relabelled(self, labels: Mapping[int, int]) -> EvaluatedRun:
        """The same answers judged by other labels of some images."""
        some = np.array(sorted(labels), np.int64)
        changed = self.labels.copy()
        changed[some] = [labels[int(i)] for i in some]
        rank, own = self.rank.copy(), self.own.copy()
        answered = some[self.state[some] == SCORED]
        if self.has_scores and len(answered):
            order = np.argsort(-ranking_scores(self.rows[answered], self.kind), axis=1, kind="stable")
            rank[answered] = 1 + (order == changed[answered, None]).argmax(axis=1)
            own[answered] = np.take_along_axis(self.probabilities(answered), changed[answered, None], 1)[:, 0]
        else:
            rank[answered] = self.predicted[answered] == changed[answered]
        return replace(self, labels=changed, rank=rank, own=own)

    def costs(self, false_alarm: float, miss: float) -> Costs:
        """What each threshold would cost, of a model of two classes, over its evaluated images (at least one)."""
        use = np.flatnonzero(self.evaluated)
        return costs(self.column(1, use), self.labels[use], false_alarm, miss)

    def counts(self) -> ImageCounts:
        unreadable, failed = int((self.state == UNREADABLE).sum()), int((self.state == FAILED).sum())
        evaluated, pending = int(self.evaluated.sum()), int((self.state == PENDING).sum())
        return ImageCounts(
            len(self.state),
            evaluated,
            unreadable,
            len(self.state) - evaluated - unreadable - failed - pending,
            failed,
            pending,
        )

    def outcomes(self, use: NDArray[np.bool_] | NDArray[np.integer]) -> Outcomes:
        """The outcomes of some evaluated images."""
        return Outcomes(
            self.labels[use],
            self.predicted[use],
            self.confidence[use],
            self.rank[use],
            self.own[use],
            self.squares[use],
            self.tied[use],
        )

    def figures(
        self, ks: Sequence[int], among: NDArray[np.bool_] | None = None, ranked: bool | OneVersusRest | None = True
    ) -> Figures:
        """All figures over the evaluated images, or over those of them that ``among`` marks.

        ``ranked=False`` leaves AUROC and average precision out: they cost a sort per class. Where they have been worked out they can be
        given.
        """
        use = np.flatnonzero(self.evaluated_among(among))
        found = self.outcomes(use)
        rest = ranked if isinstance(ranked, OneVersusRest) else None
        if ranked is True and self.has_scores and len(use):
            rest = self.one_versus_rest(use)
        figures = summarise(found, self.classes, ks, rest)
        return figures if self.units is None else figures_over_units(figures, found, self.units.of(use), self.alike)

    def evaluated_among(self, among: NDArray[np.bool_] | None) -> NDArray[np.bool_]:
        """Which images figures are of: the evaluated ones, all of them or those that ``among`` marks too."""
        return self.evaluated if among is None else self.evaluated & among

    def share(self, hits: NDArray[np.bool_], among: NDArray[np.bool_] | NDArray[np.integer]) -> Proportion:
        """The share of some images (a mask over all, or positions) that ``hits`` marks, with its interval."""
        return share(hits[among], None if self.units is None else self.units.of(among), alike=self.alike)

    def accuracy(self, among: NDArray[np.bool_] | NDArray[np.integer]) -> Proportion:
        """The share right of the evaluated ones among some images."""
        mask = np.zeros(len(self.labels), bool)
        mask[among] = True
        return self.share(self.right, mask & self.evaluated)

    def within_family(self, families: Mapping[int, str], among: NDArray[np.bool_] | None = None) -> Proportion:
        """The share of images whose predicted class is of the labelled class's family."""
        use = self.evaluated_among(among)
        return self.share(within_family(self.labels, self.predicted, families, self.classes), use)

    def direction(self, a: int, b: int, among: NDArray[np.bool_] | None = None) -> float:
        """Two-sided probability of so uneven a split between a taken for b and b taken for a."""
        use = self.evaluated_among(among)
        there = (self.labels[use] == a) & (self.predicted[use] == b)
        back = (self.labels[use] == b) & (self.predicted[use] == a)
        if self.units is None:
            return even_split(int(there.sum()), int(back.sum()))
        return direction(there, back, self.units.of(use))

    def against_claim(self, claimed: float, among: NDArray[np.bool_] | None = None) -> float:
        """Two-sided probability of an accuracy so far from a claimed one."""
        use = self.evaluated_among(among)
        return against_claim(self.right[use], claimed, None if self.units is None else self.units.of(use), self.alike)

    def one_versus_rest(self, use: NDArray[np.integer]) -> OneVersusRest:
        """Each class against the rest over some evaluated images, some columns at a time so that not all are held."""
        if self.kind == "logits" and self.rows.shape[1] > 1:
            return LogOdds(self.rows, use, self.labels[use]).one_versus_rest()
        by_label = images_by_label(self.labels[use], self.classes)
        if self.rows.shape[1] == 1:  # of two classes one score: its log-odds
            p = self.rows[use, 0].astype(np.float64)
            with np.errstate(divide="ignore"):
                odds = p if self.kind == "logits" else np.log(p) - np.log1p(-p)
            return over_classes(
                [of_class(odds if k else -odds, by_label[k], log_odds=True) for k in range(self.classes)]
            )

        def measured(first: int) -> list[OfClass]:
            # Some columns at a time: as many scores as stand side by side in one line of the processor's cache.
            some = range(first, min(first + 16, self.classes))
            block = np.ascontiguousarray(self.rows[use, some.start : some.stop].T, float)
            return [of_class(column, by_label[k]) for k, column in zip(some, block, strict=True)]

        with ThreadPoolExecutor(os.cpu_count()) as pool:
            return over_classes([one for some in pool.map(measured, range(0, self.classes, 16)) for one in some])

    def column(self, k: int, use: NDArray[np.integer]) -> NDArray[np.float64]:
        """One class's probabilities of some images, without holding all classes' at once."""
        step = max(1, PIECE // self.classes)
        parts = [self.probabilities(use[start : start + step])[:, k] for start in range(0, len(use), step)]
        return np.concatenate(parts) if parts else np.zeros(0)

    def logits(self, use: NDArray[np.integer]) -> NDArray[np.floating]:
        """Logits of some images; from probabilities, their logarithms."""
        if self.kind == "logits" and self.rows.shape[1] > 1:
            return self.rows[use]
        return np.log(np.clip(self.probabilities(use), SMALLEST, 1.0))
