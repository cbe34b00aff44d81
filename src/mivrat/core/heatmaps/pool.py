"""The one pool of loaded models and heatmap makers: they are lent by what they are, never by a row or a name."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.maps import MapMaker, maker_of
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.recipe import canonical
from mivrat.core.study.records import RunRecord

MOST_IDLE = 2


class MakerKey(NamedTuple):
    """What a heatmap maker is of: the model's content, its recipe, the number of classes, and the kind of its scores."""

    content: str
    recipe: str
    classes: int
    kind: Kind | None


def _key(record: RunRecord) -> MakerKey:
    return MakerKey(record.model_sha256, canonical(record.recipe), len(record.classes), record.answers.kind)


def model_of(record: RunRecord) -> Model:
    """A run's model, loaded. InputError where the file is another one than the run was scored with."""
    model = load_model(record.model_path, record.classes, record.recipe)
    if record.model_sha256 and model.content != record.model_sha256:
        raise InputError(
            model.kind.other,
            where=record.model_path,
            hint="put the one before back, or add this one under Prepare as a model of its own",
        )
    return model


class MakerPool:
    """Lends heatmap makers, to one borrower at a time each: where all of a kind are lent another one is made. Those given back
    last are kept. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._idle: list[tuple[MakerKey, MapMaker]] = []
        # Whoever wants to know what a model's layers are may look at one that is lent; those lent last.
        self._seen: dict[MakerKey, MapMaker] = {}

    @contextmanager
    def acquire(self, record: RunRecord, *, kind_known: bool = True) -> Iterator[MapMaker]:
        """The maker for a run's model, for as long as this lasts; ``kind_known``: the run's answers tell the kind of its scores.
        Raises InputError where it cannot be made."""
        key = _key(record) if kind_known else _key(record)._replace(kind=None)
        with self._lock:
            at = next((i for i, (one, _) in enumerate(self._idle) if one == key), None)
            maker = self._idle.pop(at)[1] if at is not None else None
        if maker is None:
            maker = maker_of(model_of(record), key.kind)
        with self._lock:
            self._seen.pop(key, None)
            self._seen = {**dict(list(self._seen.items())[1 - MOST_IDLE :]), key: maker}
        try:
            yield maker
        finally:
            maker.answered = lambda number: None
            with self._lock:
                self._idle = [*self._idle, (key, maker)][-MOST_IDLE:]

    def seen(self, record: RunRecord) -> MapMaker | None:
        """The maker of a run's model, if it is among those lent last; only to ask it for its layers."""
        with self._lock:
            return self._seen.get(_key(record))
