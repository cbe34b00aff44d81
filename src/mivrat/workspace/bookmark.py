"""Where one is in a study: written down as one goes, so that opening it again leads back there."""

from __future__ import annotations

import json
from typing import Any

from mivrat.core.pictures.image_names import image_name
from mivrat.core.selecting import kept
from mivrat.core.selecting.ordering import NO_BANDS, SUREST_MISTAKE
from mivrat.core.study.records import RunKey
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 800

# What orders were called by earlier versions.
_ORDERS_BEFORE = {"surest mistake first": SUREST_MISTAKE, "least sure first": "least confident first"}
_BANDS_BEFORE = {"no bands": NO_BANDS}


class Bookmark:
    """Keeps selection, order, bands, image, and what the window adds to them by ``extra``; ``restored`` gives that back."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.restored = Topic()
        self.extra: dict[str, Any] = {}
        self._kept: tuple[Any, ...] = ()
        # Where it ended badly last time one does not go back to.
        self.not_back = False
        self._soon = workspace.soon(MILLISECONDS, self.keep)
        for topic in (workspace.topics.selection, workspace.topics.current, workspace.topics.reviews):
            topic.connect(self.changed)
        workspace.place_read.connect(self._restore)

    def changed(self) -> None:
        """Something has changed: write it down soon."""
        if self.workspace.is_open:
            self._soon.start()

    def keep(self) -> None:
        """Write down where one is, if that has changed."""
        self._soon.stop()
        if not self.workspace.is_open:
            return
        shown, extra = self.workspace.shown, dict(self.extra)
        record, conditions, order, bands = shown.record, shown.conditions, shown.order.by, shown.order.band_by
        about, image = shown.order.about, shown.focus.current
        now: tuple[RunKey, Any] = record.key, (conditions, order, bands, about, image, tuple(extra.items()))

        def in_words() -> str:  # a selection of many images is long
            data = {
                "conditions": kept.to_text(conditions, record.classes, record.names),
                "order": order,
                "bands": bands,
                "about": None if about is None else record.classes[about],
                "image": None if image is None else record.names[image],
                **extra,
            }
            return json.dumps(data)

        if now != self._kept:
            self._kept = now
            self.workspace.remember_place(record.info.id, in_words)

    def _restore(self, text: str) -> None:
        """Go where one was; what does not fit the study any more is left out."""
        if not text or self.not_back:
            self.not_back = False
            return
        try:
            data = json.loads(text)
            order, bands, image = (
                _ORDERS_BEFORE.get(str(data["order"]), str(data["order"])),
                _BANDS_BEFORE.get(str(data["bands"]), str(data["bands"])),
                data["image"],
            )
            image = image_name(image) if image is not None else None
            conditions = kept.without_both(str(data["conditions"]))
        except (ValueError, KeyError, TypeError, RecursionError):
            return
        shown, record = self.workspace.shown, self.workspace.shown.record
        found = kept.from_text(
            conditions, record.classes, record.image_set.items, record.names, shown.reviews, measures=shown.measures
        )
        about = data.get("about")
        shown.go_to(found or (), order, bands, record.classes.index(about) if about in record.classes else None)
        if image is not None:
            at = record.names.position(image)
            if at is not None and at in shown.images:
                shown.focus.look_at(at)
        self.restored.emit(data)
