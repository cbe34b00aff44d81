"""The commands that open the window; the interface toolkit is loaded only then."""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from pathlib import Path

from mivrat.commands.catalogue import COMMANDS
from mivrat.commands.telling import DONE, say
from mivrat.core.base.errors import InputError


def _has_display() -> bool:
    """Whether a window can really be opened, tried in a process of its own: the toolkit aborts where it cannot."""
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        return False
    attempt = "from PySide6.QtGui import QGuiApplication; QGuiApplication([])"
    try:
        return (
            subprocess.run([sys.executable, "-c", attempt], capture_output=True, timeout=30, check=False).returncode
            == 0
        )
    except subprocess.TimeoutExpired:
        return False


def window(args: argparse.Namespace) -> int:
    """Open the window: on the start page, on a study, or on the demonstration."""
    study: Path | None = getattr(args, "study", None)
    if study is not None and not study.is_file():
        raise InputError("the study does not exist", where=study, hint="name a .mivrat file")
    if not _has_display():
        if args.command == "demo":
            from mivrat.demo.headless import run_headless

            folder = Path("mivrat-demonstration").resolve()
            say(f"mivrat: no display was found for a window; running the demonstration headless, into {folder}")
            run_headless(folder)
            return DONE
        *most, last = (one.name for one in COMMANDS if one.headless)
        raise InputError(
            "no display was found for a window, or a system library for it is missing",
            hint=f"{', '.join(most)} and {last} work without; tools/setup.sh names missing libraries",
        )
    from mivrat.ui.application import run

    return run(args.command, study)
