"""What a report says: gathered from a run, its criteria, findings and checks, in figures and words, before anything is laid out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from mivrat import __version__
from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.base.text import count, in_sentence, plural
from mivrat.core.checks.catalogue import BY_NAME
from mivrat.core.checks.result import CheckResult, in_words
from mivrat.core.comparing.holding import Compared
from mivrat.core.comparing.training import Training
from mivrat.core.concluding.criteria import Criterion
from mivrat.core.concluding.criterion_words import figure_in_words, in_plain_words
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Finding
from mivrat.core.concluding.formatting import share_told
from mivrat.core.concluding.requirements import RequirementOutcome, parse_criterion
from mivrat.core.figures.calibration import ReliabilityBin
from mivrat.core.figures.groups import Group
from mivrat.core.figures.intervals import Proportion
from mivrat.core.models.service.places import host_in
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.reporting.report.compared import ComparedWith, ComparisonPart, OtherRun, comparison_part
from mivrat.core.reporting.report.definitions import Definition, definitions
from mivrat.core.reporting.report.found import FindingLine, finding_line
from mivrat.core.reporting.report.limits import limits
from mivrat.core.reporting.report.lines import (
    ClassLine,
    FigureLine,
    GroupLine,
    PairLine,
    calibration_lines,
    class_line,
    group_line,
    headline_lines,
    pair_lines,
)
from mivrat.core.reporting.report.repeating import commands, listed
from mivrat.core.running.slow_figures import SlowFigures
from mivrat.core.study.records import RunRecord

# More classes than this are listed from the one recognised worst, and only that many are drawn.
MOST_CLASSES = 40
SECTIONS: dict[str, str] = {
    "summary": "Summary",
    "tested": "What was tested",
    "checks": "Checks before measuring",
    "figures": "Figures",
    "classes": "Classes",
    "confusions": "Confusions",
    "calibration": "Confidence",
    "groups": "Groups",
    "comparison": "Comparison",
    "training": "Training",
    "findings": "Findings",
    "limits": "Limits",
    "definitions": "Definitions and sources",
    "repeating": "To repeat it",
}


@dataclass(frozen=True)
class ReportChoices:
    """What the analyst wants of a report: which sections in which order, who made it, and the summary in their own words."""

    sections: tuple[str, ...] = tuple(SECTIONS)
    author: str = ""
    summary: str = ""
    # The runs compared with; None: whatever is held against this one.
    against: tuple[OtherRun, ...] | None = None


@dataclass(frozen=True)
class CriterionLine:
    """A criterion: as it was entered and in plain words, how it stands, its figure, what it would take to tell, and all of it as
    data."""

    text: str
    words: str
    state: str
    figure: str
    more: str
    outcome: RequirementOutcome


@dataclass(frozen=True)
class Report:
    """Everything that a report says; lists are empty and texts too where there is nothing to say."""

    title: str
    day: str
    study: str
    wanted: ReportChoices
    verdict: str
    verdict_state: str
    headline: str
    criteria: tuple[CriterionLine, ...]
    tested: tuple[tuple[str, str], ...]
    checks: tuple[tuple[str, str, str], ...]
    figures: tuple[FigureLine, ...]
    classes: tuple[ClassLine, ...]
    matrix: tuple[tuple[int, ...], ...]
    class_names: tuple[str, ...]
    pairs: tuple[PairLine, ...]
    reliability: tuple[ReliabilityBin, ...]
    calibration: tuple[FigureLine, ...]
    groups: tuple[tuple[str, tuple[GroupLine, ...]], ...]
    comparisons: tuple[ComparisonPart, ...]
    training: Training | None
    training_told: tuple[str, ...]
    findings: tuple[FindingLine, ...]
    limits: tuple[str, ...]
    definitions: tuple[Definition, ...]
    commands: tuple[str, ...]
    images: tuple[tuple[str, str, str], ...]
    images_total: int

    def has(self, section: str) -> bool:
        """Whether a section is wanted and has something to say."""
        return section in dict(self.sections)

    @property
    def blocking(self) -> list[FindingLine]:
        """The findings that stand in the way of acceptance."""
        return [one for one in self.findings if one.stops]

    @property
    def sections(self) -> list[tuple[str, str]]:
        """The sections that are wanted and have something to say: key and name."""
        empty = {
            "checks": not self.checks,
            "groups": not self.groups,
            "comparison": not self.comparisons,
            "training": not self.training_told,
            "findings": not self.findings,
            "classes": not self.classes,
            "confusions": not self.pairs and not self.matrix,
            "calibration": not self.calibration,
        }
        return [(one, SECTIONS[one]) for one in self.wanted.sections if one in SECTIONS and not empty.get(one)]


@dataclass(frozen=True)
class ReportInputs:
    """What a report is gathered from beside the run itself."""

    study: str
    criteria: Sequence[Criterion] = ()
    claim: float | None = None
    findings: Sequence[tuple[Finding, Checked | None]] = ()
    checks: Sequence[CheckResult] = ()
    deep: SlowFigures | None = None
    compared: Sequence[tuple[Compared, ComparedWith]] = ()
    training: Training | None = None
    training_problem: str = ""
    groups: Sequence[tuple[str, Sequence[Group]]] = ()
    suspected: int | None = None
    day: date = field(default_factory=date.today)
    metrics: dict[str, Any] = field(default_factory=dict)


def gather(ground: EvaluationContext, told: ReportInputs, wanted: ReportChoices) -> Report:
    """Gather a report of a run."""
    snapshot = ground.snapshot
    record, figures = snapshot.record, snapshot.figures
    findings = tuple(finding_line(i, one, checked, ground) for i, (one, checked) in enumerate(told.findings, 1))
    criteria = tuple(_criterion(one, ground.classes) for one in told.criteria)
    state, verdict = verdict_of(criteria, findings)
    top1 = figures.top_k[1]
    headline = (
        f"Top-1 accuracy {percent(top1.value)}{_in_brackets(top1)}, N = {count(top1.total)}."
        if top1.total
        else "No labelled image was scored."
    )
    if record.threshold is not None:
        headline += (
            f" {record.classes[-1]} is called from a probability of {record.threshold:.3g} on, the threshold adopted."
        )
    if told.claim is not None:
        p = snapshot.judged.against_claim(told.claim)
        differs = "differs significantly from that" if p < 0.05 else "does not differ significantly from that"
        headline += f" {percent(told.claim)} was claimed at training time; this {differs} (p {in_words(p)})."
    order = list(range(len(figures.classes)))
    if len(order) > MOST_CLASSES:
        order.sort(key=lambda k: _worst_first(figures.classes[k].recall))
    training_told = (
        tuple(told.training.sentences())
        if told.training is not None
        else ((told.training_problem,) if told.training_problem else ())
    )
    against = [
        (f"{one.other.record.info.model} on {one.other.record.info.image_set}", one.baseline)
        for _, one in told.compared
    ]
    return Report(
        f"{record.info.model} on {record.info.image_set}",
        told.day.isoformat(),
        told.study,
        wanted,
        verdict,
        state,
        headline,
        criteria,
        _tested(ground, wanted),
        _checks(told.checks),
        headline_lines(ground, told.deep),
        tuple(class_line(record.classes[k], figures.classes[k]) for k in order) if figures.total else (),
        tuple(tuple(int(n) for n in line) for line in figures.matrix)
        if 0 < len(record.classes) <= MOST_CLASSES and figures.total
        else (),
        tuple(record.classes),
        pair_lines(ground),
        tuple(figures.calibration.bins),
        calibration_lines(ground, told.deep),
        tuple((column, tuple(group_line(one) for one in some)) for column, some in told.groups),
        tuple(comparison_part(one) for one, _ in told.compared),
        told.training,
        training_told,
        findings,
        tuple(limits(ground, told.checks, told.suspected, bool(told.compared))),
        tuple(
            definitions(
                ground,
                has_groups=bool(told.groups),
                compared=bool(told.compared),
                findings=[one for one, _ in told.findings],
            )
        ),
        commands(record, against),
        listed(ground),
        len(record.image_set.items),
    )


def _worst_first(recall: Proportion) -> tuple[float, float]:
    return (2.0, 2.0) if recall.value is None else (recall.value, recall.high or 0.0)


def _checks(results: Sequence[CheckResult]) -> tuple[tuple[str, str, str], ...]:
    """Each check's state, title and sentence, with what was answered to it."""
    return tuple(
        (one.state, BY_NAME[one.name].title, f"{one.sentence}{f' Answered: {one.answer}' if one.answer else ''}")
        for one in results
        if one.name in BY_NAME
    )


