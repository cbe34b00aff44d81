"""Makes findings from what is on screen, and checks them again on any run."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import date

import numpy as np

from mivrat import __version__
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.concluding.criteria import compared, hold_requirement
from mivrat.core.concluding.criterion_words import in_plain_words
from mivrat.core.concluding.estimate_claims import estimated
from mivrat.core.concluding.evaluation_context import EvaluationContext, RunSummary
from mivrat.core.concluding.findings import (
    Beside,
    Checked,
    Draft,
    Finding,
    FindingClaim,
    FindingOrigin,
    FindingState,
    Measure,
    new_finding_id,
)
from mivrat.core.concluding.formatting import measure_told
from mivrat.core.concluding.requirements import parse_criterion
from mivrat.core.concluding.shares import measured_share, read
from mivrat.core.concluding.strain_claims import read_strain_claim, strained
from mivrat.core.concluding.verdict_rules import excess, state_of
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.metrics import metric
from mivrat.core.pictures.recipe import canonical
from mivrat.core.region_masking.cover_test import CoverPlan, CoverTest, plan_from_text, run_cover_test


def made_on(ground: EvaluationContext, seed: int = 0, day: date | None = None) -> FindingOrigin:
    """What a finding made now is made on."""
    record, standing = ground.snapshot.record, ground.standing
    return FindingOrigin(
        ground.model,
        record.info.model,
        canonical(record.recipe),
        ground.images,
        record.info.image_set,
        ground.snapshot.counts.evaluated,
        (day or date.today()).isoformat(),
        __version__,
        seed,
        standing.top1.value,
        standing.balanced,
        standing.low,
        standing.high,
        record.model_sha256,
    )


def finding_of(draft: Draft, before: Measure, ground: EvaluationContext) -> Finding:
    """The finding that a draft makes, with what its claim comes to on the run it is made on."""
    seed = 0
    if draft.claim.kind == "cover":
        seed = plan_from_text(draft.claim.text, ground.names).seed
    elif draft.claim.kind == "strain":
        seed = read_strain_claim(draft.claim)[2]
    return Finding(
        new_finding_id(),
        draft.title,
        draft.sentence,
        draft.weight,
        draft.claim,
        replace(made_on(ground, seed), looks=draft.looks),
        before,
        draft.pictures,
        confirmed=draft.confirmed,
    )


def measure(claim: FindingClaim, ground: EvaluationContext) -> Iterator[Progress | Measure]:
    """What a claim comes to under a run, at last, after progress; of a claim that cannot be asked of it, why. Nothing where it was
    stopped."""
    try:
        if claim.kind == "share":
            yield measured_share(read(claim.conditions, ground), ground)
        elif claim.kind == "criterion":
            yield _criterion(claim, ground)
        elif claim.kind == "difference":
            yield _difference(claim, ground)
        elif claim.kind == "strain":
            yield from strained(claim, ground)
        elif claim.kind == "labels":
            yield _labels(claim, ground)
        elif claim.kind == "estimate":
            yield estimated(claim, ground)
        else:
            yield from _covered(claim, ground)
    except InputError as error:
        yield Measure("", None, problem=f"{error.what}{f' ({error.where})' if error.where else ''}")


def check_finding(finding: Finding, ground: EvaluationContext) -> Iterator[Progress | Checked]:
    """What has become of a finding under a run, at last, after progress; nothing where it was stopped."""
    for event in measure(finding.claim, ground):
        if isinstance(event, Measure):
            same = (finding.made.model, finding.made.images) == (ground.model, ground.images)
            # Labels do not depend on how a model answers.
            standing = None if finding.claim.kind == "labels" else ground.standing
            state, why = state_of_finding(finding, event, standing, same)
            yield Checked(state, why, event, ground.model, ground.images)
        else:
            yield event


def state_of_finding(
    finding: Finding, after: Measure, standing: RunSummary | None, same: bool
) -> tuple[FindingState, str]:
    """The state of a finding and why; ``same``: on the very model and images it was found on."""
    before, made = (finding.before, finding.made) if same else finding.basis
    return state_of(before, after, made, standing, same)


def told_confirmed(finding: Finding) -> str:
    """Whether the other half confirms a finding, in words; empty where it was not asked."""
    half = finding.confirmed
    if half is None:
        return ""
    if half.problem or half.value is None:
        return f"not confirmed on the other half: {half.problem or 'the figure is undefined there'}"
    stands = excess(half)
    said = "confirmed" if stands is not None and stands.low > 0 else "not confirmed"
    against = f" against {measure_told(half, beside=True)} ({half.beside.name})" if half.beside is not None else ""
    return f"{said} on the other half: {measure_told(half)}{against}"


def _criterion(claim: FindingClaim, ground: EvaluationContext) -> Measure:
    wanted = parse_criterion(claim.text, ground.classes)
    found = hold_requirement(wanted, ground)
    met = {"met": True, "missed": False, "inconclusive": None}[found.verdict]
    share = found.share
    return Measure(
        in_plain_words(wanted, ground.classes),
        found.value,
        found.low,
        found.high,
        share.hits if share is not None else None,
        share.total if share is not None else None,
        1 if wanted.at_most else -1,
        percent=metric(wanted.figure).in_percent,
        points=wanted.of_difference,
        limit=wanted.limit,
        met=met,
        problem=found.problem,
    )


def _difference(claim: FindingClaim, ground: EvaluationContext) -> Measure:
    """A run behind another one: its figure less that one's; of the other one itself there is nothing between them."""
    wanted = parse_criterion(claim.text, ground.classes)
    name = wanted.against_model.rpartition("#")[0]
    words = f"{claim_figure(claim.text)}, less that of {name}"
    bad = 1 if wanted.at_most else -1
    percent = metric(wanted.figure).in_percent
    if ground.is_model(wanted.against_model):
        raise InputError(f"it is a difference to {name}, and this is {name} itself", hint="check it on another model")
    found = replace(wanted, bound=None).against_difference(compared(ground, wanted.against_model))
    return Measure(
        words, found.value, found.low, found.high, bad=bad, percent=percent, points=True, problem=found.problem
    )


