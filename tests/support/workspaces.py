"""Workspaces on made-up runs, with the window's loop or with none."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from mivrat.core.answers.answers import Answers
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.running.snapshot import take_snapshot
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.workspace.loop import HeadlessLoop, Loop
from mivrat.workspace.study_jobs import Opened
from mivrat.workspace.workspace import Workspace


class Remembered(dict[str, Any]):
    """What is remembered, in memory."""

    def value(self, key: str, default: Any = None, /) -> Any:
        return self.get(key, default)

    def setValue(self, key: str, value: Any, /) -> None:
        self[key] = value


def made_up_run(folder: Path, classes: int, images: int, *, readable: bool = True, seed: int = 0) -> RunRecord:
    """A run with random answers, labels cycling through the classes, over one picture file used again and again."""
    if readable:
        Image.fromarray(np.random.default_rng(0).integers(0, 256, (20, 30, 3), dtype=np.uint8)).save(folder / "a.png")
    answers = Answers(images, classes, "logits")
    rows = np.random.default_rng(seed).normal(0, 2, (images, classes)).astype(np.float32)
    answers.add(ScoredBatch(np.arange(images), rows, {}))
    items = [ImageItem("a.png", i % classes, {"site": str(i % 3)}) for i in range(images)]
    info = RunInfo(1, "net", "set", 1, 1)
    names = [f"class {i} with a rather long name" for i in range(classes)]
    return RunRecord(info, names, folder / "m.onnx", Recipe(), True, ImageSet("set", folder, items), answers)


def show(workspace: Workspace, record: RunRecord) -> None:
    """Show a run as if it had been read from a study."""
    folder = record.image_set.root
    workspace.show(Opened(folder / "none.mivrat", [record.info], {}, take_snapshot(record)))


def opened(record: RunRecord, loop: Loop | None = None) -> Workspace:
    """A workspace that shows a run; without a loop nothing comes back from workers unless ``settle`` is called."""
    made = Workspace(loop or HeadlessLoop(), Remembered())
    show(made, record)
    return made


def settle(loop: HeadlessLoop, done: Callable[[], bool], seconds: float = 30.0) -> None:
    """Do what was posted to a loop until something is so."""
    until = time.monotonic() + seconds
    while not done():
        assert time.monotonic() < until, "it takes too long"
        if not loop.turn():
            time.sleep(0.005)
