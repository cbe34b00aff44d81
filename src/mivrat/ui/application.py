"""Starts the application: logging, fonts, theme, the window."""

from __future__ import annotations

import logging
import sys
from logging.handlers import RotatingFileHandler
from pathlib import Path

from platformdirs import user_log_path
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from mivrat import __version__
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


def _log_to_file() -> None:
    try:
        folder = user_log_path("mivrat", appauthor=False, ensure_exists=True)
        handler = RotatingFileHandler(folder / "mivrat.log", maxBytes=1_000_000, backupCount=2, encoding="utf-8")
    except OSError:
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger().addHandler(handler)


def run(command: str | None, study: Path | None) -> int:
    """Open the window: the start page, the demonstration, or a study."""
    _log_to_file()
    application = make_application()
    window = MainWindow()
    window.show()
    if command == "demo":
        window.open_demo()
    elif study is not None:
        window.open_study(study)
    return application.exec()
