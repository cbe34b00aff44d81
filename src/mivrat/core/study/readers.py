"""What a study keeps of several readers: whose its own reviews are, and what others have decided of the same images, by content."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import Review, load_reviews
from mivrat.core.study.settings import load_setting, save_setting
from mivrat.core.study.soundness import damaged, reading

LabelIs = Literal["right", "wrong", "unsure"]
LONGEST_NAME = 200
_OWN = "reader"


class Decision(BaseModel):
    """What a reader decided of one image: whether its label is right, the label proposed, causes, a note, and when, as far as known."""

    model_config = ConfigDict(strict=True, extra="forbid")
    content: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")]
    path: str
    label_is: LabelIs
    label: str | None = None
    causes: list[str] = []
    note: str = ""
    when: str = ""


class ReviewFile(BaseModel):
    """A reader's decisions as they go from study to study."""

    model_config = ConfigDict(strict=True, extra="forbid")
    format: Literal["mivrat-review/1"]
    reader: Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
    decisions: list[Decision]


def own_reader(study: Study) -> str:
    """Whose the study's own reviews are; empty where nobody has said."""
    return load_setting(study, _OWN) or ""


def save_own_reader(study: Study, name: str) -> None:
    """Say whose the study's own reviews are. InputError where that is not a name, or another reader's, merged before."""
    name = name.strip()
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise InputError("is not a name", where="reader", hint=f"give 1 to {LONGEST_NAME} letters on one line")
    if name in merged_readers(study):
        raise InputError(
            f"{name}'s decisions were merged into this study",
            where=study.path,
            hint="give the name of who reviews here",
        )
    save_setting(study, _OWN, name)


@reading
def merged_readers(study: Study) -> list[str]:
    """The readers whose decisions were merged, by name."""
    return [name for (name,) in study.rows("SELECT DISTINCT reader FROM reader_review ORDER BY reader")]


def own_decisions(study: Study, set_id: int, names: Mapping[int, ImageName]) -> list[Decision]:
    """The study's own reviews of a set as decisions; ``names`` are its images by position."""
    reviews = load_reviews(study, set_id)
    classes = study.classes
    return [
        Decision(
            content=names[i].content,
            path=names[i].path,
            label_is=_label_is(one, reviews.wrong_label),
            label=classes[one.label] if one.label is not None else None,
            causes=reviews.names(i),
            note=one.note,
        )
        for i, one in sorted(reviews.by_position.items())
        if i in names
    ]


def _label_is(review: Review, wrong_label: int | None) -> LabelIs:
    if review.label is not None or (wrong_label is not None and wrong_label in review.causes):
        return "wrong"
    return "right" if review.dismissed or review.reviewed else "unsure"


def merge_decisions(study: Study, set_id: int, reader: str, decisions: Sequence[tuple[ImageName, Decision]]) -> None:
    """Keep another reader's decisions of a set's images, and no others of this reader there; the same again changes nothing."""
    rows = [(reader, set_id, bytes.fromhex(name.content), name.path, one.model_dump_json()) for name, one in decisions]
    with study.writing() as db:
        db.executemany("INSERT OR REPLACE INTO reader_review VALUES (?, ?, ?, ?, ?)", rows)


@reading
def merged_decisions(study: Study, set_id: int) -> dict[str, dict[ImageName, Decision]]:
    """Others' decisions of a set's images, by reader and image."""
    found: dict[str, dict[ImageName, Decision]] = {}
    for reader, content, path, text in study.db.execute(
        "SELECT reader, content, path, decision FROM reader_review WHERE set_id = ?", (set_id,)
    ):
        try:
            decision = Decision.model_validate_json(text)
        except ValidationError as error:
            raise damaged(study.path, "a reader's decision cannot be read") from error
        found.setdefault(reader, {})[ImageName(content.hex(), path)] = decision
    return found


def file_as_text(reader: str, decisions: Sequence[Decision]) -> str:
    """A reader's decisions as they are written."""
    told = {"format": "mivrat-review/1", "reader": reader, "decisions": [one.model_dump() for one in decisions]}
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"
