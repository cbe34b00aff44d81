"""Figures and names in words."""

from __future__ import annotations

from mivrat.core.base.numbers import bounds, percent
from mivrat.core.figures.intervals import proportion
from mivrat.ui import words


def test_figures_in_words() -> None:
    assert (percent(None), percent(0.12345)) == ("–", "12.3 %")
    assert bounds(proportion(0, 0)) == ""
    assert bounds(proportion(83, 100)) == "74.5 – 89.1"
    assert (words.count(1234567), words.images(1), words.images(2000)) == (
        "1\u202f234\u202f567",
        "1 image",
        "2\u202f000 images",
    )
    assert words.clipped("a" * 30, 11) == "aaaaa…aaaaa"
    assert words.clipped("short", 11) == "short"
    assert (percent(0.0), percent(1.0), words.clipped("abcdefghij", 5)) == ("0.0 %", "100.0 %", "ab…ij")
