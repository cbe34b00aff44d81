"""Thumbnails in the window: unreadable ones are final, and only so many are held."""

from __future__ import annotations

from pathlib import Path

from PIL import Image
from pytestqt.qtbot import QtBot

from mivrat.ui.parts.pictures import Thumbnails


def test_unreadable_thumbnails_are_final_and_the_cache_is_bounded(
    qtbot: QtBot, thumbnails: Thumbnails, tmp_path: Path
) -> None:
    (tmp_path / "bad.png").write_text("no")
    thumbnails.get(tmp_path / "bad.png")
    qtbot.waitUntil(lambda: thumbnails.settled, timeout=5000)
    assert thumbnails.get(tmp_path / "bad.png") == (None, True)
    for i in range(60):
        Image.new("L", (4, 4)).save(tmp_path / f"{i}.png")
        thumbnails.get(tmp_path / f"{i}.png")
    qtbot.waitUntil(lambda: thumbnails.settled, timeout=10000)
    assert len(thumbnails._cache) == 40
