"""Tells how requirements came out, on standard output and as JUnit XML."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mivrat.commands.telling import DONE, NOT_HELD, show
from mivrat.core.base.files import write_whole
from mivrat.core.concluding.requirements import RequirementOutcome
from mivrat.core.reporting.junit import as_junit, cases_of_requirements


def show_outcomes(outcomes: Sequence[RequirementOutcome], name: str, junit: Path | None) -> int:
    """A line for each, the file where one is named, and the exit code."""
    for outcome in outcomes:
        show(outcome.sentence())
    if junit is not None:
        write_whole(junit, as_junit(name, cases_of_requirements(outcomes)))
        show(f"written: {junit}")
    return DONE if all(outcome.holds for outcome in outcomes) else NOT_HELD
