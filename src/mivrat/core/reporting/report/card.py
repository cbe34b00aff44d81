"""A model card in Markdown, with the headings of Mitchell and others, "Model cards for model reporting" (2019)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from mivrat.core.base.text import printable
from mivrat.core.reporting.report.content import Report

# What Markdown takes for mark-up wherever it stands, and what only at the beginning of a line or of a word.
_MARKS = re.compile(r"([\\`*\[\]<>|~&$]|(?<![^\W_])_|_(?![^\W_]))")
_AT_START = re.compile(r"^([#+\-=]|\d+[.)])(?=\s|$)")
_NOT_SAID = "*Not said: to be written by whoever knows.*"


def plain(text: str) -> str:
    """A text as Markdown that shows it as it is, on one line."""
    shown = _MARKS.sub(r"\\\1", " ".join(printable(text).split()))
    return _AT_START.sub(lambda found: f"{found[1][:-1]}\\{found[1][-1]}", shown)


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> list[str]:
    lines = [heads, ["---"] * len(heads), *[[plain(cell) for cell in line] for line in rows]]
    return [f"| {' | '.join(line)} |" for line in lines] + [""]


def as_card(report: Report) -> str:
    """The card of the model that a report is of; what a validation cannot know is left to be written."""
    facts = dict(report.tested)
    details = (
        *("Model", "Model file", "SHA-256 of the model", "Prediction service", "Service description"),
        *("Hash of address, name and version", "Classes", "Preprocessing"),
    )
    data = (
        "Images",
        "Images listed",
        "Images in the figures",
        "Left out",
        "Hash of all pictures and labels",
        "Subset",
        "Related images",
    )
    lines = [f"# Model card: {plain(facts['Model'])}", ""]
    lines += [
        "## Model details",
        "",
        *_table(("what", "which"), [(one, facts[one]) for one in details if one in facts]),
    ]
    lines += ["## Intended use", "", _NOT_SAID, "", "## Factors", ""]
    lines += [plain(f"Figures are broken down by class{''.join(f', by {column}' for column, _ in report.groups)}."), ""]
    lines += ["## Metrics", "", plain(f"{report.verdict} {report.headline}"), ""]
    if report.criteria:
        lines += _table(
            ("criterion", "state", "figure"), [(one.words, one.state, one.figure) for one in report.criteria]
        )
    lines += ["## Evaluation data", "", *_table(("what", "which"), [(one, facts[one]) for one in data])]
    lines += ["## Training data", "", _NOT_SAID, "", "## Quantitative analyses", ""]
    rows = [(one.name, one.value, one.interval or "none", one.of) for one in (*report.figures, *report.calibration)]
    lines += _table(("figure", "value", "95 % interval", "of"), rows)
    rows_of_classes = [
        (one.name, str(one.support), f"{one.recall} {one.recall_interval}", f"{one.precision} {one.precision_interval}")
        for one in report.classes
    ]
    lines += _table(("class", "labelled", "recall", "precision"), rows_of_classes)
    for column, rows_of_groups in report.groups:
        lines += _table(
            (plain(column), "images", "right", "95 % interval", "against the rest"),
            [(one.name, one.images, one.right, one.interval or "none", one.against_rest) for one in rows_of_groups],
        )
    lines += ["## Ethical considerations", "", _NOT_SAID, "", "## Caveats and recommendations", ""]
    lines += [f"- {plain(one)}" for one in report.limits]
    for finding in report.findings:
        lines.append(
            f"- **{plain(finding.title)}** ({finding.weight}, {finding.state}): {plain(finding.sentence)} {plain(finding.short)}"
        )
    return "\n".join([*lines, "", f"Made on {report.day} with Mivrat from the study {plain(report.study)}.", ""])
