"""What a report says: gathered from a run, its criteria, findings and checks, in figures and words, before anything is laid out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from datetime import date
from typing import Any

import numpy as np

from mivrat import __version__
from mivrat.core.base.text import count, images, in_sentence, plural
from mivrat.core.checks.catalogue import BY_NAME
from mivrat.core.checks.result import CheckResult, in_words
from mivrat.core.comparing.holding import IN_POINTS, Compared, headline_differences
from mivrat.core.concluding.checking import told_confirmed
from mivrat.core.concluding.criteria import Criterion
from mivrat.core.concluding.findings import Checked, Finding, Measure
from mivrat.core.concluding.ground import Ground
from mivrat.core.concluding.told import difference_told, figure_told, measure_told, number, percent, share_told
from mivrat.core.figures.calibration import ReliabilityBin
from mivrat.core.figures.groups import Group
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.ranked import mean_of
from mivrat.core.figures.uncertainty import FEW_UNITS, NAMES, Intervals
from mivrat.core.models.service.places import host_in
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.reporting.report.definitions import Definition, definitions
from mivrat.core.reporting.report.limits import limits
from mivrat.core.running.slow_figures import SlowFigures
from mivrat.core.study.records import RunRecord

FORMAT = "mivrat-report/1"
# Of more classes those recognised worst are shown, and of pairs the commonest mistakes; the rest stands in the JSON beside it.
MOST_CLASSES, MOST_PAIRS = 40, 20
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
    "findings": "Findings",
    "limits": "Limits",
    "definitions": "Definitions and sources",
}


@dataclass(frozen=True)
class Wanted:
    """What the analyst wants of a report: which sections in which order, who made it, and the summary in their own words."""

    sections: tuple[str, ...] = tuple(SECTIONS)
    author: str = ""
    summary: str = ""


@dataclass(frozen=True)
class Line:
    """A figure: its name, what it comes to, its interval, what it is of, and how it was worked out."""

    name: str
    value: str
    interval: str
    of: str
    how: str


@dataclass(frozen=True)
class ClassLine:
    """A class: its name, labelled and predicted images, recall, precision and F1 in words, and recall as it is drawn."""

    name: str
    support: int
    predicted: int
    recall: str
    recall_interval: str
    precision: str
    precision_interval: str
    f1: str
    drawn: tuple[float | None, float | None, float | None]


@dataclass(frozen=True)
class CriterionLine:
    """A criterion: its text, how it stands, its figure, and what it would take to tell."""

    text: str
    state: str
    figure: str
    more: str


@dataclass(frozen=True)
class PictureLine:
    """A picture of a finding: where its image stands in the set, whether with heat, and its caption."""

    position: int
    heat: bool
    caption: str
    alt: str


@dataclass(frozen=True)
class FindingLine:
    """A finding: its number, title, sentence, weight and state; its claim in words, where it was found, and the figures there and
    here as rows of three."""

    number: int
    title: str
    sentence: str
    weight: str
    state: str
    why: str
    claim: str
    found_on: str
    figures: tuple[tuple[str, str, str], ...]
    pictures: tuple[PictureLine, ...] = ()
    lost: int = 0

    @property
    def short(self) -> str:
        """The figure here, in short."""
        return self.figures[0][2] if self.figures else ""


@dataclass(frozen=True)
class Report:
    """Everything that a report says; lists are empty and texts too where there is nothing to say."""

    title: str
    day: str
    study: str
    wanted: Wanted
    verdict: str
    verdict_state: str
    headline: str
    criteria: tuple[CriterionLine, ...]
    tested: tuple[tuple[str, str], ...]
    checks: tuple[tuple[str, str, str], ...]
    figures: tuple[Line, ...]
    classes: tuple[ClassLine, ...]
    classes_total: int
    matrix: tuple[tuple[int, ...], ...]
    class_names: tuple[str, ...]
    pairs: tuple[tuple[str, str, int, str], ...]
    reliability: tuple[ReliabilityBin, ...]
    calibration: tuple[Line, ...]
    groups: tuple[tuple[str, tuple[tuple[str, str, str, str, str], ...]], ...]
    comparison: tuple[tuple[str, str, str, str, str], ...]
    comparison_names: tuple[str, str]
    comparison_claims: tuple[str, ...]
    findings: tuple[FindingLine, ...]
    limits: tuple[str, ...]
    definitions: tuple[Definition, ...]
    figures_json: dict[str, Any] = field(default_factory=dict)

    @property
    def sections(self) -> list[tuple[str, str]]:
        """The sections that are wanted and have something to say: key and name."""
        empty = {
            "checks": not self.checks,
            "groups": not self.groups,
            "comparison": not self.comparison,
            "findings": not self.findings,
            "classes": not self.classes,
            "confusions": not self.pairs and not self.matrix,
            "calibration": not self.calibration,
        }
        return [(one, SECTIONS[one]) for one in self.wanted.sections if one in SECTIONS and not empty.get(one)]


@dataclass(frozen=True)
class Told:
    """What a report is gathered from beside the run itself."""

    study: str
    criteria: Sequence[Criterion] = ()
    claim: float | None = None
    findings: Sequence[tuple[Finding, Checked | None]] = ()
    checks: Sequence[CheckResult] = ()
    deep: SlowFigures | None = None
    compared: Compared | None = None
    groups: Sequence[tuple[str, Sequence[Group]]] = ()
    suspected: int | None = None
    day: date = field(default_factory=date.today)
    metrics: dict[str, Any] = field(default_factory=dict)


def gather(ground: Ground, told: Told, wanted: Wanted) -> Report:
    """Gather a report of a run."""
    snapshot = ground.snapshot
    record, figures = snapshot.record, snapshot.figures
    findings = tuple(_finding(i, one, checked, ground) for i, (one, checked) in enumerate(told.findings, 1))
    criteria = tuple(_criterion(one) for one in told.criteria)
    state, verdict = verdict_of(criteria, findings)
    top1 = figures.top_k[1]
    headline = f"Right on {percent(top1.value)} of {images(top1.total)}{_in_brackets(top1)}." if top1.total else "No labelled image was scored."  # fmt: skip
    if told.claim is not None:
        p = snapshot.judged.against_claim(told.claim)
        differs = "differs significantly from that" if p < 0.05 else "does not differ significantly from that"
        headline += f" {percent(told.claim)} was claimed at training time; this {differs} (p {in_words(p)})."
    order = sorted(range(len(figures.classes)), key=lambda k: _worst_first(figures.classes[k].recall))
    order = [k for k in order if figures.classes[k].support or figures.classes[k].predicted][:MOST_CLASSES]
    if len(record.classes) <= MOST_CLASSES:
        order = sorted(order)
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
        _headline_lines(ground, told.deep),
        tuple(_class(record.classes[k], figures.classes[k]) for k in order) if figures.total else (),
        len(record.classes),
        tuple(tuple(int(n) for n in line) for line in figures.matrix) if 0 < len(record.classes) <= MOST_CLASSES and figures.total else (),
        tuple(record.classes),
        _pairs(ground),
        tuple(figures.calibration.bins),
        _calibration(ground, told.deep),
        tuple((column, tuple(_group(one) for one in some)) for column, some in told.groups),
        _comparison(told.compared),
        (told.compared.held.names.a, told.compared.held.names.b) if told.compared is not None else ("", ""),
        tuple(one.text for one in told.compared.claims) if told.compared is not None else (),
        findings,
        tuple(limits(ground, told.checks, told.suspected, bool(told.compared))),
        tuple(definitions(ground, has_groups=bool(told.groups), compared=told.compared is not None, findings=[one for one, _ in told.findings])),
        told.metrics,
    )  # fmt: skip


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
    open_ = sum(one.state == "cannot tell" for one in criteria)
    blocking = sum(one.weight == "blocks" and one.state != "gone" for one in findings)
    parts = []
    if missed:
        parts.append(f"{missed} of {plural(len(criteria), 'criterion', 'criteria')} missed")
    if blocking:
        parts.append(f"{plural(blocking, 'finding blocks', 'findings block')} it")
    if parts:
        return "stop", f"Not accepted: {', '.join(parts)}."
    if open_:
        return "look", f"Open: whether {open_} of {plural(len(criteria), 'criterion', 'criteria')} {'is' if open_ == 1 else 'are'} met cannot be told at this N."  # fmt: skip
    if criteria:
        return "fine", "Accepted: the criterion is met." if len(
            criteria
        ) == 1 else f"Accepted: all {len(criteria)} criteria are met."
    return "", "No criteria were set: the figures stand for themselves."


def _criterion(one: Criterion) -> CriterionLine:
    found = one.outcome
    told = figure_told(found.value, found.low, found.high) + (
        f", N = {found.images}" if found.images is not None else ""
    )
    return CriterionLine(found.text, found.verdict, found.problem or told, one.more)


def _in_brackets(share: Proportion) -> str:
    return f" (95 % interval {share_told(share)[1]})" if share.low is not None else " (no interval)"


def _tested(ground: Ground, wanted: Wanted) -> tuple[tuple[str, str], ...]:
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
        ("Classes", f"{count(len(record.classes))}: {in_sentence(record.classes, 12)}"),
        ("Preprocessing", record.recipe.summary() + (" (a guess)" if record.recipe_is_guess else "")),
        ("Subset", record.image_set.drawn or "none: all that were listed"),
        ("Images that belong together", f"by {record.image_set.unit_column}" if record.image_set.unit_column else "not said: taken as independent"),
        ("Study", record.study.rpartition("/")[2]),
        ("Made by", wanted.author or "not said"),
        ("Made with", f"Mivrat {__version__}"),
    ]  # fmt: skip
    return tuple(lines)


def _model_lines(record: RunRecord) -> tuple[tuple[str, str], ...]:
    if record.kind.can.asked:
        return (
            ("Prediction service", host_in(record.model_path) or "its description is not there"),
            ("Service description", record.model_path.name),
            ("Hash of address, name and version", record.model_sha256),
        )
    return ("Model file", record.model_path.name), ("SHA-256 of the model", record.model_sha256)


def recipe_of(ground: Ground) -> str:
    """The whole recipe, as it stands in a file."""
    return recipe_to_toml(ground.snapshot.record.recipe)


def _how(share: Proportion) -> str:
    if share.units is None:
        return "Wilson score"
    if share.low is None:
        return f"none: {plural(share.units, 'unit')} are too few"
    few = "; so few units say little" if share.units < FEW_UNITS else ""
    return f"over {plural(share.units, 'unit')} (Wilson, Student's t){few}"


def _how_made(intervals: Intervals | None, key: str) -> str:
    told = intervals.how(key) if intervals is not None else "No interval is worked out."
    told = told.removeprefix("Interval: ").removesuffix("; 95 %.").rstrip(".")
    return f"{told[:1].lower()}{told[1:]}"


def _headline_lines(ground: Ground, deep: SlowFigures | None) -> tuple[Line, ...]:
    figures = ground.snapshot.figures
    if not figures.total:
        return ()
    found = [
        Line(f"Top-{k} accuracy", *share_told(share), f"N = {count(share.total)}", _how(share))
        for k, share in figures.top_k.items()
    ]
    families = ground.snapshot.record.families
    if families:
        share = ground.snapshot.judged.within_family(families)
        found.append(Line("Accuracy within family", *share_told(share), f"N = {count(share.total)}", _how(share)))
    intervals = deep.intervals if deep is not None else None
    averages = figures.averages
    values: list[tuple[str, str, float | None, bool]] = [
        ("balanced_accuracy", "Balanced accuracy", averages.balanced_accuracy, True),
        ("macro_f1", "Macro F1", averages.macro_f1, True),
        ("weighted_f1", "Weighted F1", averages.weighted_f1, True),
        ("cohen_kappa", "Cohen's kappa", averages.cohen_kappa, False),
        ("mcc", "Matthews correlation", averages.mcc, False),
        ("log_loss", "Log loss", figures.log_loss.value if figures.log_loss else None, False),
        ("brier", "Brier score", figures.brier, False),
    ]
    if deep is not None and deep.ranked is not None:
        values += [
            ("macro_auroc", "Macro AUROC", mean_of(deep.ranked.auroc), False),
            ("macro_average_precision", "Macro average precision", mean_of(deep.ranked.average_precision), False),
        ]
    for key, name, value, in_percent in values:
        interval = intervals.of.get(key) if intervals is not None else None
        shown = percent if in_percent else number
        ends = f"{shown(interval.low)} – {shown(interval.high)}" if interval is not None else ""
        how = _how_made(intervals, key) if key in NAMES else "no interval is worked out"
        found.append(Line(name, shown(value), ends, f"N = {count(figures.total)}", how))
    return tuple(found)


def _class(name: str, one: Any) -> ClassLine:
    recall, recall_ends = share_told(one.recall)
    precision, precision_ends = share_told(one.precision)
    drawn = (one.recall.value, one.recall.low, one.recall.high)
    return ClassLine(
        name, one.support, one.predicted, recall, recall_ends, precision, precision_ends, percent(one.f1), drawn
    )


def _pairs(ground: Ground) -> tuple[tuple[str, str, int, str], ...]:
    """The commonest mistakes: label, prediction, how many, and the share of the label's images."""
    matrix, classes = ground.snapshot.figures.matrix.copy(), ground.classes
    support = matrix.sum(axis=1)
    np.fill_diagonal(matrix, 0)
    order = np.argsort(-matrix, axis=None, kind="stable")[:MOST_PAIRS]
    found = []
    for a, b in zip(*np.unravel_index(order, matrix.shape), strict=True):
        if matrix[a, b]:
            found.append((classes[a], classes[b], int(matrix[a, b]), percent(matrix[a, b] / support[a])))
    return tuple(found)


