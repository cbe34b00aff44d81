"""The two themes, paper and lamp, from one set of tokens; fonts; the style sheet."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Signal
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication, QWidget
from shiboken6 import isValid

FONT = "Inter"


@dataclass(frozen=True)
class ThemeColours:
    """Every colour of a theme by its purpose. ``faint`` is for marks only: it is too weak for words."""

    name: str
    ink: str
    soft: str
    faint: str
    paper: str
    sheet: str
    line: str
    accent: str
    accent_wash: str
    on_accent: str
    wrong: str
    look: str
    second: str


PAPER = ThemeColours(
    name="paper",
    ink="#1D2B3A",
    soft="#5A6470",
    faint="#B4B1A8",
    paper="#F7F4EE",
    sheet="#FFFFFF",
    line="#D9D3C7",
    accent="#1F7A72",
    accent_wash="#E2EEEB",
    on_accent="#FFFFFF",
    wrong="#BE4A33",
    look="#8A6410",
    second="#6B4C7A",
)
LAMP = ThemeColours(
    name="lamp",
    ink="#E9E4DA",
    soft="#A9ABA9",
    faint="#5C6468",
    paper="#182128",
    sheet="#1F2A32",
    line="#36424A",
    accent="#5FBFB3",
    accent_wash="#20403F",
    on_accent="#10201F",
    wrong="#EE8467",
    look="#DDB04C",
    second="#BC9CCB",
)


class Theme(QObject):
    """The theme in force; ``changed`` is emitted after a switch, so that painted views repaint.

    A style sheet costs nearly a millisecond for every widget below it, so there is none for the whole application: each
    part that is shown and hidden as one has its own, and gets it anew when it is next shown.
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.tokens = PAPER
        self._parts: list[QWidget] = []

    def style(self, *parts: QWidget) -> None:
        """Keep parts of a window, none of which lies in another, in the style of the theme in force."""
        self._parts = [one for one in self._parts if isValid(one)]
        for part in parts:
            self._parts.append(part)
            part.installEventFilter(self)
            if part.isVisible():
                self._restyle(part)

    def _restyle(self, part: QWidget) -> None:
        if part.property("styled") != self.tokens.name:
            part.setProperty("styled", self.tokens.name)
            part.setStyleSheet(style_sheet(self.tokens))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and isinstance(watched, QWidget):
            self._restyle(watched)
        return False

    def use(self, name: str) -> None:
        """Switch to ``paper`` or ``lamp``."""
        self.tokens = LAMP if name == "lamp" else PAPER
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.setPalette(_palette(self.tokens))
        for part in self._parts:
            if isValid(part) and part.isVisible():
                self._restyle(part)
        self.changed.emit()

    def colour(self, token: str) -> QColor:
        return QColor(getattr(self.tokens, token))

    def magnitude(self, share: float) -> QColor:
        """One hue from paper (0) to verdigris (1), evenly."""
        return mix(self.colour("sheet"), self.colour("accent"), share)


theme = Theme()


def mix(first: QColor, second: QColor, share: float) -> QColor:
    """A colour ``share`` of the way from the first to the second."""
    share = min(1.0, max(0.0, share))
    parts = zip((first.red(), first.green(), first.blue()), (second.red(), second.green(), second.blue()), strict=True)
    return QColor(*(round(a + (b - a) * share) for a, b in parts))


