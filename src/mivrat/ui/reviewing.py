"""Decisions on single images by keys and buttons: causes, notes, other labels; and going from one mistake to the next."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject

from mivrat.core.study.reviews import Review
from mivrat.ui import words
from mivrat.ui.keeper import Keeper
from mivrat.ui.session import Session


@dataclass(frozen=True)
class ReviewProgress:
    """How many of the images to be reviewed have been; ``mistakes`` tells that they are wrong answers, not any images."""

    reviewed: int
    total: int
    mistakes: bool

    def sentence(self) -> str:
        what = "mistakes" if self.mistakes else "images"
        return f"{words.count(self.reviewed)} of {words.count(self.total)} {what} reviewed"


class Reviewer(QObject):
    """Acts on the images marked, or else on the one looked at."""

    def __init__(self, session: Session, keeper: Keeper, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.session, self.keeper = session, keeper

    def _change(self, what: str, change: Callable[[Review], Review], images: list[int] | None = None) -> bool:
        some = self.session.acted_on if images is None else images
        if not some:
            return False
        where = f"{words.images(len(some))}" if len(some) > 1 else words.clipped(self.session.name_of(some[0]), 30)
        reviews = self.session.reviews
        return self.keeper.review(f"{what}, {where}", {i: change(reviews[i]) for i in some})

    def toggle_key(self, number: int) -> bool:
        """Put the images down to the cause with a key from 1 to 9, or take it back; False where no cause has that key."""
        causes = self.session.reviews.causes
        return number <= len(causes) and self.toggle_cause(causes[number - 1].id)

    def toggle_cause(self, cause: int) -> bool:
        """Put the images down to a cause, or take it back where all of them have it; either way they are reviewed."""
        reviews, some = self.session.reviews, self.session.acted_on
        everywhere = all(cause in reviews[i].causes for i in some)

        def change(one: Review) -> Review:
            causes = one.causes - {cause} if everywhere else one.causes | {cause}
            return replace(one, causes=causes, reviewed=True)

        return self._change(f"cause {reviews.name_of(cause)}{' taken away' if everywhere else ''}", change)

    def toggle_reviewed(self) -> bool:
        """Mark the images as reviewed, or as not reviewed where all of them are."""
        seen = all(self.session.reviews[i].reviewed for i in self.session.acted_on)
        return self._change("not reviewed" if seen else "reviewed", lambda one: replace(one, reviewed=not seen))

    def write_note(self, image: int, note: str) -> bool:
        """Keep a note on one image."""
        return self._change("note", lambda one: replace(one, note=note, reviewed=one.reviewed or bool(note)), [image])

    def propose(self, label: int | None, images: list[int] | None = None) -> bool:
        """Propose another label, or with None stay with the one there is; files and source labels are never changed."""
        what = "label kept" if label is None else f"label {words.clipped(self.session.classes[label], 30)}"
        return self._change(
            what,
            lambda one: replace(one, label=label, dismissed=one.dismissed and label is None, reviewed=True),
            images,
        )

    def dismiss(self, images: list[int]) -> bool:
        """Note that the suspicion of a wrong label was looked into and found empty."""
        return self._change(
            "suspicion dismissed", lambda one: replace(one, dismissed=True, label=None, reviewed=True), images
        )

    # --- the review run ---

    def _to_review(self) -> tuple[NDArray[np.bool_], bool]:
        """Which of the images shown are to be reviewed, and whether they are mistakes: all images where none is wrong."""
        snapshot = self.session.snapshot
        if snapshot is None:
            return np.zeros(0, bool), True
        wrong = snapshot.judged.wrong[self.session.shown]
        labelled = bool(snapshot.judged.evaluated[self.session.shown].any())
        return (wrong, True) if wrong.any() or labelled else (np.ones(len(wrong), bool), False)

    def progress(self) -> ReviewProgress:
        """How far the review of the images shown is."""
        wanted, mistakes = self._to_review()
        seen = self._reviewed()
        return ReviewProgress(int((wanted & seen).sum()), int(wanted.sum()), mistakes)

    def _reviewed(self) -> NDArray[np.bool_]:
        snapshot = self.session.snapshot
        listed = snapshot.counts.listed if snapshot is not None else 0
        return self.session.reviews.mask(listed, "reviewed")[self.session.shown]

    def go_to_next(self) -> bool:
        """Look at the next image that is still to be reviewed, after the last from the first again; False where none is."""
        wanted, _ = self._to_review()
        left = np.flatnonzero(wanted & ~self._reviewed())
        if not len(left):
            return False
        further = left[left > self.session.position]
        self.session.look_at(int(self.session.shown[further[0] if len(further) else left[0]]))
        return True
