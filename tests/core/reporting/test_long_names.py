"""Names of thousands of letters: short in what is laid out."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.reporting.report.pages import _printable
from mivrat.core.reporting.typeface import fitting, typeface, wrapped


@settings(max_examples=60, deadline=None)
@given(st.text("aWil. é", max_size=120), st.sampled_from([9, 14, 20]), st.integers(8, 300))
def test_a_text_is_cut_to_its_width_as_letter_by_letter(text: str, size: int, width: int) -> None:
    plain, font = " ".join(text.split()), typeface(size)
    kept, expected = len(plain), plain
    while kept > 2 and font.getlength(expected) > width:
        kept -= 1
        expected = f"{plain[: kept // 2]}…{plain[len(plain) - (kept - kept // 2) :]}"
    assert fitting(text, size, width) == expected


def test_a_word_that_would_fill_pages_is_short_where_it_is_laid_out() -> None:
    whole = "label " + "x" * 1000 + "y" * 1000 + " of 3"
    (shown,) = _printable((whole,))
    assert shown == "label " + "x" * 100 + "…" + "y" * 40 + " of 3"
    assert _printable("a" * 160) == "a" * 160
    assert fitting("x" * 100_000, 14, 200) == fitting("x" * 1_000, 14, 200)


def test_a_long_title_is_wrapped_whole_and_no_line_is_too_wide() -> None:
    for text in ("model " + "net-of-many-parts-" * 12 + "; held-out set, 3 images", "a " * 200, "W" * 300, ""):
        lines = wrapped(text, 15, 300)
        assert all(typeface(15).getlength(line) <= 300 for line in lines)
        assert "".join("".join(lines).split()) == "".join(text.split())
