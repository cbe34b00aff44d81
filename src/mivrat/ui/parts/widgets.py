"""Small widgets that several views share."""

from __future__ import annotations

import csv
import html
import io
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, QSize, Qt, QUrl, Signal
from PySide6.QtGui import (
    QDesktopServices,
    QFont,
    QFontMetrics,
    QGuiApplication,
    QKeyEvent,
    QPainter,
    QPaintEvent,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSlider,
    QSpinBox,
    QToolButton,
    QWidget,
)

from mivrat.core.base.text import printable, safe_cell
from mivrat.ui.theme import font, theme


class Plain(QLabel):
    """A text that is never taken for markup, and in which no name turns round what stands behind it."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str) -> None:
        super().setText(printable(text))


def label(text: str = "", role: str = "", *, soft: bool = False, wrap: bool = False) -> QLabel:
    """A text label; ``role`` and ``soft`` pick its style."""
    made = Plain(text)
    if role:
        made.setProperty("role", role)
    if soft:
        made.setProperty("soft", True)
    made.setWordWrap(wrap)
    return made


def set_role(widget: QWidget, role: str) -> None:
    """Change the style of a widget that is shown already."""
    widget.setProperty("role", role)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


def button(text: str, clicked: Callable[[], object] | None = None, *, kind: str = "") -> QPushButton:
    """A push button; ``kind`` is ``primary``, ``quiet``, ``small``, ``chip``, ``tab`` or ``rail``."""
    made = QPushButton(printable(text).replace("&", "&&"))
    if kind:
        made.setProperty(kind, True)
    made.setAutoDefault(True)
    if clicked is not None:
        made.clicked.connect(lambda: clicked())
    return made


class Calm(QObject):
    """Keeps the wheel from changing a list or a number that is only being scrolled over: it does where that has the focus."""

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Wheel and isinstance(watched, QWidget) and not watched.hasFocus():
            event.ignore()
            return True
        return False


_calm = Calm()


def calm(widget: QWidget) -> None:
    """Let the wheel change a widget only while it has the focus, which the wheel does not give it."""
    widget.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    widget.installEventFilter(_calm)


class Waiting(QWidget):
    """Has the focus while what had it cannot be used; letters and digits typed meanwhile do nothing."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("waiting")
        self.setFixedSize(1, 1)
        self.setAccessibleName("waiting for the job to end")

    def event(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.ShortcutOverride, QEvent.Type.KeyPress) and isinstance(event, QKeyEvent):
            beside = event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
            if not beside and event.text().isprintable() and event.text():
                event.accept()
                return True
        return super().event(event)


def slider(name: str, least: int, most: int, value: int) -> QSlider:
    """A horizontal slider."""
    made = QSlider(Qt.Orientation.Horizontal)
    made.setRange(least, most)
    made.setValue(value)
    made.setAccessibleName(name)
    tip(made, name)
    calm(made)
    return made


def spin(least: int, most: int, value: int, name: str) -> QSpinBox:
    """A field for a whole number; arrow keys change it, and the wheel while it has the focus."""
    made = QSpinBox()
    calm(made)
    made.setRange(least, most)
    made.setValue(value)
    made.setKeyboardTracking(False)
    made.lineEdit().setTextMargins(7, 0, 4, 0)  # the style sheet's padding does not reach it
    made.setAccessibleName(name)
    tip(made, name)
    return made


_SIGNED = re.compile(r"[-+−]?\d+(\.\d+)?")
# What could begin a tag.
_MARKUP = re.compile(r"<[A-Za-z!/?]")


def plain(text: str) -> str:
    """A text for a tooltip that is shown as it is, whatever stands in it: names of files and classes are no markup."""
    text = printable(text)
    return f"<qt>{html.escape(text).replace(chr(10), '<br>')}</qt>" if _MARKUP.search(text) else text


class _HasTip(Protocol):
    def setToolTip(self, text: str, /) -> None: ...


def tip(shown: _HasTip, text: str) -> None:
    """Give a widget, an entry of a table or an action its tooltip, as plain text. All tooltips come from here."""
    shown.setToolTip(plain(text))


def restyle(widget: QWidget, style: str) -> None:
    """Give a widget a style sheet of its own; nothing is done where it has that one, for a style sheet is dear."""
    if widget.styleSheet() != style:
        widget.setStyleSheet(style)


