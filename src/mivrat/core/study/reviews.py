"""What is seen and decided of single images: causes, a note, another label; by whom; and how the study keeps it."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from mivrat.core.base.text import escaped, unescaped
from mivrat.core.pictures.image_names import ImageName, ImageNames
from mivrat.core.study.decisions import Agreed, Decision, LabelIs
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_names, stored_names
from mivrat.core.study.schema import LABEL_IS_WRONG
from mivrat.core.study.settings import load_setting
from mivrat.core.study.soundness import damaged, json_of, reading

# The setting that says who reviews here.
READER = "reader"


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
READERS_DIFFER, AGREED_ON = "readers differ", "agreed on"
_NO_NAME = ImageName("", "")


@dataclass
class Reviews:
    """The reviews of one image set, by position, and the list of causes. Holders of this object see what changes in it.

    ``reader`` is whose they are, empty where nobody has said; ``others`` is what other readers have decided, by reader and position,
    and ``agreed`` what was agreed on where they differ.
    """

    causes: tuple[Cause, ...] = ()
    by_position: dict[int, Review] = field(default_factory=dict)
    reader: str = ""
    others: dict[str, dict[int, Decision]] = field(default_factory=dict)
    agreed: dict[int, Agreed] = field(default_factory=dict)
    classes: Sequence[str] = ()

    def __getitem__(self, position: int) -> Review:
        return self.by_position.get(position, NOTHING)

    def as_they_are(self) -> Reviews:
        """A copy that later changes do not reach."""
        return replace(self, by_position=dict(self.by_position), agreed=dict(self.agreed))

    def take_over(self, other: Reviews) -> None:
        """Hold what another one holds."""
        vars(self).update(vars(other))

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
        ``cause``, of causes in the list; on whose label ``readers differ``, or which are ``agreed on``."""
        if which == READERS_DIFFER:
            return self._where(listed, self.conflicts())
        if which == AGREED_ON:
            return self._where(listed, self.agreed)
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

    # --- several readers ---

    def decision(self, position: int, name: ImageName = _NO_NAME) -> Decision | None:
        """What this reader has decided of an image; None where nothing."""
        one = self.by_position.get(position)
        if one is None:
            return None
        wrong = one.label is not None or (self.wrong_label is not None and self.wrong_label in one.causes)
        label_is: LabelIs = "wrong" if wrong else "right" if one.dismissed or one.reviewed else "unsure"
        label = self.classes[one.label] if one.label is not None and one.label < len(self.classes) else None
        return Decision(
            content=name.content,
            path=escaped(name.path),
            label_is=label_is,
            label=label,
            causes=self.names(position),
            note=one.note,
        )

    def decisions(self, names: ImageNames | None = None) -> dict[int, Decision]:
        """All that this reader has decided, by position; with the ``names`` of the images where they are given."""
        told = ((i, self.decision(i, names[i] if names is not None else _NO_NAME)) for i in sorted(self.by_position))
        return {i: one for i, one in told if one is not None}

    def decisions_of(self, position: int) -> dict[str, Decision]:
        """What each reader has decided of an image, this one first."""
        own = self.decision(position)
        found = {} if own is None else {self.reader: own}
        return found | {name: some[position] for name, some in self.others.items() if position in some}

    def in_conflict(self, position: int) -> bool:
        """Whether two readers say different things about an image's label, and nothing is agreed on yet."""
        said = self.decisions_of(position).values()
        return position not in self.agreed and any(a.differs_from(b) for a, b in combinations(said, 2))

    def conflicts(self) -> list[int]:
        """The images on whose label readers differ."""
        return [i for i in sorted({i for each in self.others.values() for i in each}) if self.in_conflict(i)]

    def with_causes(self, listed: int, causes: frozenset[int]) -> NDArray[np.bool_]:
        """The images put down to any of some causes."""
        return self._where(listed, (i for i, one in self.by_position.items() if one.causes & causes))

    @staticmethod
    def _where(listed: int, positions: Iterable[int]) -> NDArray[np.bool_]:
        found = np.zeros(listed, bool)
        found[[i for i in positions if i < listed]] = True
        return found

    def proposed(self) -> dict[int, int]:
        """The classes proposed in place of labels, by position; what readers have agreed on comes before what one of them says."""
        found = {i: one.label for i, one in self.by_position.items() if one.label is not None}
        at = {name: k for k, name in enumerate(self.classes)}
        for i, one in self.agreed.items():
            if one.label is not None and one.label in at:
                found[i] = at[one.label]
            else:
                found.pop(i, None)
        return found