def claim_figure(text: str) -> str:
    """The figure that a requirement on a difference is of."""
    inside = text[text.index("difference(") + len("difference(") :]
    return inside[: inside.rindex(', "')]


def _labels(claim: FindingClaim, ground: EvaluationContext) -> Measure:
    """How many of the images still carry the label that was found wrong."""
    there = still = 0
    judged, classes = ground.snapshot.judged, ground.classes
    for image, label, _ in claim.labels:
        at = ground.names.position(image)
        if at is None or not image.content:
            continue
        there += 1
        k = int(judged.labels[at])
        still += k >= 0 and classes[k] == label
    words = "wrong labels that are still there"
    if not there:
        return Measure(words, None, problem="none of these images is in this set")
    share = still / there
    return Measure(words, share, share, share, still, there)


def images_of(claim: FindingClaim, ground: EvaluationContext) -> CoverPlan:
    """A cover test's plan for a run: on the very images it was of, else on those that its rule tells. InputError where there are
    none of either."""
    try:
        return plan_from_text(claim.text, ground.names)
    except InputError:
        if not claim.conditions:
            raise
    if json.loads(claim.text)["region"]["place"] == "hottest":
        raise InputError(
            "the region is known only as the hottest part of the images it was found on, which are not in this set: on other images that "
            "is another claim",
            hint="draw the region, or give it by its colour or by what it is like, and test that",
        )
    found = np.ones(len(ground.snapshot.judged.labels), bool)
    for one in read(claim.conditions, ground):
        found &= one.mask(ground.snapshot.judged)
    images = tuple(np.flatnonzero(found & ground.snapshot.judged.evaluated).tolist())
    if not images:
        raise InputError("this set has neither the images of the cover test nor any that its rule selects")
    return replace(plan_from_text(_without_images(claim.text), ground.names), images=images)


def _without_images(text: str) -> str:
    data = json.loads(text)
    if data["region"]["place"] == "each":
        raise InputError("regions were drawn on single images, which are not in this set")
    return json.dumps({**data, "images": []})


def _covered(claim: FindingClaim, ground: EvaluationContext) -> Iterator[Progress | Measure]:
    plan = images_of(claim, ground)
    record = ground.snapshot.record
    if not record.kind.can.scores:
        raise InputError(record.kind.lacks("A cover test needs"))
    content = plan.region.model
    with ground.maker() as maker:
        if content in ("", record.model_sha256):
            tests = run_cover_test(ground.classes, record.image_set, plan, maker, maker)
            yield from _of_tests(tests)
            return
        with ground.heat_of(content) as heat:
            yield from _of_tests(run_cover_test(ground.classes, record.image_set, plan, maker, heat))


def _of_tests(tests: Iterator[Progress | CoverTest]) -> Iterator[Progress | Measure]:
    for event in tests:
        if not isinstance(event, CoverTest):
            yield event
        elif not current_stop().stopped:
            yield measure_of_cover(event.result)


def measure_of_cover(result: CoverResult) -> Measure:
    """What a cover test came to, beside the same area hidden elsewhere."""
    region, control = result.region.changed, result.control.changed
    return Measure(
        "answers changed",
        region.value,
        region.low,
        region.high,
        region.hits,
        region.total,
        beside=Beside("elsewhere", control.value, control.low, control.high, control.hits, control.total),
        p=result.p,
        problem="" if region.total else "none of the images could be covered",
    )


def labels_claim(positions: Sequence[int], ground: EvaluationContext) -> FindingClaim:
    """The claim that these images, for which another label is proposed, are labelled wrong."""
    found = []
    for i in positions:
        proposed, label = ground.reviews[i].label, int(ground.snapshot.judged.labels[i])
        if proposed is not None:
            found.append((ground.names[i], ground.classes[label] if label >= 0 else "", ground.classes[proposed]))
    return FindingClaim("labels", labels=tuple(found))
