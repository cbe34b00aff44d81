"""What a study keeps of conclusions: findings as texts in their order, what checks of them came to, and what was exported."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mivrat.core.study.file import Study
from mivrat.core.study.soundness import reading


@dataclass(frozen=True)
class KeptFinding:
    """A finding as text, under its id."""

    id: int
    data: str


@dataclass(frozen=True)
class ExportedFile:
    """Something that went out: the day and time, what it was, how many, and where it was put."""

    id: int
    day: str
    what: str
    number: int
    place: str


@reading
def load_findings(study: Study) -> tuple[KeptFinding, ...]:
    """All findings, in their order."""
    return tuple(KeptFinding(*row) for row in study.rows("SELECT id, data FROM finding ORDER BY position, id"))


def save_findings(study: Study, findings: Sequence[KeptFinding]) -> None:
    """Keep these findings in this order, and no others."""
    with study.writing() as db:
        db.execute("DELETE FROM finding")
        db.executemany(
            "INSERT INTO finding VALUES (?, ?, ?)", [(one.id, i, one.data) for i, one in enumerate(findings)]
        )


@reading
def load_check(study: Study, claim: str, model: str, images: str) -> str | None:
    """What checking a claim on a model and images, all by content, came to; None where nobody has."""
    found = study.rows(
        "SELECT result FROM finding_check WHERE (claim, model, images) = (?, ?, ?)", claim, model, images
    )
    return str(found[0][0]) if found else None


def save_check(study: Study, claim: str, model: str, images: str, result: str) -> None:
    """Keep what checking a claim came to."""
    with study.writing() as db:
        db.execute("INSERT OR REPLACE INTO finding_check VALUES (?, ?, ?, ?)", (claim, model, images, result))


@reading
def load_exported(study: Study) -> tuple[ExportedFile, ...]:
    """All that went out, the latest first."""
    return tuple(
        ExportedFile(*row)
        for row in study.rows("SELECT id, day, what, number, place FROM handed_back ORDER BY id DESC")
    )


def save_exported(study: Study, one: ExportedFile) -> None:
    """Note something that went out."""
    with study.writing() as db:
        db.execute(
            "INSERT OR REPLACE INTO handed_back VALUES (?, ?, ?, ?, ?)",
            (one.id, one.day, one.what, one.number, one.place),
        )
