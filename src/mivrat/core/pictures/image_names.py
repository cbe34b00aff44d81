"""Images by name: by their content, and by their path to tell copies apart. What is kept names images so, never by position."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from mivrat.core.pictures.image_sets import ImageItem, paths_of


class ImageName(NamedTuple):
    """An image: the hash of its bytes in hexadecimal (empty where nobody has read them yet), and its path in its set."""

    content: str
    path: str


class ImageNames:
    """The images of one list by name; ``contents`` are the hashes by position, as far as files have been read."""

    def __init__(self, items: Sequence[ImageItem], contents: Mapping[int, bytes]) -> None:
        self._items, self._contents = items, contents
        self._at: dict[str, int] = {}
        self._by_content: tuple[int, dict[str, int]] = -1, {}

    def __len__(self) -> int:
        return len(self._items)

    def __getitem__(self, position: int) -> ImageName:
        return ImageName(self._contents.get(position, b"").hex(), self._items[position].path)

    def position(self, name: ImageName) -> int | None:
        """Where the image stands: at its path, unless another picture lies there now, else wherever the same bytes are."""
        if not self._at:
            self._at = {path: i for i, path in enumerate(paths_of(self._items))}
        at = self._at.get(name.path)
        if at is not None and (not name.content or self._contents.get(at, b"").hex() in ("", name.content)):
            return at
        if self._by_content[0] != len(self._contents):
            places = {content.hex(): i for i, content in sorted(self._contents.items(), reverse=True)}
            self._by_content = len(self._contents), places
        return self._by_content[1].get(name.content) if name.content else None

    def positions(self, names: Iterable[ImageName]) -> tuple[int, ...]:
        """Where those of some images stand that are in the list, in the order given."""
        return tuple(at for name in names if (at := self.position(name)) is not None)


def image_name(data: Any) -> ImageName:
    """A name as JSON gives it back, a list of content and path; ValueError where it is none."""
    if not (isinstance(data, list) and len(data) == 2 and all(isinstance(one, str) for one in data)):
        raise ValueError("is not the name of an image")
    return ImageName(*data)