def verdict_of(criteria: Sequence[CriterionLine], findings: Sequence[FindingLine]) -> tuple[str, str]:
    """How it stands as a whole, as a state and in words: by its criteria, and by findings that block and are not gone."""
    missed = sum(one.state == "missed" for one in criteria)
    open_ = sum(one.state == "inconclusive" for one in criteria)
    blocking = sum(one.stops for one in findings)
    parts = []
    if missed:
        parts.append(f"{missed} of {plural(len(criteria), 'criterion', 'criteria')} missed")
    if blocking:
        parts.append(f"{plural(blocking, 'finding blocks', 'findings block')} it")
    if parts:
        return "stop", f"Not accepted: {', '.join(parts)}."
    if open_:
        return "look", f"Inconclusive: {open_} of {plural(len(criteria), 'criterion', 'criteria')} at this N."
    if criteria:
        return "fine", "Accepted: the criterion is met." if len(
            criteria
        ) == 1 else f"Accepted: all {len(criteria)} criteria are met."
    return "", "No criteria were set: the figures stand for themselves."


def _criterion(one: Criterion, classes: Sequence[str]) -> CriterionLine:
    found = one.outcome
    try:
        wanted = parse_criterion(found.text, classes)
    except InputError:  # it names a class that is no more
        return CriterionLine(found.text, found.text, found.verdict, found.problem, one.more, found)
    words, figure = in_plain_words(wanted, classes), figure_in_words(wanted, found, classes)
    return CriterionLine(found.text, words, found.verdict, figure, one.more, found)


