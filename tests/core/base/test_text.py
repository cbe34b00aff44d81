"""Texts that any file or terminal can hold."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.text import best_cut, clipped, printable


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


@pytest.mark.parametrize(
    ("names", "cut"),
    [
        ([f"kind {i:02} of a long-named beetle" for i in range(20)], "end"),
        ([f"beetle of the long-named kind {i:02}" for i in range(20)], "middle"),
        ([f"{i:02} beetle of the long-named kind" for i in range(20)], "middle"),
        (
            [f"beetle {i:02} of the {'odd' if i % 2 else 'plain'} kinds, seen from above, kind of" for i in range(20)],
            "end",
        ),
        ([f"aaaaaaaaaaaaaaaaaaaaaa {i:02} of a" for i in range(20)], "start"),
        (["birch", "alder"], "middle"),
        ([], "middle"),
    ],
)
def test_names_of_one_list_are_cut_so_that_they_stay_apart(names: list[str], cut: str) -> None:
    assert best_cut(names) == cut
    if cut != "middle":
        short = {way: len({clipped(name, 10, way) for name in names}) for way in ("middle", "end", "start")}  # type: ignore[arg-type]
        assert short[cut] == max(short.values()) == len(names) > short["middle"]


@given(st.text(max_size=60), st.integers(2, 40), st.sampled_from(["middle", "end", "start"]))
def test_a_name_is_cut_to_so_many_letters(name: str, most: int, cut: str) -> None:
    found = clipped(name, most, cut)  # type: ignore[arg-type]
    assert len(found) == min(len(name), most)
    if len(name) > most:
        assert "…" in found
