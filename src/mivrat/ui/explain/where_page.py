"""Where the evidence lies over many images: their maps made in the background, mean maps, and groups by place."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QCheckBox, QMenu, QVBoxLayout, QWidget

from mivrat.core.heatmaps.combining import mean_map
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.methods import SIGNED
from mivrat.core.likeness.by_place import group_by_place
from mivrat.core.likeness.grouping import SharedTrait, shared_beyond_chance
from mivrat.core.reporting.heat_folder import write_selection
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.reviews import Reviews
from mivrat.ui import words
from mivrat.ui.examine.groups_page import WHAT, GroupCard, facts_about
from mivrat.ui.explain.map_grid import MapGrid, NamedMap, picture_of
from mivrat.ui.explain.setup_row import SetupRow
from mivrat.ui.parts.file_dialogs import ask_for_folder, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import Choice, Scrolled, button, clear, label, more_button, offer_by_right_click, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.reviewing import Reviewer

BY = ("all together", "right and wrong", "labelled class", "predicted class", "pair")
# So many mean maps are painted at most, those of most images.
MOST_MAPS = 60


@dataclass(frozen=True)
class Placed:
    """One group by place: its images, the most typical first, its mean map, and what its members share."""

    members: tuple[int, ...]
    mean: NamedMap
    shared: list[SharedTrait]


def names_by(snapshot: Snapshot, images: list[int], by: int) -> dict[str, list[int]]:
    """Images put together as a mean map is wanted by."""
    judged, classes, found = snapshot.judged, snapshot.record.classes, dict[str, list[int]]()
    for i in images:
        labelled, called = int(judged.labels[i]), int(judged.predicted[i])
        label_name, called_name = (classes[k] if k >= 0 else "no label" for k in (labelled, called))
        name = (
            "images shown",
            "wrong" if judged.wrong[i] else "right" if judged.right[i] else "no label",
            label_name,
            called_name,
            f"{label_name} → {called_name}",
        )[by]
        found.setdefault(name, []).append(i)
    return found


def mean_maps(snapshot: Snapshot, maps: dict[int, Map], images: list[int], by: int, signed: bool) -> list[NamedMap]:
    """The mean maps of some images whose maps are known, those of most images first."""
    groups = names_by(snapshot, [i for i in images if i in maps], by)
    found = []
    for name, some in sorted(groups.items(), key=lambda one: (-len(one[1]), one[0]))[:MOST_MAPS]:
        mean = mean_map([maps[i] for i in some])
        found.append(NamedMap(name, mean, picture_of(mean.heat, signed), tuple(some)))
    return found


def placed_groups(
    snapshot: Snapshot,
    maps: dict[int, Map],
    images: NDArray[np.int64],
    reviews: Reviews,
    number: int | None,
    signed: bool,
) -> list[Placed]:
    """Images grouped by where their evidence lies (slow for thousands: call it in a worker)."""
    known = np.array([i for i in images.tolist() if i in maps], np.int64)
    groups = group_by_place([maps[i] for i in known.tolist()], number)
    shared = shared_beyond_chance(groups, facts_about(snapshot, known, reviews))
    found = []
    for g, group in enumerate(groups):
        members: list[int] = known[group.members].tolist()
        mean = mean_map([maps[i] for i in members])
        named = NamedMap(f"group {g + 1}", mean, picture_of(mean.heat, signed, 72), tuple(members))
        found.append(Placed(tuple(members), named, shared[g]))
    return found


class WherePage(Page, QWidget):
    """What maps are known, mean maps of the images shown, and groups."""

    title, place_id = "Where", "where"
    help = "Where the evidence lies over many images: mean heatmaps, and groups by place."

    heat_wanted = Signal(bool)

    def __init__(self, explainer: Explainer, reviewer: Reviewer, thumbnails: Thumbnails) -> None:
        super().__init__()
        self._reviewer = reviewer
        self.explainer, self.workspace, self._thumbnails = explainer, explainer.workspace, thumbnails
        self.cards: list[GroupCard] = []
        self.groups: list[Placed] = []
        self._workers = self.workspace.group(1)
        self._meaning = LatestOnly(self._workers)
        self._grouping: Task | None = None
        self._soon = self.workspace.soon(80, self._work_out)
        self._grouped: tuple[object, ...] | None = None
        self._build()
        self._late = Late(
            self,
            self.refresh,
            explainer.maps_changed,
            explainer.setup_changed,
            self.workspace.topics.busy,
            self.workspace.topics.selection,
            self.workspace.topics.figures,
        )

    def _build(self) -> None:
        self.setup = SetupRow(self.explainer)
        self.told = label(wrap=True)
        self.begin = button("Make the maps", self.explainer.make_maps, kind="primary")
        tip(self.begin, "Work out the maps that are missing, in the background; they are kept")
        self.on_table = QCheckBox("heat on the light table (Shift+H)")
        self.on_table.toggled.connect(self.heat_wanted)
        self.by, self.what, self.number = (
            Choice(BY, "mean map by"),
            Choice(WHAT, "what to group"),
            Choice(words.GROUP_NUMBERS, "number of groups"),
        )
        self.by.activated.connect(lambda _: self.refresh())
        self.what.activated.connect(lambda _: self.refresh())
        self.number.activated.connect(lambda _: self.refresh())
        self.grid = MapGrid()
        self.grid.chosen.connect(self._choose_mean)
        self.more = more_button("save these maps", "Save the maps of the images shown")
        menu = QMenu(self.more)
        menu.addAction("Write the maps of the images shown to a folder…").triggered.connect(lambda: self._ask_folder())
        self.more.setMenu(menu)
        offer_by_right_click(self.more, self)
        self.mean_told, self.groups_told = label(soft=True, wrap=True), label(soft=True, wrap=True)
        self._list = QVBoxLayout()
        self._list.setSpacing(14)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 4, 10, 14)
        inside.setSpacing(8)
        inside.addLayout(row(label("Mean map", "heading"), label("by", soft=True), self.by, None, spacing=6))
        inside.addWidget(self.mean_told)
        inside.addWidget(self.grid)
        inside.addLayout(flowing(label("Groups by place", "heading"), self.what, self.number))
        inside.addWidget(self.groups_told)
        inside.addLayout(self._list)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.setup)
        layout.addWidget(self.told)
        layout.addLayout(row(self.begin, self.on_table, None, self.more))
        layout.addWidget(Scrolled(body), 1)

    def begin_anew(self) -> None:
        self._grouping = self._grouped = None
        for box in (self.by, self.what, self.number):
            box.setCurrentIndex(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.refresh()

    # --- what there is ---

    def refresh(self) -> None:
        """Tell what is known, and work out the rest as soon as nothing changes any more."""
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        able, shown, maps = self.explainer.can_explain, self.workspace.shown.images, self.explainer.maps
        pending, is_shown = self.explainer.pending() if able else [], self.workspace.shown.shown_mask()
        known, zero = (
            sum(i < len(is_shown) and bool(is_shown[i]) for i in some) for some in (maps, self.explainer.zero)
        )
        if not able:
            self.told.setText(snapshot.record.kind.lacks("Heatmaps need"))
        elif problem := self.explainer.without_layers(self.explainer.setup.method):
            self.told.setText(problem)
            pending = []
        else:
            without = len(shown) - known - len(pending)
            parts = [f"{words.count(known)} of the {words.images(len(shown))} shown have their map"]
            if zero:
                parts.append(f"{words.count(zero)} of these are all zero")
            if without:
                parts.append(f"{words.count(without)} can have none (no answer, or no such class)")
            if self.explainer.asks and pending:
                each = self.explainer.answers_taken(self.explainer.setup.method)
                parts.append(f"those missing take {self.explainer.cost(each * len(pending))}")
            self.told.setText("; ".join(parts) + ".")
        self.begin.setVisible(bool(pending))
        self.begin.setText(
            f"Make the {words.count(len(pending))} missing maps" if len(pending) > 1 else "Make the missing map"
        )
        self.begin.setEnabled(not self.workspace.busy)
        self.on_table.setEnabled(able)
        self.more.setVisible(bool(known))
        self._soon.start()

    def _work_out(self) -> None:
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        maps, shown, by = self.explainer.maps, self.workspace.shown.images.tolist(), self.by.currentIndex()
        signed = self.explainer.setup.method in SIGNED
        self._meaning.cancel()
        self._meaning.start(lambda work: mean_maps(snapshot, maps, shown, by, signed), done=self._show_means)
        if self._grouping is not None and self.workspace.busy:
            return  # groups are made once the maps have come
        number = None if self.number.currentIndex() == 0 else self.number.currentIndex() + 1
        images = self._images(snapshot)
        asked = (id(maps), len(maps), images.tobytes(), number)
        if asked == self._grouped or self.workspace.busy:
            return
        self._grouped = asked
        if self._grouping is not None:
            self._grouping.cancel()
        reviews = self.workspace.shown.reviews.as_they_are()
        self.groups_told.setText("Grouping …")
        self._grouping = self._workers.start(
            lambda work: placed_groups(snapshot, maps, images, reviews, number, signed), done=self._show_groups
        )

    def _images(self, snapshot: Snapshot) -> NDArray[np.int64]:
        wrong, what = snapshot.judged.wrong, self.what.currentIndex()
        if what == 0:
            return np.flatnonzero(wrong)
        shown = np.sort(self.workspace.shown.images)
        picked = [one.positions for one in self.workspace.shown.conditions if isinstance(one, Picked)]
        if any(one.members == some for one in self.groups for some in picked):
            # A group was chosen: what it was chosen from stays.
            shown = np.sort(np.array([i for one in self.groups for i in one.members], np.int64))
        return shown[wrong[shown]] if what == 1 else shown

    def _show_means(self, found: list[NamedMap]) -> None:
        self.grid.show_maps(found)
        whose = self.explainer.setup.in_words(self.workspace.shown.classes)
        self.mean_told.setText(
            f"The mean of maps for {whose}, each divided by its peak; drawn divided by its own. A click shows the images."
            if found
            else "Mean maps appear here once maps are made."
        )

    def _show_groups(self, found: list[Placed]) -> None:
        self.groups = found
        clear(self._list)
        self.cards = []
        if not found:
            self.groups_told.setText("Groups appear here once the maps of these images are made.")
            self._grouped = None
            return
        total = sum(len(one.members) for one in found)
        self.groups_told.setText(
            f"{words.images(total)} in {len(found)} groups by where their evidence lies, the most typical first (seed 0). Shared: "
            "what is significant among them, corrected for all that was asked (Holm)."
        )
        for g, one in enumerate(found):
            card = GroupCard(
                self.workspace,
                self._thumbnails,
                g,
                list(one.members),
                one.shared,
                by="place of the evidence",
                picture=one.mean.picture,
            )
            card.looked.connect(self.workspace.topics.look_wanted.emit)
            card.named.connect(self._reviewer.keep_as)
            self.cards.append(card)
            self._list.addWidget(card)

    def _choose_mean(self, at: int) -> None:
        one = self.grid.maps[at]
        if self.by.currentIndex():
            self.workspace.shown.replace(Picked(f"mean map, {one.name}", one.images))

    # --- saving ---

    def _ask_folder(self) -> None:
        found = ask_for_folder(self, "A folder for the maps", folder_to_save_in(self.workspace.study_path))
        if found is not None:
            self.write_folder(found)

    def write_folder(self, folder: Path) -> None:
        """Write the maps of the images shown: overlays, arrays, and an index."""
        snapshot, setup = self.workspace.shown.snapshot, self.explainer.setup
        maps = {i: self.explainer.maps[i] for i in self.workspace.shown.images.tolist() if i in self.explainer.maps}
        if maps:
            self.explainer.workspace.jobs.export(
                f"Writing {words.count(len(maps))} maps to {folder.name}",
                lambda: write_selection(snapshot.record, snapshot.judged, setup, maps, folder),
            )

    def as_table(self) -> list[list[str]]:
        """The groups' members, for the clipboard."""
        lines = [
            [str(g + 1), self.workspace.shown.name_of(i)] for g, one in enumerate(self.groups) for i in one.members
        ]
        return [["group", "image"], *lines]

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._workers.stop_all()