def _in_brackets(share: Proportion) -> str:
    return f" (95 % interval {share_told(share)[1]})" if share.low is not None else " (no interval)"


def _tested(ground: EvaluationContext, wanted: ReportChoices) -> tuple[tuple[str, str], ...]:
    record, counts = ground.snapshot.record, ground.snapshot.counts
    left_out = [
        f"{n} {what}"
        for n, what in (
            (counts.unreadable, "unreadable"),
            (counts.failed, "failed"),
            (counts.unlabelled, "without a label"),
            (counts.pending, "not scored"),
        )
        if n
    ]
    lines = [
        ("Model", record.info.model),
        *_model_lines(record),
        ("Images", record.info.image_set),
        ("Images listed", count(counts.listed)),
        ("Images in the figures", count(counts.evaluated)),
        ("Left out", ", ".join(left_out) or "none"),
        ("Hash of all pictures and labels", ground.images),
        (
            "Classes",
            f"{count(len(record.classes))}: {in_sentence(record.classes, 12)}{'; the whole list is at the end' if len(record.classes) > 12 else ''}",
        ),
        ("Preprocessing", record.recipe.summary() + (" (a guess)" if record.recipe_is_guess else "")),
        *(
            [("Threshold", f"{record.classes[-1]} from {record.threshold:.3g} on")]
            if record.threshold is not None
            else []
        ),
        ("Subset", record.image_set.drawn or "none: all that were listed"),
        (
            "Related images",
            f"by {record.image_set.unit_column}" if record.image_set.unit_column else "not said: taken as independent",
        ),
        ("Study", record.study.rpartition("/")[2]),
        ("Made by", wanted.author or "not said"),
        ("Made with", f"Mivrat {__version__}"),
    ]
    return tuple(lines)


def _model_lines(record: RunRecord) -> tuple[tuple[str, str], ...]:
    if record.kind.can.asked:
        return (
            ("Prediction service", host_in(record.model_path) or "its description is not there"),
            ("Service description", record.model_path.name),
            ("Hash of address, name and version", record.model_sha256),
        )
    return ("Model file", record.model_path.name), ("SHA-256 of the model", record.model_sha256)


def recipe_of(ground: EvaluationContext) -> str:
    """The whole recipe, as it stands in a file."""
    return recipe_to_toml(ground.snapshot.record.recipe)
