"""Conclusions of a study: its findings and criteria, held against a run with the study's other runs and models to look into."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, Stopped, current_stop
from mivrat.core.base.text import plural
from mivrat.core.concluding.checking import check_finding, finding_of, measure, state_of_finding
from mivrat.core.concluding.criteria import Criterion, criteria_of
from mivrat.core.concluding.evaluation_context import EvaluationContext, model_hash
from mivrat.core.concluding.findings import Checked, Draft, Finding, Measure, checked_from, checked_text, from_text
from mivrat.core.concluding.requirements import REFERENCE
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.pictures.subsets import other_half
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.selecting.measures import Measures, measures_of
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import StudyImage, image_of_study, list_image_sets
from mivrat.core.study.kept_findings import load_check, load_findings, save_check
from mivrat.core.study.kept_strains import load_strains
from mivrat.core.study.models import id_of_model, model_with_content
from mivrat.core.study.records import RunKey
from mivrat.core.study.reviews import load_reviews
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_criteria


def read_findings(path: Path) -> tuple[tuple[Finding, ...], int]:
    """The findings a study keeps, and how many of its texts cannot be read."""
    found, lost = [], 0
    with Study.open(path, again=True) as study:
        for one in load_findings(study):
            try:
                found.append(from_text(one.id, one.data))
            except InputError:
                lost += 1
    return tuple(found), lost


def run_on_same_images(study: Study, set_id: int, reference: str) -> Snapshot | None:
    """The run of the model that a reference names on an image set; None where there is none."""
    wanted = reference.rpartition("#")[2]
    for info in list_runs(study):
        if info.set_id == set_id:
            record = load_run(study, info.id, with_answers=False)
            if wanted and model_hash(record.model_sha256, record.recipe)[:REFERENCE] == wanted:
                return take_snapshot(*load_judged(study, info.id))
    return None


def ground_of(path: Path, snapshot: Snapshot, makers: MakerPool) -> EvaluationContext:
    """A run as criteria and findings are held against it, with the study's other runs and models to look into."""
    known: dict[str, Snapshot | None] = {}
    set_id = snapshot.record.info.set_id
    with Study.open(path, again=True) as study:
        reviews = load_reviews(study, set_id)

    def other(reference: str) -> Snapshot | None:
        if reference not in known:
            with Study.open(path, again=True) as study:
                known[reference] = run_on_same_images(study, set_id, reference)
        return known[reference]

    def model_at(content: str) -> Path | None:
        with Study.open(path, again=True) as study:
            model = model_with_content(study, content)
        return model.path if model is not None else None

    @cache
    def elsewhere(name: ImageName) -> StudyImage | None:
        with Study.open(path, again=True) as study:
            return image_of_study(study, name)

    def strains() -> dict[tuple[bytes, str], tuple[int, float]]:
        record = snapshot.record
        with Study.open(path, again=True) as study:
            model_id = id_of_model(study, record.model_sha256, record.recipe)
            contents = set(record.answers.contents.values())
            return load_strains(study, model_id, contents) if model_id is not None else {}

    def measured() -> Measures:
        with Study.open(path, again=True) as study:
            return measures_of(study, snapshot.record)

    return EvaluationContext(snapshot, reviews, makers, model_at, other, elsewhere, strains=strains, measured=measured)


def identity_of(snapshot: Snapshot) -> tuple[str, str]:
    """A run's model and images by content, as a finding names what it was made on (takes a moment for large runs)."""
    ground = EvaluationContext(snapshot)
    return ground.model, ground.images


def read_snapshot(path: Path, run_id: int) -> Snapshot:
    """A run of a study as judged now."""
    with Study.open(path, again=True) as study:
        return take_snapshot(*load_judged(study, run_id))


def make_finding(ground: EvaluationContext, draft: Draft, known: Measure | None) -> Finding | None:
    """The finding that a draft makes, measured unless that is ``known``; None where it was stopped. InputError where its claim cannot
    be asked."""
    before = known
    if before is None:
        before = next((one for one in measure(draft.claim, ground) if isinstance(one, Measure)), None)
    if before is None:
        return None
    if before.problem:
        raise InputError(f"no finding: {before.problem}", hint="select other images, or add another figure")
    return finding_of(draft, before, ground)


