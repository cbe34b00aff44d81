"""A large study is looked through once on a machine, and again as soon as anything else than this program has changed it."""

from __future__ import annotations

import os
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from mivrat.core.study import file, known_sound
from mivrat.core.study.file import Study
from mivrat.core.study.settings import save_setting
from tests.support.sets import CLASSES


@pytest.fixture
def looked_through(monkeypatch: pytest.MonkeyPatch) -> list[Path]:
    """The studies that were looked through since."""
    found, really = list[Path](), file.check_contents
    monkeypatch.setattr(known_sound, "LARGE", 0)

    def check(db: sqlite3.Connection, path: Path) -> None:
        found.append(path)
        really(db, path)

    monkeypatch.setattr(file, "check_contents", check)
    return found


def _by_another_program(path: Path) -> None:
    with sqlite3.connect(path) as db:
        db.execute("INSERT INTO setting VALUES ('another', 'program')")
    db.close()


def _same_size_and_time(path: Path) -> None:
    about = path.stat()
    with sqlite3.connect(path) as db:
        db.execute("UPDATE class SET name = 'elm' WHERE position = 0")
    db.close()
    os.utime(path, ns=(about.st_atime_ns, about.st_mtime_ns))


def _replaced(path: Path) -> None:
    shutil.copy2(path, path.with_suffix(".copy"))
    path.with_suffix(".copy").replace(path)


def _cut_off(path: Path) -> None:
    Path(f"{path}-journal").write_bytes(b"")


@pytest.mark.parametrize("change", [_by_another_program, _same_size_and_time, _replaced, _cut_off])
def test_what_changed_is_looked_through(
    change: Callable[[Path], None], looked_through: list[Path], tmp_path: Path
) -> None:
    path = tmp_path / "s.mivrat"
    Study.create(path, CLASSES).close()
    assert looked_through == [path]
    for _ in range(2):
        with Study.open(path) as study:
            save_setting(study, "claim", "0.9")
        with Study.open(path, again=True) as study:
            save_setting(study, "claim", "0.8")
    assert looked_through == [path]
    change(path)
    Study.open(path, again=True).close()  # opened without a look, it is not taken for sound
    Study.open(path).close()
    assert looked_through == [path] * 2


def test_small_and_damaged_studies_are_looked_through_each_time(
    looked_through: list[Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "s.mivrat"
    monkeypatch.setattr(known_sound, "LARGE", 10**9)
    Study.create(path, CLASSES).close()
    for _ in range(2):
        Study.open(path).close()
    assert looked_through == [path] * 3
    monkeypatch.setattr(known_sound, "LARGE", 0)
    known_sound._file().parent.mkdir(parents=True, exist_ok=True)
    for broken in ("no list", "[1]", '{"x": 1}'):
        known_sound._file().write_text(broken)
        Study.open(path).close()
        Study.open(path).close()
    assert looked_through == [path] * 6
