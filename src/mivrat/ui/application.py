"""Starts the application: logging, fonts, theme, the window."""

from __future__ import annotations

import logging
import sys
import threading
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QObject, QtMsgType, Signal, qInstallMessageHandler
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from mivrat import __version__
from mivrat.core.base.log import begin_logging, log_uncaught
from mivrat.share import ICON
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
    # What works in the background gives way to the window within half a millisecond, not five, at each call into the toolkit.
    sys.setswitchinterval(0.0005)
    load_fonts()
    application.setFont(font())
    application.setWindowIcon(QIcon(str(ICON)))
    return application


class _Failures(QObject):
    """Brings what failed unforeseen, in whatever thread, to the window."""

    happened = Signal(str, bool)

    def caught(self, kind: type[BaseException], error: BaseException | None, trace: TracebackType | None) -> None:
        log_uncaught(kind, error, trace)
        # What fails in a worker only never comes back from it; what fails here may leave half of what was shown.
        here = threading.current_thread() is threading.main_thread()
        self.happened.emit(f"{kind.__name__}: {str(error)[:160]}", here)


def report_failures(window: MainWindow) -> None:
    """From now on what nobody catches is logged and told of in the window, and the toolkit's own messages are logged."""
    failures = _Failures(window)
    failures.happened.connect(window.show_failure)
    sys.excepthook = failures.caught
    threading.excepthook = lambda args: failures.caught(args.exc_type, args.exc_value, args.exc_traceback)
    levels = {QtMsgType.QtDebugMsg: logging.DEBUG, QtMsgType.QtInfoMsg: logging.INFO}
    log = logging.getLogger("qt")
    qInstallMessageHandler(lambda kind, _, text: log.log(levels.get(kind, logging.WARNING), text))


def run(command: str | None, study: Path | None) -> int:
    """Open the window: the start page, the demonstration, or a study."""
    begin_logging()
    application = make_application()
    window = MainWindow(at_once=False)
    report_failures(window)
    window.show()
    window.load()
    if command == "demo":
        window.open_demo()
    elif study is not None:
        window.open_study(study)
    return application.exec()
