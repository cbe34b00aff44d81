"""*More like these*: the images most similar to those marked; features are worked out first where they are missing."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from mivrat.core.likeness.search import nearest
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.workspace.workspace import Workspace

# So many of the most similar images are shown beside those they are like.
MOST_ALIKE = 60


class MoreLikeThese(QObject):
    """``found`` tells that the images are shown."""

    found = Signal()

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._waiting = workspace, False
        workspace.topics.features.connect(lambda: self.show() if self._waiting else None)
        workspace.topics.left.connect(self._forget)
        workspace.jobs.ended.connect(lambda handle: None if handle.state == "finished" else self._forget())

    def _forget(self) -> None:
        self._waiting = False

    def show(self) -> None:
        """Show the images most like those marked, or like the one looked at."""
        shown = self._workspace.shown
        some, vectors = shown.focus.acted_on, shown.results.vectors
        self._waiting = False
        if not some:
            self._workspace.notices.say("Look at an image first, or mark several.")
        elif vectors is None:
            self._waiting = bool(self._workspace.jobs.find_features())
        else:
            similar = nearest(vectors, some, MOST_ALIKE)[0].tolist()
            name = shown.name_of(some[0]) if len(some) == 1 else words.images(len(some))
            shown.replace(Picked(f"likeness to {name}", (*some, *similar)))
            self.found.emit()
            shown.focus.look_at(some[0])
