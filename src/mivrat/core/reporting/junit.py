"""JUnit XML for build servers: one case for each requirement, criterion or finding."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal
from xml.sax.saxutils import escape, quoteattr

from mivrat.core.base.text import printable
from mivrat.core.concluding.findings import Checked, Finding
from mivrat.core.concluding.formatting import figure_told, measure_told
from mivrat.core.concluding.requirements import RequirementOutcome

# What XML 1.0 cannot hold.
_NOT_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


@dataclass(frozen=True)
class Case:
    """One case: what kind it is of, its name, how it ended, and what is told of it."""

    kind: str
    name: str
    state: Literal["passed", "failed", "skipped"]
    told: str


def cases_of_requirements(outcomes: Sequence[RequirementOutcome]) -> list[Case]:
    """Requirements as the command line takes them: each holds or does not."""
    return [
        Case("requirement", one.text, "passed" if one.holds else "failed", figure_told(one.value, one.low, one.high))
        for one in outcomes
    ]


def cases_of(outcomes: Sequence[RequirementOutcome], findings: Sequence[tuple[Finding, Checked | None]]) -> list[Case]:
    """Criteria (missed fails, inconclusive is skipped) and findings (one that blocks and is not gone fails, others that are not gone are
    skipped)."""
    states: dict[str, Literal["passed", "failed", "skipped"]] = {"met": "passed", "missed": "failed"}
    found = [
        Case(
            "criterion",
            one.text,
            states.get(one.verdict, "skipped"),
            f"{one.verdict}: {one.problem or figure_told(one.value, one.low, one.high)}",
        )
        for one in outcomes
    ]
    for finding, checked in findings:
        state = checked.state if checked is not None else "inconclusive"
        told = f"{state}: {measure_told(finding.before)} → {measure_told(checked.after) if checked is not None else 'not checked'}"
        blocks = finding.weight == "blocks"
        found.append(
            Case("finding", finding.title, "passed" if state == "gone" else "failed" if blocks else "skipped", told)
        )
    return found


def _text(text: str) -> str:
    return _NOT_XML.sub("?", printable(text))


def as_junit(name: str, cases: Sequence[Case]) -> str:
    """The cases as one test suite."""
    failed, skipped = (sum(one.state == state for one in cases) for state in ("failed", "skipped"))
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<testsuites tests="{len(cases)}" failures="{failed}" skipped="{skipped}">',
        f' <testsuite name={quoteattr(_text(name))} tests="{len(cases)}" failures="{failed}" skipped="{skipped}" errors="0">',
    ]
    for one in cases:
        told = quoteattr(_text(one.told))
        inside = {
            "passed": f"<system-out>{escape(_text(one.told))}</system-out>",
            "failed": f"<failure message={told}/>",
        }.get(one.state, f"<skipped message={told}/>")
        lines.append(f'  <testcase classname="mivrat.{one.kind}" name={quoteattr(_text(one.name))}>{inside}</testcase>')
    return "\n".join([*lines, " </testsuite>", "</testsuites>", ""])
