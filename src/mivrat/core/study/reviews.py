"""What the analyst has seen and decided of single images: causes, a note, another label; and how the study keeps it."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.text import unescaped
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_names, stored_names
from mivrat.core.study.schema import LABEL_IS_WRONG
from mivrat.core.study.soundness import json_of, reading


@dataclass(frozen=True)
class Cause:
    """Something that mistakes are put down to. The first nine of the list have the keys 1 to 9."""

    id: int
    name: str


@dataclass(frozen=True)
class Review:
    """What is known of one image: causes (their ids), a note, whether it has been reviewed.

    ``label`` is the class proposed in place of its label, which itself is never changed; ``dismissed`` tells that the
    suspicion of a wrong label was looked into and found empty.
    """

    causes: frozenset[int] = frozenset()
    note: str = ""
    reviewed: bool = False
    label: int | None = None
    dismissed: bool = False


NOTHING = Review()


@dataclass
class Reviews:
    """The reviews of one image set, by position, and the list of causes. Holders of this object see what changes in it."""

    causes: tuple[Cause, ...] = ()
    by_position: dict[int, Review] = field(default_factory=dict)

    def __getitem__(self, position: int) -> Review:
        return self.by_position.get(position, NOTHING)

    def put(self, changes: Mapping[int, Review]) -> None:
        """Take changes in; a review that says nothing is forgotten."""
        for position, review in changes.items():
            if review == NOTHING:
                self.by_position.pop(position, None)
            else:
                self.by_position[position] = review

    @property
    def wrong_label(self) -> int | None:
        """The cause that says that the label is wrong, as long as the list has one of that name."""
        return next((one.id for one in self.causes if one.name == LABEL_IS_WRONG), None)

    def name_of(self, cause: int) -> str:
        return next((one.name for one in self.causes if one.id == cause), "?")

    def names(self, position: int) -> list[str]:
        """The names of an image's causes, in the order of the list."""
        return [one.name for one in self.causes if one.id in self[position].causes]

    def mask(self, listed: int, which: str) -> NDArray[np.bool_]:
        """The images that are ``reviewed``, ``not reviewed``, ``reviewed, no cause``, have a ``note``, ``another label`` or a
        ``cause``; causes that are in the list."""
        listed_causes = {one.id for one in self.causes}
        holds: dict[str, Callable[[Review], bool]] = {
            "note": lambda one: bool(one.note),
            "another label": lambda one: one.label is not None,
            "cause": lambda one: bool(one.causes & listed_causes),
            "reviewed, no cause": lambda one: one.reviewed and not one.causes & listed_causes,
            "reviewed": lambda one: one.reviewed,
            "not reviewed": lambda one: one.reviewed,
        }
        says = holds[which]
        found = self._where(listed, (i for i, one in self.by_position.items() if says(one)))
        return ~found if which == "not reviewed" else found

    def with_causes(self, listed: int, causes: frozenset[int]) -> NDArray[np.bool_]:
        """The images put down to any of some causes."""
        return self._where(listed, (i for i, one in self.by_position.items() if one.causes & causes))

    @staticmethod
    def _where(listed: int, positions: Iterable[int]) -> NDArray[np.bool_]:
        found = np.zeros(listed, bool)
        found[[i for i in positions if i < listed]] = True
        return found

    def proposed(self) -> dict[int, int]:
        """The classes proposed in place of labels, by position."""
        return {i: one.label for i, one in self.by_position.items() if one.label is not None}


@reading
def load_causes(study: Study) -> tuple[Cause, ...]:
    return tuple(Cause(*row) for row in study.rows("SELECT id, name FROM cause ORDER BY position"))


def save_causes(study: Study, causes: Sequence[Cause]) -> None:
    """Keep the list of causes; images keep the ids of causes that are taken out, so that they come back with them."""
    with study.writing() as db:
        db.execute("DELETE FROM cause")
        db.executemany("INSERT INTO cause VALUES (?, ?, ?)", [(one.id, i, one.name) for i, one in enumerate(causes)])


@reading
def load_reviews(study: Study, set_id: int) -> Reviews:
    """All reviews of an image set; one of a picture that has changed since is kept, and not among them."""
    rows = study.rows(
        "SELECT content, path, causes, note, reviewed, label, dismissed FROM review WHERE set_id = ?", set_id
    )
    names = load_image_names(study, set_id) if rows else None
    found = {}
    for content, path, causes, note, reviewed, label, dismissed in rows:
        assert names is not None
        position = names.position(ImageName(content.hex(), unescaped(path)))
        if position is not None:
            causes = frozenset(json_of(causes, list[int]))
            found[position] = Review(causes, note, bool(reviewed), label, bool(dismissed))
    return Reviews(load_causes(study), found)


def save_reviews(study: Study, set_id: int, changes: Mapping[int, Review]) -> None:
    """Keep the reviews of the images at these positions, all or none of them; one that says nothing is forgotten."""
    names = stored_names(study, set_id, changes)
    with study.writing() as db:
        for position, one in changes.items():
            content, path = names[position]
            db.execute(
                "DELETE FROM review WHERE set_id = ? AND path = ? AND content IN (?, x'')", (set_id, path, content)
            )
            if one != NOTHING:
                causes = json.dumps(sorted(one.causes))
                db.execute(
                    "INSERT INTO review (set_id, content, path, reviewed, dismissed, label, causes, note) "
                    "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                    (set_id, content, path, one.reviewed, one.dismissed, one.label, causes, one.note),
                )
