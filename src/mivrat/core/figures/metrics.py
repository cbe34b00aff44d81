"""Every figure in one record: its name, what it means, how it is computed, its unit, its interval, and what can be asked of it.

Window, report, criteria, comparison, JSON and help go through ``METRICS``: a new figure takes one record here, and its test.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from mivrat.core.figures.intervals import Proportion
    from mivrat.core.figures.summary import Figures

Numbers = NDArray[np.float64]
Value = "Proportion | float | None"
# What it is counted in: a share in percent, a difference of shares in points, a plain number, or images.
Unit = Literal["%", "points", "number", "images"]


@dataclass(frozen=True)
class Counted:
    """How a figure follows from counts by class: ``parts`` of a class, from its labelled, predicted and correct images (arrays of any
    shape); ``whole`` from the sums of these parts over classes, the number of classes with labelled images, and N.

    From it come the figure itself, what it is without one image or one unit, and so its interval.
    """

    parts: Callable[[Numbers, Numbers, Numbers], tuple[Numbers, ...]]
    whole: Callable[[Sequence[Numbers], Numbers, Numbers], Numbers]
    # A mean over classes, to which each class with images adds the same; by its predicted images instead of its labelled ones.
    over_classes: bool = False
    by_predicted: bool = False
    # Measured from chance (0) on: it can be negative.
    from_chance: bool = False


@dataclass(frozen=True)
class Metric:
    """One figure.

    ``read`` gives it for all images, ``of_class`` for one class, by its number. ``interval`` says how its interval is made where it is no
    share (those of shares are Wilson's); empty where there is none. ``remark`` is what is to be known of it on these very images.
    """

    key: str
    name: str
    meaning: str
    unit: Unit = "%"
    source: str = ""
    # As it is called in a narrow column; the name, without its capital, where there is no shorter one.
    short: str = ""
    lower_is_better: bool = False
    counted: Counted | None = None
    read: Callable[[Figures], Proportion | float | None] | None = None
    of_class: Callable[[Figures, int], Proportion | float | None] | None = None
    interval: str = ""
    needs: Literal["", "scores", "confidence"] = ""
    # Where it is shown beside being in every file of results.
    in_headline: bool = False
    in_report: bool = False
    # Whether the difference of two runs is computed, and whether it can be asked of the classes of a family, or of every class.
    compared: bool = False
    of_family: bool = False
    of_every: bool = False
    remark: Callable[[Figures], str] = lambda figures: ""

    @property
    def called(self) -> str:
        """What it is called within a sentence or a narrow column."""
        return self.short or (self.name if self.name[:2].isupper() else self.name[:1].lower() + self.name[1:])

    @property
    def in_percent(self) -> bool:
        """Whether it is written in percent, and its differences in points."""
        return self.unit in ("%", "points")


def _share(hits: Numbers, total: Numbers) -> Numbers:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(total > 0, hits / total, 0.0)


def _mean(sums: Sequence[Numbers], classes: Numbers, total: Numbers) -> Numbers:
    return sums[0] / classes


def _recall(labelled: Numbers, predicted: Numbers, correct: Numbers) -> tuple[Numbers, ...]:
    return (_share(correct, labelled),)


def _precision(labelled: Numbers, predicted: Numbers, correct: Numbers) -> tuple[Numbers, ...]:
    return (np.where(labelled > 0, _share(correct, predicted), 0.0),)


def _f1(labelled: Numbers, predicted: Numbers, correct: Numbers) -> tuple[Numbers, ...]:
    return (np.where(labelled > 0, _share(2 * correct, labelled + predicted), 0.0),)


def _weighted_f1(labelled: Numbers, predicted: Numbers, correct: Numbers) -> tuple[Numbers, ...]:
    return (_f1(labelled, predicted, correct)[0] * labelled,)


def _products(labelled: Numbers, predicted: Numbers, correct: Numbers) -> tuple[Numbers, ...]:
    return correct, labelled * predicted, labelled * labelled, predicted * predicted


def _kappa(sums: Sequence[Numbers], classes: Numbers, total: Numbers) -> Numbers:
    correct, both, *_ = sums
    chance = both / total**2
    return (correct / total - chance) / (1 - chance)


def _correlation(sums: Sequence[Numbers], classes: Numbers, total: Numbers) -> Numbers:
    correct, both, labelled, predicted = sums
    return (correct * total - both) / np.sqrt((total**2 - predicted) * (total**2 - labelled))


_JACKKNIFE = "a jackknife that leaves out one image at a time, as an effective number of images (Wilson)"
_SCORE = "a score interval with its skewness (Johnson)"


def _left_out(figures: Figures) -> str:
    missing = sum(one.support == 0 for one in figures.classes)
    return f"{missing} classes without images are left out." if missing else ""


def _undefined(figures: Figures) -> str:
    undefined = figures.undefined_precision
    return f"Precision is undefined for {undefined} of them." if undefined else ""


def _clipped(figures: Figures) -> str:
    clipped = figures.log_loss.clipped if figures.log_loss is not None else 0
    return f"{clipped} images had p below 2⁻⁵² and were counted as 2⁻⁵²." if clipped else ""


def _average(key: str) -> Callable[[Figures], float | None]:
    return lambda figures: figures.averages[key]


# fmt: off
METRICS: tuple[Metric, ...] = (
    Metric(
        "balanced_accuracy", "Balanced accuracy", "mean recall over the classes that have images",
        counted=Counted(_recall, _mean, over_classes=True), read=_average("balanced_accuracy"), interval=_JACKKNIFE,
        in_headline=True, in_report=True, compared=True, remark=_left_out,
    ),
    Metric(
        "macro_precision", "Macro precision", "mean precision over the classes that have images; an undefined one counts as 0",
        counted=Counted(_precision, _mean, over_classes=True, by_predicted=True), read=_average("macro_precision"),
        interval=_JACKKNIFE, remark=_undefined,
    ),
    Metric(
        "macro_recall", "Macro recall", "mean recall over the classes that have images, which is the balanced accuracy",
        counted=Counted(_recall, _mean, over_classes=True), read=_average("macro_recall"), interval=_JACKKNIFE,
    ),
    Metric(
        "macro_f1", "Macro F1", "mean F1 over the classes that have images; an undefined F1 counts as 0",
        counted=Counted(_f1, _mean, over_classes=True), read=_average("macro_f1"), interval=_JACKKNIFE,
        in_headline=True, in_report=True, compared=True, remark=_undefined,
    ),
    Metric(
        "weighted_f1", "Weighted F1", "mean F1 over classes, weighted by their images",
        counted=Counted(_weighted_f1, lambda sums, classes, total: sums[0] / total), read=_average("weighted_f1"),
        interval=_JACKKNIFE, in_report=True,
    ),
    Metric(
        "cohen_kappa", "Cohen's kappa", "agreement of labels and predictions beyond chance: 0 is chance, 1 is perfect", "number",
        "J. Cohen, Educational and Psychological Measurement 20 (1960)", "Cohen's kappa",
        counted=Counted(_products, _kappa, from_chance=True), read=_average("cohen_kappa"), interval=_JACKKNIFE, in_report=True,
    ),
    Metric(
        "mcc", "Matthews correlation", "multiclass correlation of labels and predictions: 0 is chance, 1 is perfect", "number",
        "J. Gorodkin, Computational Biology and Chemistry 28 (2004)", "MCC",
        counted=Counted(_products, _correlation, from_chance=True), read=_average("mcc"), interval=_JACKKNIFE,
        in_headline=True, in_report=True,
    ),
    Metric(
        "log_loss", "Log loss", "mean of −ln p of the labelled class, in nats, with p at least 2⁻⁵²; lower is better", "number",
        lower_is_better=True, read=lambda f: f.log_loss.value if f.log_loss else None, interval=_SCORE, needs="scores",
        in_headline=True, in_report=True, compared=True, remark=_clipped,
    ),
    Metric(
        "brier", "Brier score",
        "mean over images of the squared error of all class probabilities, from 0 to 2; lower is better", "number",
        "G. W. Brier, Monthly Weather Review 78 (1950)", "Brier score",
        lower_is_better=True, read=lambda f: f.brier, interval=_SCORE, needs="scores", in_headline=True, in_report=True,
        compared=True,
    ),
    Metric(
        "ece", "Expected calibration error",
        "mean gap between confidence and accuracy over bins of equal width, weighted by images. It reads too high at small N", "%",
        "M. P. Naeini and others, AAAI 2015; C. Guo and others, ICML 2017", "ECE",
        lower_is_better=True, read=lambda f: f.calibration.ece,
        interval="all true values for which an ECE this large is not unusual, corrected for its bias at this N",
        needs="confidence", in_report=True, in_headline=True, compared=True,
    ),
    Metric(
        "mce", "Largest gap of a bin", "the largest gap between confidence and accuracy in a bin", lower_is_better=True,
        read=lambda f: f.calibration.mce, needs="confidence", in_report=True,
    ),
    Metric(
        "signed_gap", "Mean confidence minus accuracy", "above 0: overconfident, below 0: underconfident", "points",
        lower_is_better=True, read=lambda f: f.calibration.signed_gap,
        interval="Wilson's of the accuracy, joined with that of the mean confidence", needs="confidence", in_report=True,
    ),
    Metric("evaluated", "Number of images judged", "labelled images that were scored", "images", read=lambda f: f.total),
    Metric(
        "family_accuracy", "Accuracy within family", "share of images predicted as some class of the labelled class's family",
        in_report=True,
    ),
    Metric(
        "recall", "Recall", "of the images labelled with a class, the share predicted as it",
        in_report=True, of_class=lambda f, k: f.classes[k].recall, of_family=True, of_every=True, compared=True,
    ),
    Metric(
        "precision", "Precision", "of the images predicted as a class, the share labelled so; undefined where there are none",
        in_report=True, of_class=lambda f, k: f.classes[k].precision, of_family=True, of_every=True, compared=True,
    ),
    Metric(
        "specificity", "Specificity", "of the images of other classes, the share not predicted as this class",
        of_class=lambda f, k: f.classes[k].specificity,
    ),
    Metric("f1", "F1", "2 TP / (2 TP + FP + FN)", in_report=True, of_class=lambda f, k: f.classes[k].f1_share),
    Metric(
        "auroc", "AUROC", "the probability that an image of the class scores higher than one of the others; of ties, half", "number",
        in_report=True, of_class=lambda f, k: f.auroc[k], needs="scores",
    ),
    Metric(
        "average_precision", "Average precision", "the mean over a class's images of the precision at their scores", "number",
        in_report=True, of_class=lambda f, k: f.average_precision[k], needs="scores",
    ),
    Metric(
        "support", "Number of images", "labelled, scored images of a class", "images", of_class=lambda f, k: f.classes[k].support,
        of_family=True,
    ),
)
# fmt: on
BY_KEY = {one.key: one for one in METRICS}
# Those that follow from counts by class, and those of all images that have an interval without being shares.
COUNTED = tuple(one for one in METRICS if one.counted is not None)
WITH_INTERVAL = tuple(one for one in METRICS if one.interval)
OVER_CLASSES = tuple(one.key for one in COUNTED if one.counted is not None and one.counted.over_classes)


# Only asked for, in criteria: it takes thresholds from other images, and is not among the figures of every run.
COVERAGE = Metric(
    "coverage",
    "Coverage of prediction sets",
    "share of images whose label is in their prediction set, thresholds taken from the other folds (Vovk 2005)",
    needs="scores",
)


def metric(key: str) -> Metric:
    """The record of a figure, also of ``top3`` and the like, and of ``coverage``. Raises KeyError for an unknown one.

    >>> metric("top3").name, metric("ece").called, metric("mcc").in_percent
    ('Top-3 accuracy', 'ECE', False)
    """
    if key.startswith("top") and key[3:].isdigit():
        k = int(key[3:])
        meaning = (
            "share of images whose highest score is the labelled class's"
            if k == 1
            else f"share of images whose labelled class is among the {k} highest scores"
        )
        return Metric(
            key, f"Top-{k} accuracy", meaning, read=lambda f: f.top_k[k], compared=True, needs="scores" if k > 1 else ""
        )
    return COVERAGE if key == COVERAGE.key else BY_KEY[key]
