"""What listeners are told of: topics to subscribe to, told on the main thread and, unless asked otherwise, while a run is open."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Tell = Callable[..., object]


class Topic:
    """Something that happens; ``emit`` tells everyone who has asked, in the order they did."""

    def __init__(self, open_only: Callable[[], bool] | None = None) -> None:
        """``open_only`` says whether a run is open: without one, only those are told who ask to be always."""
        self._open_only = open_only
        self._listeners: list[tuple[Tell, bool]] = []

    def connect(self, tell: Tell, *, always: bool = False) -> Callable[[], None]:
        """Be told from now on, until what is returned is called."""
        entry = tell, always
        self._listeners.append(entry)
        return lambda: self._listeners.remove(entry) if entry in self._listeners else None

    def emit(self, *news: Any) -> None:
        for tell, always in list(self._listeners):
            if always or self._open_only is None or self._open_only():
                tell(*news)


class Topics:
    """The topics of a workspace: what of the run shown, of the study, or of the jobs has changed."""

    def __init__(self, is_open: Callable[[], bool]) -> None:
        # The study was left: nothing that was kept of it may be taken for the next one's.
        self.left = Topic()
        self.run, self.figures, self.measured = Topic(is_open), Topic(is_open), Topic(is_open)
        self.selection, self.current, self.reviews = Topic(is_open), Topic(is_open), Topic(is_open)
        self.kept, self.features, self.tests_kept = Topic(is_open), Topic(is_open), Topic(is_open)
        self.contents, self.checks, self.busy = Topic(is_open), Topic(is_open), Topic(is_open)
        # Another run is held against the one shown, or none any more; what both come to together has been worked out.
        self.held, self.compared = Topic(is_open), Topic(is_open)
        # How the criteria of the model shown stand has been worked out.
        self.criteria = Topic(is_open)
        # Images are to be put in an order that takes too long for the main thread; one of them is to be looked at closely.
        self.arrangement_wanted, self.look_wanted = Topic(is_open), Topic(is_open)
