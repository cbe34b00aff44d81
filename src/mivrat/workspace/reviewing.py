"""Edits of single images by keys and buttons: causes, notes, other labels; and going from one mistake to the next."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base import text
from mivrat.core.selecting.kept import KeptSelection, to_text
from mivrat.core.selecting.selection import Conditions
from mivrat.core.study.reviews import Review
from mivrat.workspace.run_view import RunView
from mivrat.workspace.workspace import Workspace


@dataclass(frozen=True)
class ReviewProgress:
    """How many of the images to be reviewed have been; ``mistakes`` tells that they are wrong answers, not any images."""

    reviewed: int
    total: int
    mistakes: bool

    def sentence(self) -> str:
        what = "mistakes" if self.mistakes else "images"
        return f"{text.count(self.reviewed)} of {text.count(self.total)} {what} reviewed"


# With these keys an image gets a label, in the order of the class list, where answers are hidden and it has none.
CLASS_KEYS = "123456789abcdefghijklmnopqrstuvwxyz"


class Reviewer:
    """Acts on the images marked, or else on the one looked at."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

    @property
    def _shown(self) -> RunView:
        return self.workspace.shown

    def _change(self, what: str, change: Callable[[Review], Review], images: list[int] | None = None) -> bool:
        some = self._shown.focus.acted_on if images is None else images
        if not some:
            return False
        where = f"{text.images(len(some))}" if len(some) > 1 else text.clipped(self._shown.name_of(some[0]), 30)
        reviews = self._shown.reviews
        done = self.workspace.edits.review(f"{what}, {where}", {i: change(reviews[i]) for i in some})
        if done:
            self.workspace.notices.say(f"{what[:1].upper()}{what[1:]}: {where}.")
        return done

    def toggle_key(self, number: int) -> bool:
        """Put the images down to the cause with a key from 1 to 9, or take it back; False where no cause has that key. Who reads blind gives
        images without a label theirs."""
        shown = self._shown
        keys = shown.blind and len(shown.classes) <= len(CLASS_KEYS)
        if keys and shown.focus.acted_on and not self.some_labelled(shown.focus.acted_on):
            return number <= len(shown.classes) and self.label_and_go_on(number - 1)
        causes = self._shown.reviews.causes
        return number <= len(causes) and self.toggle_cause(causes[number - 1].id)

    def toggle_cause(self, cause: int) -> bool:
        """Put the images down to a cause, or take it back where all of them have it; either way they are reviewed."""
        reviews, some = self._shown.reviews, self._shown.focus.acted_on
        everywhere = all(cause in reviews[i].causes for i in some)
        if not everywhere and cause == reviews.wrong_label and not self.some_labelled(some):
            self.workspace.notices.say("This image has no label.")
            return False

        def change(one: Review) -> Review:
            causes = one.causes - {cause} if everywhere else one.causes | {cause}
            return replace(one, causes=causes, reviewed=True)

        return self._change(f"cause {reviews.name_of(cause)}{' taken away' if everywhere else ''}", change)

    def toggle_reviewed(self) -> bool:
        """Mark the images as reviewed, or as not reviewed where all of them are."""
        seen = all(self._shown.reviews[i].reviewed for i in self._shown.focus.acted_on)
        return self._change("not reviewed" if seen else "reviewed", lambda one: replace(one, reviewed=not seen))

    def write_note(self, image: int, note: str) -> bool:
        """Keep a note on one image."""
        return self._change("note", lambda one: replace(one, note=note, reviewed=one.reviewed or bool(note)), [image])

    def propose(self, label: int | None, images: list[int] | None = None) -> bool:
        """Propose another label, or with None stay with the one there is; files and source labels are never changed. A label found
        wrong counts under that cause too."""
        what = "label kept" if label is None else f"label {text.clipped(self._shown.classes[label], 30)}"
        some = self._shown.focus.acted_on if images is None else images
        wrong, labelled = self._shown.reviews.wrong_label, self.some_labelled(some)
        cause = frozenset({wrong}) if wrong is not None and labelled else frozenset()

        def change(one: Review) -> Review:
            causes = one.causes - cause if label is None else one.causes | cause
            return replace(one, label=label, causes=causes, dismissed=one.dismissed and label is None, reviewed=True)

        return self._change(what, change, images)

    def label_and_go_on(self, label: int) -> bool:
        """Give the images a label, and look at the next one that has not been reviewed."""
        done = self.propose(label)
        self.go_to_next()
        return done

    def some_labelled(self, images: Sequence[int]) -> bool:
        """Whether any of some images has a label."""
        return bool((self._shown.judged.labels[np.asarray(images, np.int64)] >= 0).any())

    def dismiss(self, images: list[int]) -> bool:
        """Note that the suspicion of a wrong label was looked into and found empty."""
        return self._change(
            "suspicion dismissed", lambda one: replace(one, dismissed=True, label=None, reviewed=True), images
        )

    # --- kept selections ---

    def keep_as(self, name: str, conditions: Conditions | None = None) -> None:
        """Keep a selection, else the one in force, under a name; one of that name is replaced. What is shown stays."""
        shown = self._shown
        some = shown.conditions if conditions is None else conditions
        others = [one for one in shown.kept if one.name != name]
        made = KeptSelection(name, to_text(some, shown.classes, shown.record.names))
        self.workspace.edits.keep_selections(
            f"selection {name} kept", sorted([*others, made], key=lambda one: one.name)
        )
        self.workspace.notices.say(f"Kept as “{name}”, under Examine, Review.")

    # --- the review run ---

    def _to_review(self) -> tuple[NDArray[np.bool_], bool]:
        """Which of the images shown are to be reviewed, and whether they are mistakes: all images where none is wrong."""
        judged = self._shown.judged
        if self._shown.blind:  # which of them are mistakes is nobody's to know
            return np.ones(len(self._shown.images), bool), False
        wrong = judged.wrong[self._shown.images]
        labelled = bool(judged.evaluated[self._shown.images].any())
        return (wrong, True) if wrong.any() or labelled else (np.ones(len(wrong), bool), False)

    def progress(self) -> ReviewProgress:
        """How far the review of the images shown is."""
        wanted, mistakes = self._to_review()
        seen = self._reviewed()
        return ReviewProgress(int((wanted & seen).sum()), int(wanted.sum()), mistakes)

    def _reviewed(self) -> NDArray[np.bool_]:
        return self._shown.reviews.mask(self._shown.snapshot.counts.listed, "reviewed")[self._shown.images]

    def go_to_next(self) -> bool:
        """Look at the next image that is still to be reviewed, after the last from the first again; False where none is."""
        wanted, _ = self._to_review()
        left = np.flatnonzero(wanted & ~self._reviewed())
        if not len(left):
            return False
        further = left[left > self._shown.focus.position]
        self._shown.focus.look_at(int(self._shown.images[further[0] if len(further) else left[0]]))
        return True
