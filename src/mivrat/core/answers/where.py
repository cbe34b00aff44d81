"""Where blocks of images are worked on, if not in this process."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Protocol, TypeVar

from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.models.model import Model

Result = TypeVar("Result", covariant=True)


class BlockWork(Protocol[Result]):
    """What is done with a block of images. It is sent to where they are, and what it gives comes back: both can be pickled."""

    def do(self, model: Model, files: Mapping[int, Path], threads: int) -> Result:
        """``files`` are the block's images by their position, with their own names. InputError where it cannot be done."""
        ...


class Where(Protocol):
    """Results do not depend on where they were computed."""

    def score(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Model,
        *,
        batch_size: int,
        threads: int,
        known: Callable[[bytes], bool],
    ) -> Iterator[ScoredBatch]:
        """Scores ``files[i]`` for each i in ``todo`` and yields the answers in that order, batch by batch; ends early when stopped.

        ``known`` tells of a content hash whether it has an answer already: such an image comes back as a copy.
        """
        ...

    def work(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Model,
        work_for: Callable[[Sequence[int]], BlockWork[Result]],
        *,
        in_block: int,
        threads: int = 0,
    ) -> Iterator[Result]:
        """What the work gives for each block of so many images of ``todo``, in that order; ends early when stopped. ``work_for`` tells what is
        done with some images: only that goes to where they are."""
        ...
