"""The command desktop: puts entry, icon, file type, manual page and completions into the user's own place, and takes them away."""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from mivrat.commands.telling import DONE, say, show
from mivrat.core.base.errors import cannot_be_written
from mivrat.core.base.files import write_whole
from mivrat.share import SHARE

# What belongs into the user's ``share`` folder, as it lies in ours.
GIVEN = (
    "applications/mivrat.desktop",
    "icons/hicolor/scalable/apps/mivrat.svg",
    "mime/packages/mivrat.xml",
    "metainfo/org.mivrat.Mivrat.metainfo.xml",
    "man/man1/mivrat.1",
    "bash-completion/completions/mivrat",
    "fish/vendor_completions.d/mivrat.fish",
    "zsh/site-functions/_mivrat",
)


def desktop(args: argparse.Namespace) -> int:
    """Install or remove."""
    share = _users_share()
    done = list(_install(share) if args.action == "install" else _remove(share))
    _tell_the_desktop(share)
    what = "written" if args.action == "install" else "removed"
    show(f"{what}: {', '.join(str(one) for one in done)}" if done else "nothing was there to remove")
    if args.action == "install":
        say(f"mivrat: zsh looks there only where {share / 'zsh/site-functions'} is in its fpath")
    return DONE


def _users_share() -> Path:
    """The user's ``share`` folder, as the XDG base directories have it."""
    named = os.environ.get("XDG_DATA_HOME", "")
    return Path(named) if os.path.isabs(named) else Path.home() / ".local" / "share"


def _install(share: Path) -> Iterator[Path]:
    for name in GIVEN:
        text = (SHARE / name).read_text(encoding="utf-8")
        if name.endswith(".desktop"):
            text = text.replace("Exec=mivrat ", f"Exec={_program()} ", 1)
        try:
            write_whole(share / name, text)
        except OSError as error:
            raise cannot_be_written(error, share / name) from error
        yield share / name


def _remove(share: Path) -> Iterator[Path]:
    for name in GIVEN:
        try:
            (share / name).unlink()
        except FileNotFoundError:
            continue
        except OSError as error:
            raise cannot_be_written(error, share / name) from error
        yield share / name


def _program() -> str:
    """How this very Mivrat is started, quoted as desktop entries take it."""
    beside = Path(sys.executable).parent / "mivrat"
    words = [str(beside)] if os.access(beside, os.X_OK) else [sys.executable, "-m", "mivrat"]
    return " ".join(_quoted(one) for one in words)


def _quoted(word: str) -> str:
    """A word of an Exec line: what is special in it twice, first for the quotes, then for the entry; percent signs doubled."""
    if all(one.isalnum() or one in "/._-+" for one in word):
        return word
    for mark in ("\\", '"', "`", "$"):
        word = word.replace(mark, f"\\{mark}")
    return f'"{word}"'.replace("\\", "\\\\").replace("%", "%%")


def _tell_the_desktop(share: Path) -> None:
    """Let the desktop's own caches take it in, where it has such."""
    for program, folder in (
        ("update-desktop-database", share / "applications"),
        ("update-mime-database", share / "mime"),
        ("gtk-update-icon-cache", share / "icons" / "hicolor"),
    ):
        if shutil.which(program) and folder.is_dir():
            with suppress(OSError, subprocess.TimeoutExpired):
                subprocess.run([program, str(folder)], capture_output=True, timeout=60, check=False)