def _calibration(ground: Ground, deep: SlowFigures | None) -> tuple[Line, ...]:
    figures = ground.snapshot.figures
    found, intervals = figures.calibration, deep.intervals if deep is not None else None
    if found.ece is None:
        return ()
    interval = intervals.of.get("ece") if intervals is not None else None
    ends = f"{percent(interval.low)} – {percent(interval.high)}" if interval is not None else ""
    of = f"N = {count(figures.total)}"
    how = _how_made(intervals, "ece")
    lines = [Line(f"Expected calibration error, {len(found.bins)} bins", percent(found.ece), ends, of, how)]
    if deep is not None and deep.chance is not None:
        told = f"{percent(deep.chance.median)}, up to {percent(deep.chance.high)}"
        lines.append(
            Line(
                "… of a perfectly calibrated model at this N",
                told,
                "",
                of,
                "labels drawn from the probabilities, 1,000 draws",
            )
        )
    gap = found.signed_gap
    lines.append(
        Line("Mean confidence less accuracy", difference_told(gap, None, None)[0], "", of, "above 0: overconfident")
    )
    lines.append(Line("Largest gap of a bin", percent(found.mce), "", of, ""))
    if deep is not None and deep.temperature is not None and deep.temperature.identifiable:
        t = deep.temperature
        lines.append(
            Line(
                "Temperature that would fit",
                f"{t.value:.2f}",
                "",
                of,
                f"ECE out of fold {percent(t.ece_before)} → {percent(t.ece_after)}",
            )
        )
    return tuple(lines)


