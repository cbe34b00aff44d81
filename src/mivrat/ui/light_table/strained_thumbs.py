"""Thumbnails as strained, drawn off the main thread for the images in sight while those that a level changes are selected."""

from __future__ import annotations

from collections import OrderedDict

from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.study.records import RunRecord
from mivrat.ui.parts.pictures import Thumbnails, to_image
from mivrat.workspace.image_view import look_at_strained
from mivrat.workspace.workspace import Workspace

MOST, SIDE = 600, 192


class StrainedThumbs:
    """``get`` gives an image's thumbnail as strained, None where images are shown as they are, or while it is drawn."""

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        self._workspace, self._thumbnails = workspace, thumbnails
        self._cache: OrderedDict[tuple[object, ...], QImage | None] = OrderedDict()
        self._pending: set[tuple[object, ...]] = set()
        self._workers = workspace.group(1)
        workspace.topics.left.connect(self._pending.clear)

    def get(self, image: int) -> QImage | None:
        """An image's thumbnail as strained; one that is not drawn yet is asked for."""
        shown = self._workspace.shown
        strained, record = shown.strained, shown.record
        if strained is None or image not in strained.predicted:
            return None
        key = record.set_key, image, strained.strain, record.info.model_id
        if key in self._cache:
            self._cache.move_to_end(key)
            return self._cache[key]
        if key not in self._pending:
            self._pending.add(key)
            strain = strained.strain
            self._workers.start(lambda task: _drawn(record, image, strain), done=lambda found: self._keep(key, found))
        return None

    def _keep(self, key: tuple[object, ...], image: QImage | None) -> None:
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


def _drawn(record: RunRecord, image: int, strain: Distortion) -> QImage | None:
    """One thumbnail; None where the file cannot be read."""
    try:
        seen = look_at_strained(record, image, strain, SIDE)
    except InputError:
        return None
    return to_image(seen.photo).convertToFormat(QImage.Format.Format_RGB32)