def confirm(path: Path, snapshot: Snapshot, finding: Finding, makers: MakerPool) -> Measure | None:
    """What a finding's claim comes to on the half of the images that it was not found on; None where that was stopped.

    InputError where the run shown is not the one it was found on, is of no half, the other half has no run of this model, or
    both hold the same picture.
    """
    found_on = EvaluationContext(snapshot)
    if (found_on.model, found_on.images) != (finding.made.model, finding.made.images):
        raise InputError(
            f"it was found on {finding.made.model_name}, {finding.made.images_name}",
            hint="show that run, then confirm it",
        )
    half = _run_of_other_half(path, snapshot)
    here, there = (set(one.record.answers.contents.values()) for one in (snapshot, half))
    if both := len(here & there):
        raise InputError(
            f"{plural(both, 'picture is', 'pictures are')} in both halves",
            hint="take copies out of the set (Check names them) and draw halves again",
        )
    return next(
        (one for one in measure(finding.claim, ground_of(path, half, makers)) if isinstance(one, Measure)), None
    )


def _run_of_other_half(path: Path, snapshot: Snapshot) -> Snapshot:
    with Study.open(path, again=True) as study:
        sets = list_image_sets(study)
        drawn = other_half(next((one.drawn for one in sets if one.id == snapshot.record.info.set_id), ""))
        if not drawn:
            raise InputError(
                "these images are not one of two halves, so all of them were looked at",
                hint="draw two halves (Prepare, ⋯ beside the image set), look at one, and confirm on the other",
            )
        wanted = [one.id for one in sets if one.drawn == drawn]
        for info in list_runs(study):
            if info.set_id in wanted and info.model_id == snapshot.record.info.model_id:
                return take_snapshot(*load_judged(study, info.id))
    raise InputError("the other half has not been scored under this model", hint="score it first (Prepare, Runs)")


@dataclass(frozen=True)
class FoundCheck:
    """What has become of one finding under the run it was checked on."""

    run: RunKey
    finding: int
    checked: Checked


@dataclass(frozen=True)
class CheckingProgress:
    """How far checking is: findings checked, of how many, and how far the one in hand is."""

    done: int
    total: int
    within: Progress | None = None


def check_findings(
    path: Path, ground: EvaluationContext, findings: Sequence[Finding]
) -> Iterator[FoundCheck | CheckingProgress]:
    """Check findings on a run, one by one. Cover and strain tests that have been done on the same model and images are looked up."""
    run = ground.snapshot.record.key
    for done, one in enumerate(findings):
        if current_stop().stopped:
            return
        yield CheckingProgress(done, len(findings))
        try:
            for event in _checked(path, ground, one):
                yield (
                    FoundCheck(run, one.id, event)
                    if isinstance(event, Checked)
                    else CheckingProgress(done, len(findings), event)
                )
        except Stopped:
            return
    yield CheckingProgress(len(findings), len(findings))


def _checked(path: Path, ground: EvaluationContext, finding: Finding) -> Iterator[Checked | Progress]:
    keep = finding.claim.kind in ("cover", "strain")
    claim = finding.claim.content
    if keep:
        with Study.open(path, again=True) as study:
            text = load_check(study, claim, ground.model, ground.images)
        if text and (known := checked_from(text)) is not None and not known.after.problem:
            # The state is told anew: what the finding was found with may be another test of the same kind.
            yield from _told_anew(finding, known, ground)
            return
    for event in check_finding(finding, ground):
        yield event
        if keep and isinstance(event, Checked) and not event.after.problem:
            with suppress(InputError), Study.open(path, again=True) as study:
                # A study that cannot be written to is checked anew each time.
                save_check(study, claim, ground.model, ground.images, checked_text(event))


def _told_anew(finding: Finding, known: Checked, ground: EvaluationContext) -> Iterator[Checked]:
    same = (finding.made.model, finding.made.images) == (ground.model, ground.images)
    state, why = state_of_finding(finding, known.after, ground.standing, same)
    yield replace(known, state=state, why=why)


def hold_criteria(path: Path, ground: EvaluationContext) -> tuple[Criterion, ...]:
    """The criteria of a run's model, held against it."""
    with Study.open(path, again=True) as study:
        texts = load_criteria(study, ground.snapshot.record.info.model_id)
    return criteria_of(texts, ground)
