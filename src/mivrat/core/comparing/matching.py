"""Which image of one list is which of another, and which class: by content and by name, never by place."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.image_sets import ImageItem


def match_contents(
    items: Sequence[ImageItem],
    contents: Mapping[int, bytes],
    other_items: Sequence[ImageItem],
    other_contents: Mapping[int, bytes],
) -> NDArray[np.int64]:
    """For each image where the same bytes stand in the other list, -1 where they do not (or nobody has read them).

    Of several copies one with the same path goes first, the rest in order; no image of the other list is taken twice. Returns N
    positions in the other list.
    """
    places: dict[bytes, list[int]] = defaultdict(list)
    for i in sorted(other_contents):
        places[other_contents[i]].append(i)
    found = np.full(len(items), -1, np.int64)
    for i, content in contents.items():
        path = items[i].path
        same = next((j for j in places.get(content, ()) if other_items[j].path == path), None)
        if same is not None:
            places[content].remove(same)
            found[i] = same
    for i in sorted(contents):
        if found[i] < 0 and places.get(contents[i]):
            found[i] = places[contents[i]].pop(0)
    return found


def match_classes(classes: Sequence[str], other: Sequence[str]) -> tuple[list[str], NDArray[np.int64]]:
    """The K classes of both lists, those of the first one first; and the place of each of the K' others among them, by name."""
    matcher, both = ClassMatcher(classes), list(classes)
    places = []
    for name in other:
        index = matcher.index(name)
        if index is None:
            index = len(both)
            both.append(name)
        places.append(index)
    return both, np.array(places, np.int64)
