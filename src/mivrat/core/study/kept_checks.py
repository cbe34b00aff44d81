"""What the checks of a study found, and what they measured of pictures."""

from __future__ import annotations

from collections.abc import Mapping

from mivrat.core.study.file import Study
from mivrat.core.study.soundness import (
    reading,
)


@reading
def load_surveys(study: Study) -> dict[bytes, str]:
    """What checks have measured of pictures, by content hash."""
    return dict(study.db.execute("SELECT content, facts FROM survey"))


def save_surveys(study: Study, facts: Mapping[bytes, str]) -> None:
    with study.writing() as db:
        db.executemany("INSERT OR REPLACE INTO survey VALUES (?, ?)", list(facts.items()))


@reading
def load_check_results(study: Study, run_id: int) -> dict[str, str]:
    """What the checks of a run found, by the check's name."""
    return dict(study.db.execute("SELECT name, result FROM check_result WHERE run_id = ?", (run_id,)))


def save_check_results(study: Study, run_id: int, results: Mapping[str, str]) -> None:
    with study.writing() as db:
        db.executemany(
            "INSERT OR REPLACE INTO check_result VALUES (?, ?, ?)",
            [(run_id, name, result) for name, result in results.items()],
        )


@reading
def load_check_answers(study: Study) -> dict[str, str]:
    """What has been answered to checks, by the content that it was answered to."""
    return dict(study.db.execute("SELECT content, answer FROM check_answer"))


def save_check_answer(study: Study, content: str, answer: str) -> None:
    """Keep what was answered to what a check found; an empty answer takes it away."""
    with study.writing() as db:
        db.execute("DELETE FROM check_answer WHERE content = ?", (content,))
        if answer:
            db.execute("INSERT INTO check_answer VALUES (?, ?)", (content, answer))