def _group(one: Group) -> tuple[str, str, str, str, str]:
    value, ends = share_told(one.accuracy)
    return one.name, count(one.accuracy.total), value, ends, f"p {in_words(one.p)}"


def _comparison(compared: Compared | None) -> tuple[tuple[str, str, str, str, str], ...]:
    if compared is None:
        return ()
    found = []
    for key, name, one in headline_differences(compared):
        points = key.startswith("top") or key in IN_POINTS
        shown = percent if points else number
        value, ends = difference_told(one.value, one.low, one.high, points)
        found.append((name, shown(one.a), shown(one.b), value, ends))
    return tuple(found)


_CLAIMS = {
    "criterion": "a criterion",
    "share": "a share in a selection given by rule",
    "cover": "a cover test",
    "difference": "a difference to another run",
    "labels": "labels found wrong by hand",
}


def _finding(position: int, finding: Finding, checked: Checked | None, ground: Ground) -> FindingLine:
    made, before = finding.made, finding.before
    same = (made.model, made.images) == (ground.model, ground.images)
    after = checked.after if checked is not None else before if same else Measure("", None, problem="not checked here")
    state = checked.state if checked is not None else "holds" if same else "cannot tell"
    rows = [(before.words or after.words, measure_told(before), measure_told(after))]
    if before.beside is not None or after.beside is not None:
        name = (before.beside or after.beside).name  # type: ignore[union-attr]
        rows.append((name, measure_told(before, beside=True), measure_told(after, beside=True)))
    if before.p is not None or after.p is not None:
        p = [f"p {in_words(one.p)}" if one.p is not None else "–" for one in (before, after)]
        rows.append(("exact paired test", p[0], p[1]))
    pictures, judged, classes = [], ground.snapshot.judged, ground.classes
    for one in finding.pictures:
        at = ground.names.position(one.image)
        if at is None:
            continue
        label, predicted = int(judged.labels[at]), int(judged.predicted[at])
        told = f"labelled {classes[label]}" if label >= 0 else "without a label"
        if predicted >= 0:
            confidence = float(judged.confidence[at])
            told += f", predicted {classes[predicted]}" + ("" if confidence != confidence else f" {confidence:.2f}")
        name = ground.snapshot.record.image_set.items[at].path.rpartition("/")[2]
        pictures.append(PictureLine(at, one.heat, one.caption or told, f"Image {name}: {told}"))
    return FindingLine(
        position,
        finding.title,
        finding.sentence,
        finding.weight,
        state,
        checked.why if checked is not None else "",
        "; ".join(part for part in (_CLAIMS[finding.claim.kind], told_confirmed(finding)) if part),
        f"{made.model_name} on {made.images_name}, {made.day}" + ("" if same else " (another run)"),
        tuple(rows),
        tuple(pictures),
        len(finding.pictures) - len(pictures),
    )


def as_json(report: Report) -> dict[str, Any]:
    """The report's figures and words for other programs; no pictures."""
    data = asdict(report)
    metrics = data.pop("figures_json")
    data["wanted"] = asdict(report.wanted)
    return {"format": FORMAT, **data, "metrics": metrics}
