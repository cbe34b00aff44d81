"""What the figures of a report mean, each with its source; those that the report shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Finding
from mivrat.core.figures.metrics import METRICS


@dataclass(frozen=True)
class Definition:
    """A term, what it means, and where that comes from."""

    term: str
    meaning: str
    source: str = ""


def definitions(
    ground: EvaluationContext, *, has_groups: bool = False, compared: bool = False, findings: Sequence[Finding] = ()
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
    judged, calibrated = ground.snapshot.judged, ground.snapshot.figures.calibration.ece is not None
    for one in METRICS:
        known = {
            "scores": judged.has_scores,
            "confidence": calibrated,
            "": one.key != "family_accuracy" or record.families,
        }
        if one.in_report and known[one.needs]:
            yield Definition(one.name, one.meaning, one.source)
    if judged.has_scores:
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
    if any(one.claim.kind == "estimate" for one in findings):
        yield Definition(
            "Estimate from labels",
            "images were drawn by chance within strata of the model's confidence, more where it is in doubt, and labelled; the figure of the whole pool is the mean of the strata, each by its share of the pool, with its 95 % interval",
            "J. Neyman, Journal of the Royal Statistical Society 97 (1934); ratios by linearisation on the logit",
        )
    if any(one.claim.kind == "strain" for one in findings):
        yield Definition(
            "Strain test",
            "every photo is distorted in the same way and by the same level, prepared and scored again; lengths are in pixels of the prepared image",
            "after D. Hendrycks, T. Dietterich, ICLR 2019",
        )
    if any(picture.heat for one in findings for picture in one.pictures):
        yield Definition(
            "Heatmap",
            "gradient-weighted class activation map of the predicted class, at the last layer with places; divided by its own maximum",
            "R. R. Selvaraju and others, ICCV 2017",
        )
