"""Where the images of a run are scored, if not in this process."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Protocol

from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.models.model import Model


class Where(Protocol):
    """Scores ``files[i]`` for each i in ``todo`` and yields the answers in that order, batch by batch; ends early when stopped.

    ``known`` tells of a content hash whether it has an answer already: such an image comes back as a copy. Rows do not depend on where
    they were computed.
    """

    def score(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Model,
        *,
        batch_size: int,
        threads: int,
        known: Callable[[bytes], bool],
    ) -> Iterator[ScoredBatch]: ...
