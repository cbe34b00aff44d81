"""Where one is in a study: written down as one goes, so that opening it again leads back there."""

from __future__ import annotations

import json
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from mivrat.core.pictures.image_names import image_name
from mivrat.core.selecting import kept
from mivrat.core.study.records import RunKey
from mivrat.ui.keeper import Keeper
from mivrat.ui.session import Session

MILLISECONDS = 800


class Place(QObject):
    """Keeps selection, order, bands, image, and what the window adds to them by ``extra``; ``restored`` gives that back."""

    restored = Signal(object)

    def __init__(self, session: Session, keeper: Keeper, parent: QObject) -> None:
        super().__init__(parent)
        self.session, self.keeper = session, keeper
        self.extra: dict[str, Any] = {}
        self._kept: tuple[RunKey, str] | None = None
        # Where it ended badly last time one does not go back to.
        self.not_back = False
        self._soon = QTimer(self, singleShot=True, interval=MILLISECONDS)
        self._soon.timeout.connect(self.keep)
        for signal in (session.selection_changed, session.current_changed, session.reviews_changed):
            signal.connect(self.changed)
        keeper.place_read.connect(self._restore)

    def changed(self) -> None:
        """Something has changed: write it down soon."""
        if self.session.study_path is not None:
            self._soon.start()

    def keep(self) -> None:
        """Write down where one is, if that has changed."""
        self._soon.stop()
        snapshot = self.session.snapshot
        if snapshot is None or self.session.study_path is None:
            return
        image = self.session.current
        data = {
            "conditions": kept.to_text(self.session.conditions, snapshot.record.classes, snapshot.record.names),
            "order": self.session.order,
            "bands": self.session.band_by,
            "about": None if self.session.about is None else snapshot.record.classes[self.session.about],
            "image": None if image is None else snapshot.record.names[image],
            **self.extra,
        }
        now = snapshot.record.key, json.dumps(data)
        if now != self._kept:
            self._kept = now
            self.keeper.remember_place(snapshot.record.info.id, now[1])

    def _restore(self, text: str) -> None:
        """Go where one was; what does not fit the study any more is left out."""
        snapshot = self.session.snapshot
        if snapshot is None or not text or self.not_back:
            self.not_back = False
            return
        try:
            data = json.loads(text)
            order, bands, image = str(data["order"]), str(data["bands"]), data["image"]
            image = image_name(image) if image is not None else None
            conditions = str(data["conditions"])
        except (ValueError, KeyError, TypeError, RecursionError):
            return
        record = snapshot.record
        items, classes = record.image_set.items, record.classes
        found = kept.from_text(conditions, classes, items, record.names, self.session.reviews)
        about = data.get("about")
        self.session.go_to(found or (), order, bands, classes.index(about) if about in classes else None)
        if image is not None:
            at = record.names.position(image)
            if at is not None and at in self.session.shown:
                self.session.look_at(at)
        self.restored.emit(data)
