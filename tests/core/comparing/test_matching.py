"""Images and classes of two lists, matched by what they are."""

from __future__ import annotations

from mivrat.core.comparing.matching import match_classes, match_contents
from mivrat.core.pictures.image_sets import ImageItem


def matched(one: dict[str, bytes], other: dict[str, bytes]) -> list[int]:
    lists = [[ImageItem(path, None) for path in some] for some in (one, other)]
    contents = [dict(enumerate(some.values())) for some in (one, other)]
    return match_contents(lists[0], contents[0], lists[1], contents[1]).tolist()


def test_the_same_path_goes_first_then_the_order_and_none_is_taken_twice() -> None:
    assert matched({"a": b"1", "b": b"2"}, {"b": b"2", "a": b"1"}) == [1, 0]
    # Three copies here, two there: the one of the same path, then the first that is left; the first place of a list counts too.
    assert matched({"x": b"1", "y": b"1", "z": b"1"}, {"y": b"1", "q": b"1"}) == [1, 0, -1]
    assert matched({"y": b"1"}, {"y": b"1", "z": b"1"}) == [0]
    assert matched({"a": b"1"}, {"a": b"2"}) == [-1]


def test_classes_are_matched_by_name_and_others_follow() -> None:
    both, places = match_classes(["oak", "birch"], ["birch", "elm", "oak"])
    assert (both, places.tolist()) == (["oak", "birch", "elm"], [1, 2, 0])
