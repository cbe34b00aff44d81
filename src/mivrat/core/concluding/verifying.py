"""Holds the next model, or the next image set, to what a study concluded: its criteria and its findings; nothing is kept."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.concluding.checking import check_finding
from mivrat.core.concluding.criteria import Criterion, criteria_of, outcome_of
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Finding, measure_data
from mivrat.core.concluding.of_study import ground_of, read_findings, read_snapshot
from mivrat.core.concluding.requirements import RequirementOutcome, as_written
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_set
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_criteria

FORMAT = "mivrat-verify/1"


@dataclass(frozen=True)
class VerifyRequest:
    """What a study asks of the next model: the criteria of the model ``of``, the findings not put aside, and the images, with the
    set they are in the study (0: in none). ``before`` is the run that the criteria are held against beside the next one."""

    path: Path
    classes: list[str]
    families: dict[int, str]
    criteria: tuple[str, ...]
    findings: tuple[Finding, ...]
    images: ImageSet
    set_id: int
    before: Snapshot
    remarks: tuple[str, ...] = ()

    @property
    def reference(self) -> RunRecord:
        """The run that the criteria were held against so far."""
        return self.before.record


def asked_of(path: Path, images: ImageSet | None = None) -> VerifyRequest:
    """What a study asks of the next model; without ``images``, on those that most of its findings were made on, else on those of the
    run its criteria stand under. InputError where there is nothing to be held to."""
    findings, lost = read_findings(path)
    findings = tuple(one for one in findings if not one.aside)
    remarks = [f"{lost} findings of the study cannot be read and are left out"] if lost else []
    with Study.open(path, again=True) as study:
        runs = list_runs(study)
        by_model = {one.model_id: load_criteria(study, one.model_id) for one in runs}
        having = [model for model in sorted(by_model, reverse=True) if by_model[model]]
        if not runs or not (having or findings):
            raise InputError(
                "has neither criteria nor findings to check against",
                where=path,
                hint="enter some under Conclude, and verify then",
            )
    set_id = _set_of(path, runs, findings) if images is None else _same_list(path, runs, images)
    there = [one for one in runs if one.set_id == set_id]
    if having:
        model_id = having[0]
    else:
        model_id = (there or runs)[-1].model_id
    of_model = [one for one in runs if one.model_id == model_id]
    if images is None and not findings:
        set_id = of_model[-1].set_id
    chosen = next((one for one in of_model if one.set_id == set_id), of_model[-1])
    if len(having) > 1:
        remarks.append(f"{len(having)} models have criteria; those of {chosen.model}, the latest, are held")
    before = read_snapshot(path, chosen.id)
    record = before.record
    if images is None:
        with Study.open(path, again=True) as study:
            images = load_image_set(study, set_id)
    return VerifyRequest(
        path, record.classes, record.families, by_model[model_id], findings, images, set_id, before, tuple(remarks)
    )


def _set_of(path: Path, runs: Sequence[RunInfo], findings: Sequence[Finding]) -> int:
    """The set that most findings were made on, the latest of several; by content, so each set is read."""
    sets = {one.set_id: one.id for one in runs}
    if len(sets) == 1 or not findings:
        return runs[-1].set_id
    made = [one.made.images for one in findings]
    known = {set_id: EvaluationContext(read_snapshot(path, run_id)).images for set_id, run_id in sets.items()}
    return max(sets, key=lambda one: (made.count(known[one]), one))


def _same_list(path: Path, runs: Sequence[RunInfo], images: ImageSet) -> int:
    """The set of the study that is this very list of images in this folder; 0 where none is."""
    wanted = images.root.resolve(), [(one.path, one.label) for one in images.items]
    with Study.open(path, again=True) as study:
        for set_id in dict.fromkeys(one.set_id for one in runs):
            found = load_image_set(study, set_id)
            if (found.root.resolve(), [(one.path, one.label) for one in found.items]) == wanted:
                return set_id
    return 0


def recipe_known(path: Path, content: str) -> RunRecord | None:
    """A run of the study whose model has this content; None where there is none."""
    with Study.open(path, again=True) as study:
        for info in reversed(list_runs(study)):
            record = load_run(study, info.id, with_answers=False)
            if record.model_sha256 == content:
                return record
    return None


@dataclass(frozen=True)
class Verified:
    """What was found: each criterion as it stood before and as it stands, each finding with what has become of it."""

    record: RunRecord
    asked: VerifyRequest
    criteria: tuple[tuple[RequirementOutcome, Criterion], ...] = ()
    findings: tuple[tuple[Finding, Checked], ...] = ()
    evaluated: int = 0

    @property
    def failing(self) -> tuple[str, ...]:
        """The criteria that are missed and the findings that block and are not gone."""
        return (
            *(one.outcome.text for _, one in self.criteria if one.outcome.verdict == "missed"),
            *(one.title for one, checked in self.findings if one.weight == "blocks" and checked.state != "gone"),
        )


def verify(asked: VerifyRequest, snapshot: Snapshot) -> Iterator[tuple[str, Progress] | Verified]:
    """Hold a run to what is asked, yielding how far it is, at last what was found; nothing more where it was stopped."""
    makers = MakerPool()
    ground = ground_of(asked.path, snapshot, makers)
    earlier = ground_of(asked.path, asked.before, makers)
    now = criteria_of(asked.criteria, ground)
    criteria = tuple((outcome_of(one.outcome.text, earlier), one) for one in now)
    findings = []
    for done, one in enumerate(asked.findings):
        yield one.title, Progress(done, len(asked.findings), 0.0, None)
        for event in check_finding(one, ground):
            if isinstance(event, Checked):
                findings.append((one, event))
            else:
                yield one.title, event
        if current_stop().stopped or len(findings) <= done:
            return
    yield Verified(snapshot.record, asked, criteria, tuple(findings), snapshot.counts.evaluated)


def as_json(found: Verified) -> dict[str, Any]:
    """What was found, as ``verify.json`` has it."""
    before = found.asked.reference
    return {
        "format": FORMAT,
        "model": {"name": found.record.info.model, "sha256": found.record.model_sha256},
        "images": {"name": found.record.image_set.name, "evaluated": found.evaluated},
        "before": {"model": before.info.model, "sha256": before.model_sha256, "images": before.image_set.name}
        if found.criteria
        else {},
        "passed": not found.failing,
        "criteria": [
            {
                "text": one.outcome.text,
                "state": as_written(one.outcome.verdict),
                "before": earlier.value,
                "after": one.outcome.value,
                "low": one.outcome.low,
                "high": one.outcome.high,
                "images": one.outcome.images,
                "problem": one.outcome.problem,
                "more": one.more,
            }
            for earlier, one in found.criteria
        ],
        "findings": [
            {
                "title": one.title,
                "weight": one.weight,
                "state": as_written(checked.state),
                "why": checked.why,
                "found_on": {"model": one.made.model_name, "images": one.made.images_name},
                "before": measure_data(one.before),
                "after": measure_data(checked.after),
                **({"confirmed": measure_data(one.confirmed)} if one.confirmed is not None else {}),
            }
            for one, checked in found.findings
        ],
    }