def row(
    *widgets: QWidget | QLayout | int | None, spacing: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QHBoxLayout:
    """A horizontal layout; a number is that much space, None takes what is left."""
    layout = QHBoxLayout()
    layout.setSpacing(spacing)
    layout.setContentsMargins(*margins)
    for widget in widgets:
        if widget is None:
            layout.addStretch(1)
        elif isinstance(widget, int):
            layout.addSpacing(widget)
        elif isinstance(widget, QLayout):
            layout.addLayout(widget)
        else:
            layout.addWidget(widget)
    return layout


# A field with this property is emptied when another study is opened.
OF_STUDY = "of study"


def field_of_study(hint: str) -> QLineEdit:
    """A field for what one looks for, or is about to name, in the study that is open; another study begins without it."""
    made = QLineEdit()
    made.setPlaceholderText(hint)
    made.setAccessibleName(hint)
    made.setProperty(OF_STUDY, True)
    return made


class Scrolled(QScrollArea):
    """A frameless area that scrolls what is in it and takes no focus of its own; ``wide`` lets it scroll sideways too."""

    def __init__(self, body: QWidget | None = None, *, wide: bool = True) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        if not wide:
            self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        if body is not None:
            self.setWidget(body)


def open_folder_of(path: Path) -> bool:
    """Let the desktop show the folder of a file, or a folder itself; false where it cannot."""
    folder = path if path.is_dir() else path.parent
    return QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))


def more_button(name: str, about: str) -> QToolButton:
    """A button with three dots that opens a menu."""
    made = QToolButton()
    made.setText("⋯")
    made.setProperty("quiet", True)
    made.setAccessibleName(name)
    tip(made, about)
    made.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    return made


def offer_by_right_click(more: QToolButton, *places: QWidget) -> None:
    """Let a right click on these, and on what lies in them, open the menu of a button with three dots."""

    def show(place: QWidget, at: QPoint) -> None:
        menu = more.menu()
        if menu is not None and more.isEnabled():
            menu.popup(place.mapToGlobal(at))

    for place in places:
        place.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        place.customContextMenuRequested.connect(lambda at, p=place: show(p, at))


def copy_table(lines: Sequence[Sequence[str]]) -> None:
    """Put a table on the clipboard, as comma-separated values."""
    out = io.StringIO()
    # A number with a sign is no formula, and a true minus is none to other programs.
    plain_cells = [[_SIGNED.sub(lambda found: found[0].replace("−", "-"), cell) for cell in line] for line in lines]
    csv.writer(out, lineterminator="\n").writerows(
        [[cell if _SIGNED.fullmatch(cell) else safe_cell(cell) for cell in line] for line in plain_cells]
    )
    QGuiApplication.clipboard().setText(out.getvalue())


def clear(layout: QLayout) -> None:
    """Take everything out of a layout and delete it."""
    while (item := layout.takeAt(0)) is not None:
        if (widget := item.widget()) is not None:
            widget.hide()
            widget.deleteLater()
        elif (inner := item.layout()) is not None:
            clear(inner)


