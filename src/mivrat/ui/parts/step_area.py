"""The figures area of a step: its pages, one at a time under tabs, and what all of them can do."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QPoint, QRect, Qt, Signal
from PySide6.QtGui import QImage, QKeySequence, QPainter, QShortcut
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import (
    QAbstractScrollArea,
    QLayout,
    QLineEdit,
    QMenu,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from mivrat.ui.parts.file_dialogs import ask_to_save, file_kinds, folder_to_save_in
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import OF_STUDY, Tabs, copy_table, more_button, offer_by_right_click, row
from mivrat.ui.theme import theme
from mivrat.workspace.concluding import Concluder


class Working(Protocol):
    """What works something out in the background; ``settled`` once nothing of it goes on."""

    @property
    def settled(self) -> bool: ...

    def stop(self) -> None: ...


class StepArea(QWidget):
    """Pages under tabs; a step with one page has no tabs. ``finding_wanted`` asks for what is shown to be made a finding."""

    finding_wanted = Signal()

    def __init__(self, *kinds: type[Page]) -> None:
        super().__init__()
        self._kinds, self.tabs = kinds, Tabs([kind.title for kind in kinds], [kind.help for kind in kinds])
        self.pages = QStackedWidget()
        # The file of the study shown, beside which pictures are saved.
        self.study_path: Callable[[], Path | None] = lambda: None
        # What works in the background for the step: its pages, and what is shared by them.
        self.parts: list[Page] = []
        self.workers: list[Working] = []

    def fill(self, *pages: QWidget, top: QLayout | None = None) -> None:
        """Put the pages in place, in the order of the names; ``top`` lays out the line of the tabs, where more stands there."""
        for page, kind in zip(pages, self._kinds, strict=True):
            assert isinstance(page, kind), f"{type(page).__name__} is no {kind.__name__}"
            self.parts.append(page)
            self.pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 10, 14, 0)
        if len(pages) > 1:
            self.tabs.chosen.connect(self.pages.setCurrentIndex)
            head = QWidget()
            head.setLayout(top or row(self.tabs))
            layout.addWidget(head)
            theme.style(head)
        else:
            self.tabs.setParent(self)
            self.tabs.hide()
        layout.addWidget(self.pages, 1)
        theme.style(*pages)

    def begin_anew(self) -> None:
        """Another study: its first page, without what was looked for or typed in the one before."""
        self.tabs.choose(0)
        for field in self.findChildren(QLineEdit):
            if field.property(OF_STUDY):
                field.clear()
        for part in self.parts:
            part.begin_anew()
        self.scroll_up()

    def scroll_up(self) -> None:
        """Show every page from its beginning."""
        for area in self.findChildren(QAbstractScrollArea):
            area.verticalScrollBar().setValue(0)

    def choose(self, page: int) -> None:
        """Show a page."""
        self.tabs.choose(page)

    @property
    def place_id(self) -> str:
        """What stands for the page shown in a bookmark."""
        return self._current.place_id

    def go_to(self, place_id: str) -> None:
        """Show the page that this stands for, if there is one; bookmarks of earlier versions have its title."""
        for i, kind in enumerate(self._kinds):
            if place_id.lower() in (kind.place_id, kind.title.lower()):
                self.choose(i)

    @property
    def help(self) -> tuple[str, str]:
        """The title of the page shown, and what it is for."""
        return self._current.title, self._current.help

    @property
    def page(self) -> QWidget:
        """The page shown."""
        found = self.pages.currentWidget()
        assert found is not None
        return found

    @property
    def companion(self) -> QWidget | None:
        """What stands in the place of the light table while the page shown is; None: the light table stays."""
        return None

    @property
    def _current(self) -> Page:
        """What the page shown can do."""
        return self.parts[self.pages.currentIndex()]

    @property
    def _all(self) -> list[Working]:
        return [*self.parts, *self.workers]

    def export_button(self, name: str, about: str, *more: tuple[str, Callable[[], object]]) -> QToolButton:
        """A ⋯ with copying the page as a table, and what more a step offers, by right click too."""
        made = more_button(name, about)
        menu = QMenu(made)
        menu.addAction("Copy as a table (Ctrl+Shift+C)").triggered.connect(lambda: self.copy_table())
        menu.addAction("Add to a finding (F)").triggered.connect(lambda: self.finding_wanted.emit())
        for text, do in more:
            menu.addAction(text).triggered.connect(lambda _=False, do=do: do())
        made.setMenu(menu)
        offer_by_right_click(made, self.pages)
        self.offer_copying()
        return made

    def offer_copying(self) -> None:
        """Let Ctrl+Shift+C copy the page shown as a table."""
        shortcut = QShortcut(QKeySequence("Ctrl+Shift+C"), self)
        shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        shortcut.activated.connect(self.copy_table)

    def make_finding(self, concluder: Concluder) -> bool:
        """Make a finding of what the page shows; False where it has nothing of its own."""
        return self._current.finding(concluder)

    def copy_table(self) -> None:
        """Put what the page shows on the clipboard, as comma-separated values."""
        lines = self._current.as_table()
        if lines is not None:
            copy_table(lines)

    def choose_picture(self) -> None:
        """Ask where the page shown is to be saved as a picture, and save it."""
        name = self.tabs.current_name.lower()
        place = folder_to_save_in(self.study_path()) / f"{name}.png"
        found = ask_to_save(self, "Save as a picture", place, file_kinds("PNG (*.png)", "SVG (*.svg)"))
        if found is not None:
            self.save_picture(found)

    def save_picture(self, path: Path) -> None:
        """Draw the page into a file: SVG where its name ends so, else PNG at twice the screen's size."""
        page = self.page
        size = page.size()
        if path.suffix.lower() == ".svg":
            generator = QSvgGenerator()
            generator.setFileName(str(path))
            generator.setSize(size)
            generator.setViewBox(QRect(0, 0, size.width(), size.height()))
            generator.setTitle(self.tabs.current_name)
            with QPainter(generator) as painter:
                painter.fillRect(0, 0, size.width(), size.height(), theme.colour("paper"))
                page.render(painter, QPoint())
            return
        picture = QImage(size * 2, QImage.Format.Format_RGB32)
        picture.setDevicePixelRatio(2)
        picture.fill(theme.colour("paper"))
        page.render(picture)
        picture.save(str(path if path.suffix else path.with_suffix(".png")))

    def focus_first(self) -> None:
        """Give the focus to the highest thing on the page that takes it."""
        page = self.page
        for one in [*page.findChildren(QWidget)[::-1], page]:  # what has just been filled has no places yet
            if (layout := one.layout()) is not None and one.isVisible():
                layout.activate()
        inside = [
            one
            for one in [page, *page.findChildren(QWidget)]
            if one.focusPolicy() == Qt.FocusPolicy.StrongFocus and one.isVisible() and one.isEnabled()
        ]
        highest = min(inside, key=lambda one: one.mapTo(page, QPoint()).y() if one is not page else -1, default=page)
        highest.setFocus(Qt.FocusReason.TabFocusReason)

    def undo(self) -> bool:
        """Take back the last step on the page shown, where it has steps of its own; whether there was one."""
        return self._current.undo()

    def redo(self) -> bool:
        """Redo the step undone last on the page shown; whether there was one."""
        return self._current.redo()

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return all(part.settled for part in self._all)

    def stop(self) -> None:
        for part in self._all:
            part.stop()
