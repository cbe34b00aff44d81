"""The image looked at among those shown, and those marked with it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from mivrat.workspace.topics import Topics


class ImageFocus:
    """Which image is looked at (``current``) and which are marked, by their positions in the image set.

    ``images`` gives the images shown, in their order; a focus never leaves them.
    """

    def __init__(self, topics: Topics, images: Callable[[], NDArray[np.int64]]) -> None:
        self._topics, self._images = topics, images
        self.clear()

    def clear(self) -> None:
        """Look at nothing, telling nobody."""
        self.current: int | None = None
        self.marked: frozenset[int] = frozenset()
        self._anchor: int | None = None

    def keep(self, mask: NDArray[np.bool_]) -> None:
        """Leave images that are no longer shown, telling nobody; ``mask`` says which of all images are."""
        if self.current is not None and not mask[self.current]:
            self.current = None
        self.marked = frozenset(i for i in self.marked if mask[i])

    def look_at(self, image: int | None, marked: frozenset[int] | None = None) -> None:
        """Make an image the one looked at, and mark it alone, or these images."""
        if marked is None:
            self._anchor = image
        wanted = marked if marked is not None else frozenset(() if image is None else (image,))
        if image != self.current or wanted != self.marked:
            self.current, self.marked = image, wanted
            self._topics.current.emit()

    def mark_up_to(self, position: int) -> None:
        """Mark everything shown from the image that was looked at before marking began up to a position."""
        images = self._images()
        found = np.flatnonzero(images == (-1 if self._anchor is None else self._anchor))
        anchor = int(found[0]) if len(found) else position
        some = images[min(anchor, position) : max(anchor, position) + 1]
        self.look_at(int(images[position]), frozenset(some.tolist()))

    @property
    def acted_on(self) -> list[int]:
        """The images that a decision is about: those marked, in the order shown, else the one looked at."""
        if len(self.marked) > 1:
            return [i for i in self._images().tolist() if i in self.marked]
        return [] if self.current is None else [self.current]

    @property
    def position(self) -> int:
        """Where the current image stands among the shown ones, or -1."""
        if self.current is None:
            return -1
        found = np.flatnonzero(self._images() == self.current)
        return int(found[0]) if len(found) else -1

    def step(self, by: int) -> None:
        """Go on by so many images among the shown ones, staying inside."""
        images = self._images()
        if len(images):
            at = self.position
            self.look_at(int(images[min(len(images) - 1, max(0, at + by if at >= 0 else 0))]))

    def step_among(self, wanted: NDArray[np.bool_], direction: int) -> bool:
        """Go to the next (1) or previous (-1) shown image of those ``wanted``, N; False where there is none."""
        images = self._images()
        found, at = np.flatnonzero(wanted[images]), self.position
        further = found[found > at] if direction > 0 else found[found < at][::-1]
        if not len(further):
            return False
        self.look_at(int(images[further[0]]))
        return True
