"""The page about Python is run from top to bottom, and says what happens."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import polars as pl
import pytest

import mivrat
from tests.support.documented import blocks_of, shown_by

PAGE = Path(__file__).resolve().parents[2] / "docs" / "python.md"


def test_every_block_shows_what_the_page_says(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    names: dict[str, Any] = {}
    told = 0
    for block in blocks_of(PAGE):
        with pl.Config(tbl_width_chars=140, tbl_cols=20):
            found = shown_by(block.code, names)
        if block.shown is not None:
            told += 1
            assert found == block.shown, f"line {block.line}"
    assert told >= 18


def test_everything_offered_is_told_of_and_explains_itself() -> None:
    text = PAGE.read_text(encoding="utf-8")
    for name in mivrat.__all__:
        one = getattr(mivrat, name)
        assert one.__doc__, name
        if name[:1].islower():
            assert f"{name}" in text, name
