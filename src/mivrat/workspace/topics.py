"""What listeners are told of: topics to subscribe to, told on the main thread and, unless asked otherwise, while a run is open."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

Listener = Callable[..., object]


class Topic:
    """Something that happens; ``emit`` tells everyone who has asked, in the order they did."""

    def __init__(self, open_only: Callable[[], bool] | None = None, of: Topics | None = None) -> None:
        """``open_only`` says whether a run is open: without one, only those are told who ask to be always. A topic ``of`` a
        workspace is announced when the change that is being made is complete."""
        self._open_only, self._of = open_only, of
        self._listeners: list[tuple[Listener, bool]] = []

    def connect(self, notify: Listener, *, always: bool = False) -> Callable[[], None]:
        """Be told from now on, until what is returned is called."""
        entry = notify, always
        self._listeners.append(entry)
        return lambda: self._listeners.remove(entry) if entry in self._listeners else None

    @property
    def heard(self) -> bool:
        """Whether all who have asked are told now."""
        return self._open_only is None or self._open_only()

    def emit(self, *event: Any) -> None:
        if self._of is None:
            self.deliver(*event)
        else:
            self._of.announce(self, event)

    def deliver(self, *event: Any) -> None:
        """Tell everyone now."""
        for notify, always in list(self._listeners):
            if always or self.heard:
                notify(*event)


class Topics:
    """The topics of a workspace: what of the run shown, of the study, or of the jobs has changed.

    A change is whole: within ``change`` everything is replaced first, then each topic announced meanwhile is delivered once, in
    the order of its first announcement. What a listener announces waits until everyone has heard what came before.
    """

    def __init__(self, is_open: Callable[[], bool]) -> None:
        self._changing, self._delivering = 0, False
        self._announced: deque[tuple[Topic, tuple[Any, ...]]] = deque()

        def topic() -> Topic:
            return Topic(is_open, self)

        # The study was left: nothing that was kept of it may be taken for the next one's. Announced at once, while nothing is open.
        self.left = Topic()
        self.run, self.figures, self.measured = topic(), topic(), topic()
        self.selection, self.current, self.reviews = topic(), topic(), topic()
        self.kept, self.features, self.two_classes, self.tests_kept = topic(), topic(), topic(), topic()
        self.contents, self.checks, self.busy = topic(), topic(), topic()
        # Another run is held against the one shown, or none any more; what both come to together has been worked out.
        self.held, self.compared = topic(), topic()
        # How the criteria of the model shown stand has been worked out; how many findings there are, and how many block.
        self.criteria, self.findings = topic(), topic()
        # What is known of the images as numbers has been read, or measured.
        self.measures = topic()
        # Answers and others' decisions are hidden from who reviews, or shown again.
        self.blind = topic()
        # Images are to be put in an order that takes too long for the main thread; one of them is to be looked at closely.
        self.arrangement_wanted, self.look_wanted = topic(), topic()

    @contextmanager
    def change(self) -> Iterator[None]:
        """Changes made within are announced together at the end; not at all where one of them fails."""
        self._changing += 1
        try:
            yield
        except BaseException:
            self._announced.clear()
            raise
        finally:
            self._changing -= 1
        self._deliver()

    def announce(self, topic: Topic, event: tuple[Any, ...]) -> None:
        if (topic, event) not in self._announced:
            self._announced.append((topic, event))
        self._deliver()

    def _deliver(self) -> None:
        if self._changing or self._delivering:
            return
        self._delivering = True
        try:
            while self._announced:
                topic, event = self._announced.popleft()
                topic.deliver(*event)
        except BaseException:
            # Some have heard of it and others have not: whoever catches this shows everything again.
            self._announced.clear()
            raise
        finally:
            self._delivering = False
