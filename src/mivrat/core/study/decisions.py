"""What a reader decides of one image, as it goes from study to study: whether its label is right, another label, causes, a note."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

LabelIs = Literal["right", "wrong", "unsure"]
LONGEST_NAME = 200


class Decision(BaseModel):
    """What a reader decided of one image: whether its label is right, the label proposed, causes, a note, and when, as far as known."""

    model_config = ConfigDict(strict=True, extra="forbid", frozen=True)
    content: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")]
    path: str
    label_is: LabelIs
    label: str | None = None
    causes: list[str] = []
    note: str = ""
    when: str = ""

    def differs_from(self, other: Decision) -> bool:
        """Whether two readers say different things about the label; who is unsure contradicts nobody."""
        sure = "unsure" not in (self.label_is, other.label_is)
        return sure and (self.label_is, self.label) != (other.label_is, other.label)


class Agreed(BaseModel):
    """What was agreed on for an image whose label readers had decided differently: a record of its own, which names them."""

    model_config = ConfigDict(strict=True, extra="forbid", frozen=True)
    label_is: Literal["right", "wrong"]
    label: str | None = None
    readers: list[str]


class ReviewFile(BaseModel):
    """A reader's decisions as they go from study to study."""

    model_config = ConfigDict(strict=True, extra="forbid")
    format: Literal["mivrat-review/1"]
    reader: Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
    decisions: list[Decision]


def file_as_text(reader: str, decisions: Sequence[Decision]) -> str:
    """A reader's decisions as they are written."""
    told = {"format": "mivrat-review/1", "reader": reader, "decisions": [one.model_dump() for one in decisions]}
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"
