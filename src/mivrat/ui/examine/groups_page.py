"""Mistakes grouped by likeness: each group with its typical images, what they share beyond chance, and a name to give."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtGui import QImage, QPixmap, QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.figures.groups import group_names
from mivrat.core.likeness.grouping import LikeGroup, SharedTrait, group_by_likeness, shared_beyond_chance
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.reviews import Reviews
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.thumb_strip import ThumbStrip
from mivrat.ui.parts.widgets import Choice, Scrolled, button, clear, field_of_study, label, row, tip
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace

WHAT = ("all mistakes", "the mistakes shown", "the images shown")
SEED = 0
MOST_SHARED = 4


@dataclass(frozen=True)
class FoundGroups:
    """Groups of some images (positions in the run), and what each shares."""

    images: NDArray[np.int64]
    groups: list[LikeGroup]
    shared: list[list[SharedTrait]]

    def members(self, group: int) -> list[int]:
        """A group's images, the most typical first."""
        found: list[int] = self.images[self.groups[group].members].tolist()
        return found


def facts_about(
    snapshot: Snapshot, images: NDArray[np.int64], reviews: Reviews
) -> list[tuple[str, str, NDArray[np.bool_]]]:
    """What can be shared: label, prediction, columns with few values, causes; with the images each holds for."""
    judged, record = snapshot.judged, snapshot.record
    found = []
    for about, values in (("labelled", judged.labels[images]), ("predicted", judged.predicted[images])):
        found += [(about, record.classes[k], values == k) for k in np.unique(values[values >= 0]).tolist()]
    items = record.image_set.items
    for column in columns_to_group_by(items):
        names = np.array(group_names([items[int(i)].columns.get(column, "") for i in images]))
        found += [(column, str(name), names == name) for name in np.unique(names) if name != "(none)"]
    for cause in reviews.causes:
        holds = np.array([cause.id in reviews[int(i)].causes for i in images], bool)
        if holds.any():
            found.append(("cause", cause.name, holds))
    return found


def group_images(
    snapshot: Snapshot, vectors: NDArray[np.float32], images: NDArray[np.int64], reviews: Reviews, number: int | None
) -> FoundGroups:
    """Group those of some images that have features (slow for thousands: call it in a worker)."""
    known = images[~np.isnan(vectors[images]).any(axis=1)]
    groups = group_by_likeness(vectors[known], number, SEED)
    return FoundGroups(known, groups, shared_beyond_chance(groups, facts_about(snapshot, known, reviews)))