def load_fonts() -> None:
    """Make the bundled typeface known, so that the window looks the same on a machine without fonts."""
    for file in sorted((Path(__file__).parents[1] / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(file))


@lru_cache(maxsize=64)
def font(pixels: int = 13, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The interface font at a size in device-independent pixels, with tabular figures."""
    made = QFont(FONT)
    made.setPixelSize(pixels)
    made.setWeight(weight)
    made.setFeature(QFont.Tag("tnum"), 1)
    return made


def _palette(t: ThemeColours) -> QPalette:
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: t.paper,
        QPalette.ColorRole.WindowText: t.ink,
        QPalette.ColorRole.Base: t.sheet,
        QPalette.ColorRole.AlternateBase: t.paper,
        QPalette.ColorRole.Text: t.ink,
        QPalette.ColorRole.Button: t.sheet,
        QPalette.ColorRole.ButtonText: t.ink,
        QPalette.ColorRole.Highlight: t.accent,
        QPalette.ColorRole.HighlightedText: t.on_accent,
        QPalette.ColorRole.PlaceholderText: t.soft,
        QPalette.ColorRole.ToolTipBase: t.sheet,
        QPalette.ColorRole.ToolTipText: t.ink,
        QPalette.ColorRole.Link: t.accent,
        QPalette.ColorRole.Accent: t.accent,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    for role in (QPalette.ColorRole.Text, QPalette.ColorRole.ButtonText, QPalette.ColorRole.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, role, QColor(t.faint))
    return palette


def style_sheet(t: ThemeColours) -> str:
    """The whole style sheet of a theme."""
    return f"""
QWidget {{ font-family: "{FONT}"; font-size: 13px; color: {t.ink}; }}
#page {{ background: {t.paper}; }}
QToolTip {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; padding: 6px 8px; }}
#soft, QLabel[soft="true"] {{ color: {t.soft}; }}
QLabel[role="title"] {{ font-size: 26px; font-weight: 600; }}
QLabel[role="heading"] {{ font-size: 15px; font-weight: 600; }}
QLabel[role="big"] {{ font-size: 21px; font-weight: 600; }}
QLabel[role="big second"] {{ font-size: 21px; font-weight: 600; color: {t.second}; }}
QLabel[role="second"] {{ color: {t.second}; }}
QLabel[role="verdict"] {{ background: {t.accent_wash}; border-left: 3px solid {t.accent}; padding: 8px 12px; }}
QLabel[role="problem"] {{ color: {t.wrong}; }}
QLabel[role="good"] {{ color: {t.accent}; }}
QLabel[role="look"] {{ color: {t.look}; }}
#header {{ background: {t.paper}; border-bottom: 1px solid {t.line}; }}
#rail {{ background: {t.paper}; border-right: 1px solid {t.line}; }}
#selectionLine {{ background: {t.paper}; border-bottom: 1px solid {t.line}; }}
#foot {{ background: {t.paper}; border-top: 1px solid {t.line}; }}
#agreement {{ background: {t.sheet}; border-top: 3px solid {t.look}; }}
#lightTable, #closeLook {{ background: {t.sheet}; }}
QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
QSplitterHandle {{ background: {t.line}; }}
QPushButton, QToolButton {{ background: transparent; border: 1px solid {t.line}; border-radius: 4px; padding: 5px 12px; }}
QPushButton:hover, QToolButton:hover {{ border-color: {t.accent}; }}
QPushButton:pressed, QToolButton:pressed {{ background: {t.accent_wash}; }}
QPushButton:focus, QToolButton:focus {{ border: 2px solid {t.accent}; padding: 4px 11px; }}
QPushButton:disabled, QToolButton:disabled {{ color: {t.faint}; border-color: {t.line}; }}
QPushButton[primary="true"] {{ background: {t.accent}; color: {t.on_accent}; border-color: {t.accent}; font-weight: 600; }}
QPushButton[primary="true"]:hover {{ border-color: {t.ink}; }}
QPushButton[primary="true"]:focus {{ border: 2px solid {t.ink}; }}
QPushButton[primary="true"]:disabled {{ background: {t.line}; color: {t.soft}; border-color: {t.line}; }}
QPushButton[quiet="true"], QToolButton[quiet="true"] {{ border-color: transparent; padding: 3px 6px; }}
QPushButton[quiet="true"]:hover, QToolButton[quiet="true"]:hover {{ background: {t.accent_wash}; }}
QPushButton[quiet="true"]:focus, QToolButton[quiet="true"]:focus {{ border: 2px solid {t.accent}; padding: 2px 5px; }}
QPushButton[small="true"] {{ background: {t.sheet}; padding: 2px 9px; }}
QPushButton[small="true"]:focus {{ padding: 1px 8px; }}
QPushButton[chip="true"] {{ background: {t.sheet}; border-radius: 12px; padding: 3px 10px; }}
QPushButton[chip="true"]:focus {{ padding: 2px 9px; }}
QPushButton[chip="true"]:checked {{ background: {t.accent_wash}; border-color: {t.accent}; font-weight: 600; }}
QFileDialog QToolButton {{ padding: 3px; min-width: 24px; min-height: 22px; }}
QFileDialog QToolButton:focus {{ padding: 2px; }}
QToolButton::menu-indicator, QPushButton::menu-indicator {{ image: none; }}
QPushButton[rail="true"] {{ border: none; border-right: 3px solid transparent; border-radius: 0; text-align: left; padding: 10px 2px 10px 14px; color: {t.soft}; }}
QPushButton[rail="true"]:checked {{ color: {t.ink}; font-weight: 600; border-right-color: {t.accent}; }}
QPushButton[rail="true"]:focus {{ background: {t.accent_wash}; }}
QPushButton[tab="true"] {{ border: none; border-bottom: 2px solid transparent; border-radius: 0; padding: 6px 0px; color: {t.soft}; }}
QPushButton[tab="true"]:hover {{ color: {t.ink}; }}
QPushButton[tab="true"]:checked {{ color: {t.ink}; font-weight: 600; border-bottom-color: {t.accent}; }}
QPushButton[tab="true"]:focus {{ background: {t.accent_wash}; }}
QLineEdit, QComboBox, QAbstractSpinBox {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; padding: 5px 8px; selection-background-color: {t.accent}; selection-color: {t.on_accent}; }}
QLineEdit:focus, QComboBox:focus, QAbstractSpinBox:focus {{ border: 2px solid {t.accent}; padding: 4px 7px; }}
QAbstractSpinBox QLineEdit, QAbstractSpinBox QLineEdit:focus {{ border: none; padding: 0 6px; background: transparent; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; border: none; }}
QComboBox {{ combobox-popup: 0; }}
QComboBox::drop-down {{ border: none; width: 18px; }}
QComboBox[quiet="true"] {{ background: transparent; border-color: transparent; padding: 2px 20px 2px 4px; color: {t.soft}; }}
QComboBox[quiet="true"]:focus {{ border: 2px solid {t.accent}; padding: 1px 19px 1px 3px; }}
QComboBox::down-arrow {{ image: none; }}
QComboBox[quiet="true"]:hover {{ background: {t.accent_wash}; }}
QComboBox QAbstractItemView {{ background: {t.sheet}; border: 1px solid {t.line}; selection-background-color: {t.accent_wash}; selection-color: {t.ink}; outline: none; }}
QComboBox QAbstractItemView::item {{ min-height: 24px; padding: 0 6px; }}
QMenu {{ background: {t.sheet}; border: 1px solid {t.line}; padding: 4px; }}
QMenu::item {{ padding: 6px 24px 6px 12px; }}
QMenu::item:selected {{ background: {t.accent_wash}; }}
QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 8px; }}
QListWidget {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; outline: none; }}
QListWidget:focus {{ border-color: {t.accent}; }}
QListWidget::item {{ padding: 3px 6px; }}
QListWidget::item:selected {{ background: {t.accent_wash}; color: {t.ink}; }}
QTableView, QTableWidget {{ background: transparent; border: none; gridline-color: transparent; selection-background-color: {t.accent_wash}; selection-color: {t.ink}; outline: none; }}
QTableView::item {{ border-bottom: 1px solid {t.line}; padding: 0 6px; }}
QTableView::item:selected {{ background: {t.accent_wash}; color: {t.ink}; }}
QCheckBox::indicator {{ width: 12px; height: 12px; border: 1px solid {t.soft}; border-radius: 2px; background: {t.sheet}; }}
QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
QRadioButton::indicator {{ width: 12px; height: 12px; border: 1px solid {t.soft}; border-radius: 7px; background: {t.sheet}; }}
QRadioButton::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
QCheckBox:focus, QRadioButton:focus {{ color: {t.accent}; }}
QTableView::indicator {{ width: 11px; height: 11px; border: 1px solid {t.soft}; border-radius: 2px; background: {t.sheet}; }}
QTableView::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; }}
QTableView:focus {{ border: none; }}
QHeaderView {{ background: transparent; }}
QHeaderView::section {{ background: {t.paper}; color: {t.soft}; border: none; border-bottom: 1px solid {t.soft}; padding: 6px; }}
QTableCornerButton::section {{ background: transparent; border: none; }}
QProgressBar {{ background: {t.line}; border: none; max-height: 4px; min-height: 4px; }}
QProgressBar::chunk {{ background: {t.accent}; }}
QSlider::groove:horizontal {{ background: {t.line}; height: 3px; border-radius: 1px; }}
QSlider::sub-page:horizontal {{ background: {t.accent}; height: 3px; border-radius: 1px; }}
QSlider::handle:horizontal {{ background: {t.sheet}; border: 2px solid {t.accent}; width: 9px; height: 9px; margin: -5px 0; border-radius: 6px; }}
QSlider:focus {{ background: {t.accent_wash}; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {t.faint}; border-radius: 3px; min-height: 30px; margin: 2px; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
QScrollBar::handle:horizontal {{ background: {t.faint}; border-radius: 3px; min-width: 30px; margin: 2px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
"""