@reading
def load_causes(study: Study) -> tuple[Cause, ...]:
    return tuple(Cause(*row) for row in study.rows("SELECT id, name FROM cause ORDER BY position"))


def save_causes(study: Study, causes: Sequence[Cause]) -> None:
    """Keep the list of causes; images keep the ids of causes that are taken out, so that they come back with them."""
    with study.writing() as db:
        db.execute("DELETE FROM cause")
        db.executemany("INSERT INTO cause VALUES (?, ?, ?)", [(one.id, i, one.name) for i, one in enumerate(causes)])


def present_reader(study: Study) -> str:
    """Whose reviews are shown and edited; empty where nobody has said."""
    return load_setting(study, READER) or ""


@reading
def load_reviews(study: Study, set_id: int) -> Reviews:
    """All reviews of an image set, by its present reader and by others; one of a picture that has changed since is kept, and not among
    them."""
    reader = present_reader(study)
    rows = study.rows(
        "SELECT reader, content, path, causes, note, reviewed, label, dismissed FROM review WHERE set_id = ?", set_id
    )
    merged = study.rows("SELECT reader, content, path, decision FROM reader_review WHERE set_id = ?", set_id)
    agreed = study.rows("SELECT content, path, decision FROM agreed_review WHERE set_id = ?", set_id)
    names = load_image_names(study, set_id) if rows or merged or agreed else None
    found = Reviews(load_causes(study), reader=reader, classes=study.classes)
    here: dict[str, dict[int, Review]] = {}
    for who, content, path, causes, note, reviewed, label, dismissed in rows:
        position = _position(names, content, path)
        if position is not None:
            review = Review(frozenset(json_of(causes, list[int])), note, bool(reviewed), label, bool(dismissed))
            here.setdefault(who, {})[position] = review
    found.by_position = here.pop(reader, {})
    for who, some in sorted(here.items()):
        found.others[who] = Reviews(found.causes, some, who, classes=found.classes).decisions(names)
    try:
        for who, content, path, text in merged:
            position = _position(names, content, path)
            if position is not None:
                found.others.setdefault(who, {})[position] = Decision.model_validate_json(text)
        for content, path, text in agreed:
            position = _position(names, content, path)
            if position is not None:
                found.agreed[position] = Agreed.model_validate_json(text)
    except ValidationError as error:
        raise damaged(study.path, "a reader's decision cannot be read") from error
    return found


def _position(names: ImageNames | None, content: bytes, path: str) -> int | None:
    assert names is not None
    return names.position(ImageName(content.hex(), unescaped(path)))


def save_reviews(study: Study, set_id: int, changes: Mapping[int, Review]) -> None:
    """Keep the present reader's reviews of the images at these positions, all or none of them; one that says nothing is forgotten."""
    names, reader = stored_names(study, set_id, changes), present_reader(study)
    with study.writing() as db:
        for position, one in changes.items():
            content, path = names[position]
            db.execute(
                "DELETE FROM review WHERE reader = ? AND set_id = ? AND path = ? AND content IN (?, x'')",
                (reader, set_id, path, content),
            )
            if one != NOTHING:
                causes = json.dumps(sorted(one.causes))
                db.execute(
                    "INSERT INTO review (reader, set_id, content, path, reviewed, dismissed, label, causes, note) "
                    "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (reader, set_id, content, path, one.reviewed, one.dismissed, one.label, causes, one.note),
                )


def save_agreed(study: Study, set_id: int, changes: Mapping[int, Agreed | None]) -> None:
    """Keep what was agreed on for the images at these positions; None: nothing any more."""
    names = stored_names(study, set_id, changes)
    with study.writing() as db:
        for position, one in changes.items():
            content, path = names[position]
            db.execute(
                "DELETE FROM agreed_review WHERE set_id = ? AND path = ? AND content IN (?, x'')",
                (set_id, path, content),
            )
            if one is not None:
                row = set_id, content, path, one.model_dump_json()
                db.execute("INSERT INTO agreed_review VALUES (?, ?, ?, ?)", row)
