"""Thumbnails that are drawn in some way off the main thread and kept, the least recently used forgotten first."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable

from PySide6.QtGui import QImage

from mivrat.ui.parts.pictures import Thumbnails
from mivrat.workspace.workspace import Workspace

MOST = 600


class DrawnThumbs:
    """``drawn`` gives what has been drawn; that another has come is told by the plain thumbnails' ``ready``."""

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        self.workspace, self._thumbnails = workspace, thumbnails
        self._cache: OrderedDict[Hashable, QImage | None] = OrderedDict()
        self._pending: set[Hashable] = set()
        self._workers = workspace.group(1)
        workspace.topics.left.connect(self._pending.clear)

    def drawn(self, key: Hashable, draw: Callable[[], QImage | None]) -> QImage | None:
        """The picture known by this key; one that is not drawn yet is asked for. None: not drawn yet, or it cannot be."""
        if key in self._cache:
            self._cache.move_to_end(key)
            return self._cache[key]
        if key not in self._pending:
            self._pending.add(key)
            self._workers.start(lambda task: draw(), done=lambda image: self._keep(key, image))
        return None

    def _keep(self, key: Hashable, image: QImage | None) -> None:
        self._pending.discard(key)
        self._cache[key] = image
        while len(self._cache) > MOST:
            self._cache.popitem(last=False)
        self._thumbnails.ready.emit()

    @property
    def settled(self) -> bool:
        return not self._pending

    def stop(self) -> None:
        self._workers.stop_all()
        self._pending.clear()