class GroupsPage(Page, QWidget):
    """The groups, one below the other; features are worked out first where they are not known."""

    title, place_id = "Groups", "groups"
    help = "Mistakes that look alike to the model, with what they share. A group can be named as a cause."

    def __init__(self, workspace: Workspace, reviewer: Reviewer, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._reviewer = reviewer
        self.workspace, self._thumbnails = workspace, thumbnails
        self.found: FoundGroups | None = None
        self.cards: list[GroupCard] = []
        self._workers = self.workspace.group(1)
        self._working = LatestOnly(self._workers)
        self._done_for: tuple[Snapshot, object] | None = None
        self.what, self.number = Choice(WHAT, "what to group"), Choice(words.GROUP_NUMBERS, "number of groups")
        self.what.activated.connect(lambda _: self.refresh())
        self.number.activated.connect(lambda _: self.refresh())
        self.told = label(wrap=True)
        self.begin = button("Group by likeness", self.workspace.jobs.find_features, kind="primary")
        self._list = QVBoxLayout()
        self._list.setSpacing(14)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 4, 10, 16)
        inside.addLayout(self._list)
        inside.addStretch(1)
        scroll = Scrolled(body)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 0)
        layout.addLayout(row(self.what, self.number, None))
        layout.addWidget(self.told)
        layout.addLayout(row(self.begin, None))
        layout.addWidget(scroll, 1)
        self._late = Late(
            self,
            self.refresh,
            workspace.topics.features,
            workspace.topics.run,
            workspace.topics.figures,
            workspace.topics.busy,
        )
        workspace.topics.selection.connect(self._follow)

    def begin_anew(self) -> None:
        for box in (self.what, self.number):
            box.setCurrentIndex(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def _images(self) -> NDArray[np.int64]:
        snapshot, what = self.workspace.shown.snapshot, self.what.currentIndex()
        if what == 0:
            return np.flatnonzero(snapshot.judged.wrong)
        shown = np.sort(self.workspace.shown.images)
        return shown[snapshot.judged.wrong[shown]] if what == 1 else shown

    def _follow(self) -> None:
        """The selection has changed: group anew, unless it is one of the groups shown."""
        picked = [one.positions for one in self.workspace.shown.conditions if isinstance(one, Picked)]
        mine = [tuple(card.members) for card in self.cards]
        if self.what.currentIndex() and not any(one in mine for one in picked):
            self.refresh()

    def refresh(self) -> None:
        snapshot, vectors = self.workspace.shown.snapshot, self.workspace.shown.results.vectors
        if not self.isVisible():
            return
        self.begin.setVisible(vectors is None)
        self.begin.setEnabled(not self.workspace.busy)
        if vectors is None:
            self._show(None)
            if not snapshot.record.kind.can.features:
                self.begin.hide()
                self.told.setText(snapshot.record.kind.lacks("Grouping by likeness needs"))
            else:
                self.told.setText(
                    "Images are grouped by how similar the model's last features are. These are computed once, from the "
                    "model and the pictures, and kept."
                )
            return
        images = self._images()
        number = None if self.number.currentIndex() == 0 else self.number.currentIndex() + 1
        asked = vectors.shape, images.tobytes(), number
        if self._done_for is not None and self._done_for[0] is snapshot and self._done_for[1] == asked:
            return
        self._done_for = snapshot, asked
        self._working.cancel()
        self.told.setText("Grouping …")
        reviews = self.workspace.shown.reviews.as_they_are()
        self._working.start(lambda work: group_images(snapshot, vectors, images, reviews, number), done=self._show)

    def _show(self, found: FoundGroups | None) -> None:
        self.found = found
        clear(self._list)
        self.cards = []
        if found is None:
            self._done_for = None
            return
        if not len(found.images):
            self.told.setText("No images to group.")
            return
        self.told.setText(
            f"{words.images(len(found.images))} in {len(found.groups)} groups by how alike the model's last features are, the "
            f"most typical first (seed {SEED}). What they share is more than chance (Holm-corrected)."
        )
        for g in range(len(found.groups)):
            card = GroupCard(self.workspace, self._thumbnails, g, found.members(g), found.shared[g])
            card.looked.connect(self.workspace.topics.look_wanted.emit)
            card.named.connect(self._reviewer.keep_as)
            self.cards.append(card)
            self._list.addWidget(card)

    def as_table(self) -> list[list[str]]:
        """The groups' members, for the clipboard."""
        lines = []
        for card in self.cards:
            shared = "; ".join(f"{one.about} {one.value}" for one in card.shared)
            lines += [[str(card.number + 1), self.workspace.shown.name_of(i), shared] for i in card.members]
        return [["group", "image", "shared"], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


class GroupCard(QWidget):
    """One group: how many, its typical images, what they share, and a field for a name to keep it by."""

    looked = Signal()
    named = Signal(str, object)

    def __init__(
        self,
        workspace: Workspace,
        thumbnails: Thumbnails,
        number: int,
        members: list[int],
        shared: list[SharedTrait],
        *,
        by: str = "likeness",
        picture: QImage | None = None,
    ) -> None:
        """``by`` says what they were grouped by; a ``picture`` of what they have in common stands before them."""
        super().__init__()
        self.workspace, self.number, self.members, self.shared, self._by = workspace, number, members, shared, by
        self.see = button(f"Group {number + 1}: {words.images(len(members))}", self.select, kind="quiet")
        self.see.setStyleSheet("font-weight: 600; padding-left: 0")
        tip(self.see, "Show these images, the most typical first")
        self.name = field_of_study("name it, to keep it")
        self.name.setAccessibleName(f"name for group {number + 1}")
        self.name.setMaximumWidth(240)
        self.name.returnPressed.connect(self._keep)
        self.strip = ThumbStrip(workspace, thumbnails)
        self.strip.show_images(members)
        self.strip.chosen.connect(self._look)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        head = row(self.see, None, self.name)
        layout.addLayout(head)
        if picture is None:
            layout.addWidget(self.strip)
        else:
            common = label()
            common.setPixmap(QPixmap.fromImage(picture))
            tip(common, "the mean of the group's maps")
            line = row(common, self.strip, spacing=12)
            line.setStretch(1, 1)
            layout.addLayout(line)
        told = [
            f"{one.about} {words.clipped(one.value, 36)}: {one.inside} of {one.members} (of all {one.everywhere} of {one.total})"
            for one in shared[:MOST_SHARED]
        ]
        shown = label("\n".join(told) if told else "Nothing significantly shared.", soft=not told, wrap=True)
        tip(shown, "\n".join(f"{one.about} {one.value}: p {one.p:.2g}" for one in shared))
        layout.addWidget(shown)

    def select(self) -> None:
        """Show this group's images."""
        self.workspace.shown.replace(Picked(f"{self._by}, group {self.number + 1}", tuple(self.members)))

    def _look(self, image: int) -> None:
        self.select()
        self.workspace.shown.focus.look_at(image)
        self.workspace.topics.look_wanted.emit()

    def _keep(self) -> None:
        name = self.name.text().strip()
        if name:
            self.named.emit(name, (Picked(name, tuple(self.members)),))
            self.name.clear()
            self.name.setPlaceholderText(f"kept as {words.clipped(name, 24)}")