def paint_state(painter: QPainter, state: str, x: float, y: float) -> None:
    """The mark of a state around a point: fine is a dot, needs a look a diamond, stop a square with a bar, else a ring."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.save()
    painter.translate(x, y)
    token = {"fine": "accent", "look": "look", "stop": "wrong"}.get(state)
    painter.setPen(theme.colour("soft") if token is None else Qt.PenStyle.NoPen)
    if token is not None:
        painter.setBrush(theme.colour(token))
    if state == "look":
        painter.rotate(45)
        painter.drawRect(-4, -4, 8, 8)
    elif state == "stop":
        painter.drawRect(-5, -5, 10, 10)
        painter.fillRect(-3, -1, 6, 2, theme.colour("sheet"))
    else:
        painter.drawEllipse(-5, -5, 10, 10)
    painter.restore()


class StateMark(QWidget):
    """The mark of a state as a widget of its own."""

    def __init__(self, state: str) -> None:
        super().__init__()
        self._state = state
        self.setFixedSize(16, 18)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            paint_state(painter, self._state, 8, 10)


# Between two tabs, where there is room, and where there is little.
WIDE, NARROW = 18, 6


class Tabs(QWidget):
    """A line of exclusive text tabs; arrow keys move along it. ``tips`` say what each is for."""

    chosen = Signal(int)

    def __init__(self, names: Sequence[str], tips: Sequence[str] = ()) -> None:
        super().__init__()
        self.names = tuple(names)
        self._group = QButtonGroup(self)
        self._line = layout = row(spacing=WIDE)
        for i, name in enumerate(names):
            tab = button(name, kind="tab")
            tab.setCheckable(True)
            tab.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
            chosen = QFontMetrics(font(13, QFont.Weight.DemiBold))
            tab.setMinimumWidth(chosen.horizontalAdvance(name) + 4)  # never cut, whatever stands beside it
            self._group.addButton(tab, i)
            layout.addWidget(tab)
            if tips:
                tip(tab, tips[i])
        layout.addStretch(1)
        self.setLayout(layout)
        self._group.button(0).setChecked(True)
        self._group.idToggled.connect(lambda i, on: self.chosen.emit(i) if on else None)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is little room, the tabs stand closer together."""
        super().resizeEvent(event)
        tabs = self._group.buttons()
        room = self.width() - sum(one.minimumWidth() for one in tabs)
        self._line.setSpacing(min(WIDE, max(NARROW, room // max(1, len(tabs) - 1))))

    def minimumSizeHint(self) -> QSize:
        hint, tabs = super().minimumSizeHint(), self._group.buttons()
        return QSize(sum(one.minimumWidth() for one in tabs) + NARROW * (len(tabs) - 1), hint.height())

    @property
    def current(self) -> int:
        return self._group.checkedId()

    @property
    def current_name(self) -> str:
        return self.names[self.current]

    def choose(self, index: int) -> None:
        if 0 <= index < len(self._group.buttons()):
            self._group.button(index).setChecked(True)

    def step(self, by: int) -> None:
        self.choose((self.current + by) % len(self._group.buttons()))


class Choice(QComboBox):
    """A drop-down list without a frame, with its arrow painted in the theme's ink."""

    WIDEST = 640

    def __init__(self, entries: Sequence[str] = (), name: str = "") -> None:
        super().__init__()
        calm(self)
        self.addItems(list(entries))
        self.setProperty("quiet", True)
        self.setAccessibleName(name)
        tip(self, name)

    def showPopup(self) -> None:
        """Open the list as wide as its longest entry, however narrow the box is."""
        longest = max((self.fontMetrics().horizontalAdvance(self.itemText(i)) for i in range(self.count())), default=0)
        self.view().setMinimumWidth(min(self.WIDEST, longest + self.view().verticalScrollBar().sizeHint().width() + 24))
        super().showPopup()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        with QPainter(self) as painter:
            self._paint(painter)

    def _paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x, y = self.width() - 12.0, self.height() / 2 + 1
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.palette().color(self.foregroundRole()))
        painter.drawPolygon(QPolygonF([QPointF(x - 4, y - 2.5), QPointF(x + 4, y - 2.5), QPointF(x, y + 2.5)]))


class Elided(Plain):
    """One line of plain text that gives way in the middle and tells the whole, or ``whole``, in its tooltip."""

    def __init__(self, text: str = "", *, mode: Qt.TextElideMode = Qt.TextElideMode.ElideMiddle) -> None:
        self._full, self._mode, self.whole = text, mode, ""
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.set_text(text)

    def set_text(self, text: str) -> None:
        self._full = text
        self._fit()

    def cut_by(self, mode: Qt.TextElideMode) -> None:
        """Give way at another place from here on."""
        self._mode = mode
        self._fit()

    @property
    def full_text(self) -> str:
        return self._full

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()

    def _shown(self, width: int) -> str:
        return self.fontMetrics().elidedText(self._full, self._mode, width)

    def _fit(self) -> None:
        shown = self._shown(max(10, self.width()))
        self.setText(shown)
        tip(self, self.whole or (self._full if shown != self._full else ""))


ARROW = "  →  "


def elided_pair(first: str, second: str, letters: QFontMetrics, width: int) -> str:
    """``first → second`` in so many pixels: where there is no room for both, each is cut in its own middle."""
    room, middle = width - letters.horizontalAdvance(ARROW), Qt.TextElideMode.ElideMiddle
    wants = letters.horizontalAdvance(first), letters.horizontalAdvance(second)
    if sum(wants) > room:
        left = max(room // 2, room - wants[1])
        first = letters.elidedText(first, middle, left)
        second = letters.elidedText(second, middle, room - letters.horizontalAdvance(first))
    return f"{first}{ARROW}{second}"


class ElidedPair(Elided):
    """One line that says ``first → second``; where there is no room, each of the two gives way in its own middle."""

    def __init__(self, first: str, second: str) -> None:
        self._pair = first, second
        super().__init__(f"{first}{ARROW}{second}")

    def _shown(self, width: int) -> str:
        return elided_pair(*self._pair, self.fontMetrics(), width)
