"""Claims about a whole pool of images, estimated from the labels of some that chance has drawn; asked again of any model."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pydantic import BaseModel, ConfigDict

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import count, images
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import FindingClaim, Measure, met_at_least
from mivrat.core.concluding.labelling import LabelSample, SampleRow, estimate_from_labels, wanted_figure
from mivrat.core.pictures.image_names import ImageNames

# Of these the pool is the same whatever a model answers, so that the same labels tell of the next one, too.
REPEATABLE = ("top1", "recall")


class _Claim(BaseModel):
    """The figure, the pool's images of each stratum, the stratum of each label, and what is asked for at least."""

    model_config = ConfigDict(strict=True, extra="forbid")
    figure: str
    strata: list[int]
    stratum: list[int]
    limit: float | None = None


def estimate_claim(
    found: LabelSample, labels: Mapping[int, int], names: ImageNames, classes: Sequence[str], limit: float | None = None
) -> FindingClaim:
    """The claim that a figure of the pool is what the labels of a list say (by place in the list, every one); with a ``limit``, that it is
    at least so much. InputError for a figure that is of other images under another model."""
    if found.wanted.figure not in REPEATABLE:
        raise InputError(
            f"{found.wanted.name} is of other images under another model",
            where="finding",
            hint="estimate accuracy or the recall of a class",
        )
    told = _Claim(
        figure=found.wanted.text,
        strata=[one.pool for one in found.strata],
        stratum=found.stratum.tolist(),
        limit=limit,
    )
    given = tuple((names[i], "", classes[labels[place]]) for place, i in enumerate(found.listed.tolist()))
    return FindingClaim("estimate", told.model_dump_json(), labels=given)


def estimated(claim: FindingClaim, ground: EvaluationContext) -> Measure:
    """What the labels say of this run's model. The strata are those of the model that the list was drawn for: for another one the estimate is
    as valid, and its interval wider or narrower. InputError where labelled images are not among the run's, or have no answer."""
    try:
        told = _Claim.model_validate_json(claim.text)
        if len(told.stratum) != len(claim.labels) or not all(0 <= h < len(told.strata) for h in told.stratum):
            raise ValueError("labels and strata do not go together")
    except ValueError as error:
        raise InputError("the claim is not one of an estimate", hint="remove the finding and add it again") from error
    wanted, judged = wanted_figure(told.figure, ground.classes), ground.snapshot.judged
    at = {name: k for k, name in enumerate(ground.classes)}
    rows, labels, missing = list[SampleRow](), dict[int, int](), 0
    for place, (image, _, label) in enumerate(claim.labels):
        i = ground.names.position(image)
        if i is None or judged.state[i] != SCORED or label not in at:
            missing += 1
            continue
        rows.append(SampleRow(told.stratum[place], int(judged.predicted[i])))
        labels[len(rows) - 1] = at[label]
    if missing:
        raise InputError(
            f"{count(missing)} of the {count(len(claim.labels))} labelled images are not in this set, or have no answer",
            hint="check it on a run over the pool that they were drawn from",
        )
    found = estimate_from_labels(wanted, told.strata, 0, rows, labels)
    words = f"{wanted.name} over {images(sum(told.strata))}, estimated from {count(len(rows))} labels drawn by chance within strata"
    return Measure(
        words,
        found.value,
        found.low,
        found.high,
        bad=-1,
        limit=told.limit,
        met=met_at_least(found.low, found.high, told.limit),
        problem="" if found.value is not None else "no labelled image counts for this figure",
    )
