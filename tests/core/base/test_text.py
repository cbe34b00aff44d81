"""Texts that any file or terminal can hold."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.text import printable


@given(st.text(st.characters(codec=None), max_size=40))
def test_what_is_printed_turns_nothing_round_and_can_be_written(text: str) -> None:
    shown = printable(text)
    shown.encode("utf-8")
    assert not set(shown) & set("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
    assert printable(shown) == shown


def test_what_turns_names_round_is_seen() -> None:
    assert printable("gnp\u202egnp.exe") == "gnp\\u202egnp.exe"
    assert printable("caf\u00e9 \u05d0\u05d1") == "caf\u00e9 \u05d0\u05d1"
    assert printable("a\ud800") == "a\\ud800"
