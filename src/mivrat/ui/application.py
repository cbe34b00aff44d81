"""Starts the application: logging, fonts, theme, the window."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from mivrat import __version__
from mivrat.core.log import begin_logging
from mivrat.ui.garbage import MainThreadCollector
from mivrat.ui.theme import font, load_fonts
from mivrat.ui.window import MainWindow


def make_application() -> QApplication:
    """The application object with our fonts and style (the one that exists, where there is one)."""
    existing = QApplication.instance()
    application = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    application.setApplicationName("mivrat")
    application.setApplicationDisplayName("Mivrat")
    application.setApplicationVersion(__version__)
    application.setDesktopFileName("mivrat")
    application.setStyle("Fusion")
    if not application.findChildren(MainThreadCollector):
        MainThreadCollector(application)
    load_fonts()
    application.setFont(font())
    application.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "mivrat.svg")))
    return application


def run(command: str | None, study: Path | None) -> int:
    """Open the window: the start page, the demonstration, or a study."""
    begin_logging()
    application = make_application()
    window = MainWindow()
    window.show()
    if command == "demo":
        window.open_demo()
    elif study is not None:
        window.open_study(study)
    return application.exec()
