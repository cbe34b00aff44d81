"""The evidence sheet: the hottest pieces of many images side by side, in groups that can be hidden or pasted elsewhere."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QRect, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.heatmaps.methods import WITHOUT_LAYER
from mivrat.core.likeness.pieces import MOST_IMAGES, Cutting, CuttingGroup
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.explain.cover_page import CoverPage
from mivrat.ui.explain.transplant_form import ANY
from mivrat.ui.explain.transplant_page import TransplantPage
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import Choice, Scrolled, button, clear, label, plain, row, spin, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.theme import theme
from mivrat.workspace.evidence_sheet import SheetMaker
from mivrat.workspace.transplanting import Transplanter
from mivrat.workspace.workspace import Workspace

SIDE, GAP, LINES = 64, 6, 2


class PieceStrip(QWidget):
    """As many pieces as fit in a few lines; a click, or Enter on the one the arrows chose, looks at its image."""

    chosen = Signal(int)

    def __init__(self, workspace: Workspace, pieces: list[Cutting], bgr: bool, name: str) -> None:
        super().__init__()
        self.workspace, self.pieces, self.at = workspace, pieces, 0
        self._pictures = [to_image(one.picture[..., ::-1] if bgr else one.picture) for one in pieces[: 40 * LINES]]
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(SIDE)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(name)
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(SIDE * 4, SIDE)

    def resizeEvent(self, event: QEvent) -> None:
        lines = min(LINES, -(-len(self._pictures) // self._across()))
        self.setFixedHeight(lines * (SIDE + GAP) - GAP)

    def _across(self) -> int:
        return max(1, (self.width() + GAP) // (SIDE + GAP))

    def fitting(self) -> int:
        """How many pieces are in sight."""
        return min(len(self._pictures), LINES * self._across())

    def rect_of(self, i: int) -> QRect:
        """Where a piece is drawn."""
        down, across = divmod(i, self._across())
        return QRect(across * (SIDE + GAP), down * (SIDE + GAP), SIDE, SIDE)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            for i in range(self.fitting()):
                painter.drawImage(self.rect_of(i), self._pictures[i])
            if self.hasFocus() and self.fitting():
                painter.setPen(QPen(theme.colour("accent"), 2))
                painter.drawRect(self.rect_of(self.at).adjusted(1, 1, -1, -1))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for i in range(self.fitting()):
            if self.rect_of(i).contains(event.position().toPoint()) and event.button() == Qt.MouseButton.LeftButton:
                self.at = i
                self.chosen.emit(self.pieces[i].image)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._across(),
            Qt.Key.Key_Down: self._across(),
        }
        step = steps.get(Qt.Key(event.key()))
        if step is not None and 0 <= self.at + step < self.fitting():
            self.at += step
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.chosen.emit(self.pieces[self.at].image)
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            for i in range(self.fitting()):
                if self.rect_of(i).contains(event.pos()):
                    one = self.pieces[i]
                    told = f"{self.workspace.shown.name_of(one.image)}\n{percent(one.evidence, 0)} of the hottest part's evidence"
                    QToolTip.showText(event.globalPos(), plain(told), self)
            return True
        return super().event(event)


class PieceCard(QWidget):
    """One group: its images, how many are right, its pieces, and what can be done with them. Signals carry the group."""

    cover_wanted, paste_wanted = Signal(int), Signal(int)

    def __init__(self, workspace: Workspace, number: int, group: CuttingGroup, pieces: list[Cutting]) -> None:
        super().__init__()
        self.workspace, self.number, self.group = workspace, number, group
        many = f"{len(group.members)} piece{'s' if len(group.members) > 1 else ''} of {words.images(len(group.images))}"
        self.see = button(f"Group {number + 1}: {many}", self.select, kind="quiet")
        self.see.setStyleSheet("font-weight: 600; padding-left: 0")
        tip(self.see, "Show these images, the most typical piece first")
        self.right = label()
        right = group.right
        self.right.setText(
            f"correct: {right.hits} of {right.total}  {with_bounds(right)}"
            if right.total
            else "none of them has a label"
        )
        tip(self.right, words.how(right))
        self.cover = button("Cover them", lambda: self.cover_wanted.emit(number))
        tip(self.cover, "Hide these pieces, each in its own image, and see which answers change")
        self.paste = button("Paste elsewhere", lambda: self.paste_wanted.emit(number))
        tip(self.paste, "Paste these pieces onto other images, and see how many answers they carry over")
        bgr = workspace.shown.record.recipe.picture.mode == "BGR"
        self.strip = PieceStrip(workspace, pieces, bgr, f"pieces of group {number + 1}")
        self.strip.chosen.connect(self._look)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(row(self.see, None, self.cover, self.paste))
        layout.addWidget(self.strip)
        layout.addWidget(self.right)

    def select(self) -> None:
        """Show this group's images."""
        self.workspace.shown.replace(Picked(f"evidence sheet, group {self.number + 1}", self.group.images))

    def _look(self, image: int) -> None:
        self.select()
        self.workspace.shown.focus.look_at(image)
        self.workspace.topics.look_wanted.emit()


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
