"""Names that several have are told apart by what differs; a name of its own stays as it is."""

from __future__ import annotations

from collections.abc import Callable

from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.study.names import distinguish

Row = tuple[str, str, str]
DETAILS: tuple[Callable[[Row], str], ...] = (lambda row: row[1], lambda row: row[2])


def test_the_first_detail_that_differs_is_told_and_numbers_where_none_does() -> None:
    rows: list[Row] = [
        ("a", "x", "1"),
        ("a", "x", "2"),
        ("a", "y", "1"),
        ("b", "x", "1"),
        ("c", "", "1"),
        ("c", "", "1"),
    ]
    told = distinguish(rows, lambda row: row[0], DETAILS)
    assert told == ["a (x) (1)", "a (x) (2)", "a (y)", "b", "c (1)", "c (2)"]


@given(st.lists(st.tuples(*[st.sampled_from(["", "a", "b", "a (1)"])] * 3), max_size=8))
def test_no_two_are_called_the_same(rows: list[Row]) -> None:
    told = distinguish(rows, lambda row: row[0], DETAILS)
    assert len(set(told)) == len(told)
    alone = [row[0] for row in rows]
    assert all(name == row[0] for name, row in zip(told, rows, strict=True) if alone.count(row[0]) == 1)
