"""Who reviews in a study, and what others have decided of the same images, merged by content."""

from __future__ import annotations

from collections.abc import Sequence

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.decisions import LONGEST_NAME, Decision
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, load_image_names
from mivrat.core.study.records import Removed
from mivrat.core.study.removing import rows_of, take_away
from mivrat.core.study.reviews import READER, load_reviews, present_reader
from mivrat.core.study.settings import load_setting, save_setting
from mivrat.core.study.soundness import reading

_BLIND = "read blind"


@reading
def readers_here(study: Study) -> list[str]:
    """Who has reviewed in this study, by name; the present reader is among them even before the first review."""
    found = {name for (name,) in study.rows("SELECT DISTINCT reader FROM review")} | {present_reader(study)}
    return sorted(found - {""})


@reading
def merged_readers(study: Study) -> list[str]:
    """The readers whose decisions were merged, by name."""
    return [name for (name,) in study.rows("SELECT DISTINCT reader FROM reader_review ORDER BY reader")]


def name_reader(study: Study, name: str) -> None:
    """Give the present reader a name, or another one: what was decided stays this reader's. InputError where that is not a name, or
    someone else's."""
    name, before = _as_name(study, name), present_reader(study)
    if name != before and name in readers_here(study):
        raise InputError(
            f"{name} has reviewed in this study", where=study.path, hint="let that reader go on, or give another name"
        )
    hand_over(study, before, name)


def hand_over(study: Study, before: str, name: str) -> None:
    """Let what one reader has decided be another's, who is the present one; nothing is asked."""
    with study.writing() as db:
        db.execute("UPDATE review SET reader = ? WHERE reader = ?", (name, before))
    save_setting(study, READER, name)


def change_reader(study: Study, name: str) -> None:
    """Let someone else review from now on, who begins anew or goes on; what was decided so far stays who decided it. InputError where
    that is not a name, or the reviews so far have none."""
    name = _as_name(study, name)
    if not present_reader(study) and study.rows("SELECT 1 FROM review LIMIT 1"):
        raise InputError(
            "the reviews of this study have no reader yet",
            where=study.path,
            hint="give their reader a name first",
        )
    save_setting(study, READER, name)


def _as_name(study: Study, name: str) -> str:
    name = name.strip()
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise InputError("is not a name", where="reader", hint=f"give 1 to {LONGEST_NAME} letters on one line")
    if name in merged_readers(study):
        raise InputError(
            f"{name}'s decisions were merged into this study",
            where=study.path,
            hint="give the name of who reviews here",
        )
    return name


def reads_blind(study: Study) -> bool:
    """Whether answers and others' decisions are hidden from who reviews here."""
    return load_setting(study, _BLIND) == "yes"


def save_reads_blind(study: Study, blind: bool) -> None:
    save_setting(study, _BLIND, "yes" if blind else "")


def decisions_of(study: Study, reader: str) -> list[Decision]:
    """What a reader of this study has decided of its images; a picture that lies in two sets under one path is told of once."""
    found: dict[tuple[str, str], Decision] = {}
    for info in list_image_sets(study):
        reviews = load_reviews(study, info.id)
        some = reviews.others.get(reader, {})
        if reader == reviews.reader:
            some = reviews.decisions(load_image_names(study, info.id))
        for _, one in sorted(some.items()):
            found.setdefault((one.content, one.path), one)
    return list(found.values())


def merge_decisions(study: Study, set_id: int, reader: str, decisions: Sequence[tuple[ImageName, Decision]]) -> None:
    """Keep another reader's decisions of a set's images, and no others of this reader there; the same again changes nothing."""
    rows = [
        (reader, set_id, bytes.fromhex(name.content), escaped(name.path), one.model_dump_json())
        for name, one in decisions
    ]
    with study.writing() as db:
        db.executemany("INSERT OR REPLACE INTO reader_review VALUES (?, ?, ?, ?, ?)", rows)


def merged_rows(study: Study, reader: str) -> Removed:
    """What is kept of a merged reader, as ``put_back`` puts it back."""
    return rows_of(study, ("reader_review", "reader = ?", reader))


def take_reader_away(study: Study, reader: str) -> Removed:
    """Take the merged decisions of a reader away; ``put_back`` puts them back."""
    return take_away(study, ("reader_review", "reader = ?", reader))
