"""Thumbnails as strained, drawn off the main thread for the images in sight while those that a level changes are selected."""

from __future__ import annotations

from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.study.records import RunRecord
from mivrat.ui.parts.drawn_thumbs import DrawnThumbs
from mivrat.ui.parts.pictures import to_image
from mivrat.workspace.image_view import look_at_strained

SIDE = 192


class StrainedThumbs(DrawnThumbs):
    """``get`` gives an image's thumbnail as strained, None where images are shown as they are, or while it is drawn."""

    def get(self, image: int) -> QImage | None:
        """An image's thumbnail as strained; one that is not drawn yet is asked for."""
        strained, record = self.workspace.shown.strained, self.workspace.shown.record
        if strained is None or image not in strained.predicted:
            return None
        key = record.set_key, image, strained.strain, record.info.model_id
        return self.drawn(key, lambda: _drawn(record, image, strained.strain))


def _drawn(record: RunRecord, image: int, strain: Distortion) -> QImage | None:
    """One thumbnail; None where the file cannot be read."""
    try:
        seen = look_at_strained(record, image, strain, SIDE)
    except InputError:
        return None
    return to_image(seen.photo).convertToFormat(QImage.Format.Format_RGB32)
