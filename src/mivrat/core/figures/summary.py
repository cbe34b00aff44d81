"""All figures of one run in one frozen record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from mivrat.core.figures import calibration as cal
from mivrat.core.figures import confusion, probability
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.outcomes import Outcomes
from mivrat.core.figures.ranked import OneVersusRest, auroc_ends, average_precision_ends
from mivrat.core.figures.tally import Tally


@dataclass(frozen=True)
class Figures:
    """Every figure of one run over its N labelled, scored images. Probability figures are None where N is 0."""

    total: int
    ties: int
    top_k: dict[int, Proportion]
    matrix: confusion.Counts
    classes: list[confusion.ClassFigures]
    averages: dict[str, float | None]
    log_loss: probability.LogLoss | None
    brier: float | None
    calibration: cal.Calibration
    auroc: list[float | None]
    average_precision: list[float | None]
    classwise_ece: float | None
    # Of each class, what the interval of its AUROC takes; NaN where it is not known.
    spread: list[float] = field(default_factory=list)

    @property
    def undefined_precision(self) -> int:
        """How many classes with images are never predicted."""
        return sum(one.support > 0 and one.precision.value is None for one in self.classes)

    def ranked_ends(self, figure: str, k: int) -> tuple[float, float] | None:
        """The 95 % interval of a class's ``auroc`` or ``average_precision``; None where it is undefined, images are too few, or they belong
        together: none is known over units."""
        one = self.classes[k]
        if one.recall.units is not None or not self.spread:
            return None
        others = self.total - one.support
        if figure == "auroc":
            return auroc_ends(self.auroc[k], self.spread[k], one.support, others)
        return average_precision_ends(self.average_precision[k], one.support, others)


def sensible_ks(classes: int) -> list[int]:
    """Top-k values that suit so many classes: 1, and 3 or 5 where they are fewer than the classes."""
    return [1] + [k for k in (3, 5) if k < classes]


def summarise(found: Outcomes, classes: int, ks: Sequence[int], ranked: OneVersusRest | None = None) -> Figures:
    """All figures of N outcomes over so many classes; those that need more than was told are None.

    Without ``ranked`` AUROC and average precision are lists of None: they cost a sort per class. Where only predictions
    are known there is no log loss, no Brier score and, beyond top-1, no top-k accuracy.
    """
    return figures_of(Tally.of(found, classes), ks, ranked)


def figures_of(tally: Tally, ks: Sequence[int], ranked: OneVersusRest | None = None) -> Figures:
    """All figures that a tally holds; ``ranked`` adds those that take every class's column of probabilities."""
    nothing: list[float | None] = [None] * len(tally.matrix)
    return Figures(
        total=tally.total,
        ties=tally.ties,
        top_k=tally.top_k(ks),
        matrix=tally.matrix,
        classes=confusion.class_figures(tally.matrix),
        averages=confusion.averages(tally.matrix),
        log_loss=tally.log_loss(),
        brier=tally.brier(),
        calibration=tally.calibration(),
        auroc=ranked.auroc if ranked else nothing,
        average_precision=ranked.average_precision if ranked else nothing,
        classwise_ece=ranked.classwise_ece if ranked else None,
        spread=ranked.spread if ranked else [],
    )
