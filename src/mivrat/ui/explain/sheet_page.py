"""The evidence sheet: the hottest pieces of many images side by side, in groups that can be hidden or pasted elsewhere."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent
from mivrat.core.heatmaps.methods import WITHOUT_LAYER
from mivrat.core.likeness.pieces import MOST_IMAGES
from mivrat.ui import words
from mivrat.ui.explain.cover_page import CoverPage
from mivrat.ui.explain.piece_card import PieceCard
from mivrat.ui.explain.transplant_form import ANY
from mivrat.ui.explain.transplant_page import TransplantPage
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Choice, Scrolled, button, clear, label, row, spin, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.evidence_sheet import SheetMaker
from mivrat.workspace.transplanting import Transplanter


class SheetPage(Page, QWidget):
    """What to cut out above; the groups below. ``page_wanted`` asks for the page that shows what a test came to."""

    title, place_id = "Evidence sheet", "evidence sheet"
    help = "The hottest pieces of the images shown, side by side, grouped by how alike the model finds them."
    page_wanted = Signal(str)

    def __init__(self, transplanter: Transplanter) -> None:
        super().__init__()
        self.explainer, self.workspace = transplanter.explainer, transplanter.workspace
        self.maker = SheetMaker(transplanter)
        self.cards: list[PieceCard] = []
        self.part = spin(1, 60, 8, "the hottest part of each image, in percent of its area")
        self.part.setPrefix("hottest ")
        self.part.setSuffix(" %")
        self.number = Choice(words.GROUP_NUMBERS, "number of groups")
        self.number.activated.connect(lambda i: self.maker.group(None if i == 0 else i + 1))
        self.onto = Choice((ANY,), "onto which images pieces are pasted, by label")
        self.onto.setSizeAdjustPolicy(self.onto.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.onto.setMinimumContentsLength(12)
        self.told = label(wrap=True)
        self.begin = button("Cut out pieces", self.make, kind="primary")
        tip(self.begin, "Take the separate pieces of the hottest part of each image shown, and group them")
        self._list = QVBoxLayout()
        self._list.setSpacing(16)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 4, 10, 16)
        inside.addLayout(self._list)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 0)
        pasting = QWidget()
        pasting.setLayout(row(label("paste onto", soft=True), self.onto, spacing=4))
        layout.addLayout(flowing(self.part, self.number, pasting, spacing=4))
        layout.addWidget(self.told)
        layout.addLayout(row(self.begin, None))
        layout.addWidget(Scrolled(body), 1)
        self.maker.changed.connect(self._show)
        topics = self.workspace.topics
        for topic in (topics.selection, topics.busy, self.explainer.setup_changed, self.explainer.layers_changed):
            topic.connect(self.refresh)
        topics.run.connect(self._new_run)

    def _new_run(self) -> None:
        kept = self.onto.currentText()
        self.onto.clear()
        self.onto.addItems([ANY, *self.workspace.shown.classes])
        self.onto.setCurrentIndex(max(0, self.onto.findText(kept)))
        self.refresh()

    def begin_anew(self) -> None:
        self.part.setValue(8)
        self.number.setCurrentIndex(0)
        self.maker.number = None
        self.onto.setCurrentIndex(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.refresh()

    def refresh(self) -> None:
        """Follow the selection: what could be cut out, and whether it can be."""
        if not self.workspace.is_open or not self.isVisible():
            return
        shown = self.workspace.shown
        number = min(len(shown.images), MOST_IMAGES)
        can = self.maker.can_cut and self.explainer.setup.method not in WITHOUT_LAYER
        self.begin.setText(f"Cut out the pieces of {words.images(number)}")
        self.begin.setEnabled(can and bool(number) and not self.workspace.busy)
        for card in self.cards:
            for one in (card.cover, card.paste):
                one.setEnabled(not self.workspace.busy)
        self.told.setText(self._about() if can else self._why_not())

    def _why_not(self) -> str:
        if not self.maker.can_cut:
            return self.workspace.shown.record.kind.lacks("An evidence sheet needs")
        return "Pieces are told apart by a layer's features: choose a method with a layer under Where."

    def _about(self) -> str:
        found = self.maker.found
        if found is None:
            whose = self.explainer.setup.in_words(self.workspace.shown.classes)
            return (
                f"What does the model look at? The hottest part of each image shown, by the evidence for {whose}, is cut into its separate pieces; "
                "pieces whose features are alike stand together."
            )
        sheet = found.sheet
        none = f" {words.images(sheet.without)} without any evidence." if sheet.without else ""
        if not sheet.pieces:
            return f"No image of {found.of} has a piece.{none}"
        return (
            f"{len(sheet.pieces)} pieces of {words.images(sheet.images - sheet.without)} ({found.of}), the hottest {percent(found.part, 0)} of each by "
            f"the evidence for {found.setup.in_words(self.workspace.shown.classes)}, in {len(sheet.groups)} groups, the most typical first (seed 0).{none}"
        )

    def make(self) -> None:
        """Make the sheet of the images shown."""
        self.maker.make(self.part.value() / 100, self.workspace.shown.in_words)

    def _show(self) -> None:
        clear(self._list)
        self.cards = []
        found = self.maker.found
        for g, group in enumerate(found.sheet.groups if found is not None else ()):
            assert found is not None
            card = PieceCard(self.workspace, g, group, [found.sheet.pieces[at] for at in group.members])
            card.cover_wanted.connect(self._cover)
            card.paste_wanted.connect(self._paste)
            self.cards.append(card)
            self._list.addWidget(card)
        self.refresh()

    def _cover(self, group: int) -> None:
        self.maker.cover(group)
        self.page_wanted.emit(CoverPage.place_id)

    def _paste(self, group: int) -> None:
        self.maker.transplant(group, self.onto.currentIndex() - 1)
        self.page_wanted.emit(TransplantPage.place_id)

    def as_table(self) -> list[list[str]]:
        """Every piece with its group, for the clipboard."""
        lines = [
            [
                str(card.number + 1),
                self.workspace.shown.name_of(one.image),
                *(f"{end:.4f}" for end in one.box),
                f"{one.evidence:.4f}",
            ]
            for card in self.cards
            for one in card.strip.pieces
        ]
        return [["group", "image", "left", "top", "right", "bottom", "evidence"], *lines]

    @property
    def settled(self) -> bool:
        return self.maker.settled

    def stop(self) -> None:
        self.maker.stop()
