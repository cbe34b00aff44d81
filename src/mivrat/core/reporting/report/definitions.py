"""What the figures of a report mean, each with its source; those that the report shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mivrat.core.concluding.findings import Finding
from mivrat.core.concluding.ground import Ground


@dataclass(frozen=True)
class Definition:
    """A term, what it means, and where that comes from."""

    term: str
    meaning: str
    source: str = ""


def definitions(
    ground: Ground, *, has_groups: bool = False, compared: bool = False, findings: Sequence[Finding] = ()
) -> Iterator[Definition]:
    """The terms that a report on this run takes."""
    record = ground.snapshot.record
    yield Definition(
        "Top-k accuracy",
        "the share of labelled, scored images whose labelled class is among the k classes with the highest scores; of equal scores the class that stands first in the list counts as higher",
    )
    yield Definition(
        "95 % interval of a share",
        "Wilson's score interval",
        "E. B. Wilson, Journal of the American Statistical Association 22 (1927)",
    )
    if record.image_set.unit_column:
        yield Definition(
            "Interval over units",
            "related images count as fewer than they are: the effective number by the design effect, Wilson's interval at that with Student's t",
            "E. L. Korn, B. I. Graubard, Survey Methodology 24 (1998)",
        )
    yield Definition("Recall", "of the images labelled with a class, the share predicted so")
    yield Definition(
        "Precision",
        "of the images predicted as a class, the share labelled so; undefined where nothing is predicted so",
    )
    yield Definition(
        "F1",
        "2 TP / (2 TP + FP + FN); macro: the mean over classes with labelled images, weighted: the mean weighted by their number",
    )
    yield Definition("Balanced accuracy", "the mean of recall over the classes with labelled images")
    if record.families:
        yield Definition(
            "Accuracy within family", "the share of images predicted as some class of the labelled class's family"
        )
    yield Definition(
        "Cohen's kappa, Matthews correlation",
        "agreement beyond chance, from 0 (chance) to 1",
        "J. Cohen, Educational and Psychological Measurement 20 (1960); J. Gorodkin, Computational Biology and Chemistry 28 (2004)",
    )
    if ground.snapshot.judged.has_scores:
        yield Definition(
            "Log loss", "the mean of −ln of the probability given to the labelled class, that clipped to at least 2⁻⁵²"
        )
        yield Definition(
            "Brier score",
            "the mean over images of the sum over classes of (probability − 1 for the labelled class, 0 for others)²",
            "G. W. Brier, Monthly Weather Review 78 (1950)",
        )
        yield Definition(
            "AUROC, average precision", "each class against the rest, averaged over the classes where they are defined"
        )
        yield Definition(
            "Expected calibration error (ECE)",
            "images are put into bins of equal width by confidence; the mean over images of how far accuracy and mean confidence of their bin lie apart. It is above 0 even for a perfectly calibrated model, so that figure is shown beside it",
            "M. P. Naeini and others, AAAI 2015; C. Guo and others, ICML 2017",
        )
        yield Definition(
            "Temperature",
            "the one number by which dividing the scores makes confidence fit best; the gain is computed out of fold",
            "C. Guo and others, ICML 2017",
        )
        yield Definition(
            "Intervals of metrics other than proportions",
            "what leaving out one image (or unit) at a time does to the figure gives its variance, that an effective number of images, and that Wilson's interval; log loss and Brier score by a score interval with their skewness",
            "J. W. Tukey, Annals of Mathematical Statistics 29 (1958), E. L. Korn and B. I. Graubard, Journal of Official Statistics 14 (1998), and N. J. Johnson, Journal of the American Statistical Association 73 (1978)",
        )
    if has_groups:
        yield Definition(
            "p of a group",
            "the exact probability of so low an accuracy if the group were like the rest, corrected for the number of groups",
            "R. A. Fisher 1935; S. Holm, Scandinavian Journal of Statistics 6 (1979)",
        )
    if compared:
        yield Definition(
            "Difference",
            "always the candidate less the baseline; on the same images by Newcombe's paired interval and McNemar's exact test",
            "R. G. Newcombe, Statistics in Medicine 17 (1998); Q. McNemar, Psychometrika 12 (1947)",
        )
    yield Definition(
        "Met, missed, inconclusive",
        "a criterion is met where the whole 95 % interval of its figure meets it, missed where the whole interval misses it, and inconclusive where the interval contains the limit, so that more images are needed",
    )
    if findings:
        yield Definition(
            "Gone, weaker, holds, worse, inconclusive",
            "gone: significantly less than where it was found, and no longer different from what it is compared with (the other images, the same area hidden elsewhere), or, of a criterion, met. Weaker: significantly less, but still there. Holds: unchanged, or no significant change and still different from what it is compared with. Worse: significantly more. Inconclusive: otherwise, and where the run is worse as a whole",
            "changes by Newcombe's interval, Statistics in Medicine 17 (1998)",
        )
    if any(one.claim.kind == "cover" for one in findings):
        yield Definition(
            "Cover test",
            "a part of each image is hidden and the model asked again; as a control, the same area elsewhere in the image",
            "after M. D. Zeiler, R. Fergus, ECCV 2014",
        )
    if any(picture.heat for one in findings for picture in one.pictures):
        yield Definition(
            "Heatmap",
            "gradient-weighted class activation map of the predicted class, at the last layer with places; divided by its own maximum",
            "R. R. Selvaraju and others, ICCV 2017",
        )
