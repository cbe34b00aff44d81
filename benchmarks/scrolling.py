"""The light table on 100,000 images: time to the first full screen, cold and warm, slow frames and stalls, memory."""

from __future__ import annotations

import os
import re
import statistics
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from mivrat.ui.parts.loop import QtLoop
from tests.support.workspaces import opened

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp()

import numpy as np
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from benchmarks.screens import wait
from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.ui.application import make_application
from mivrat.ui.light_table.table import LightTable
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.workspace.workspace import Workspace

IMAGES, DIFFERENT, CLASSES = 100_000, 400, 20
FRAMES, STEP = 900, -240


def memory() -> float:
    """Resident memory in MB."""
    found = re.search(r"VmRSS:\s+(\d+)", Path("/proc/self/status").read_text())
    assert found is not None
    return int(found[1]) / 1024


def write_pictures(folder: Path, images: int) -> list[str]:
    """So many paths of photographs of 500 x 375: some different files, each under many names."""
    rng = np.random.default_rng(0)
    names = []
    for i in range(images):
        path = folder / f"{i % 100}" / f"{i}.jpg"
        names.append(str(path.relative_to(folder)))
        path.parent.mkdir(exist_ok=True)
        if i < DIFFERENT:
            coarse = Image.fromarray(rng.integers(0, 256, (30, 40, 3), dtype=np.uint8))
            coarse.resize((500, 375), Image.Resampling.BICUBIC).save(path, quality=95)
        else:
            os.link(folder / f"{i % DIFFERENT % 100}" / f"{i % DIFFERENT}.jpg", path)
    return names


def first_screen(workspace: Workspace) -> tuple[float, LightTable, Thumbnails]:
    thumbnails = Thumbnails(workspace.parallel)
    table = LightTable(workspace, thumbnails)
    table.resize(760, 1000)
    began = time.perf_counter()
    table.show()
    workspace.topics.selection.emit()
    QApplication.processEvents()
    wait(lambda: table.settled and thumbnails.settled)
    table.thumbs.viewport().repaint()
    return time.perf_counter() - began, table, thumbnails


def main() -> None:
    make_application()
    images = 10_000 if "--quick" in sys.argv else IMAGES
    with tempfile.TemporaryDirectory() as name:
        names = write_pictures(Path(name), images)
        answers = Answers(images, CLASSES, "logits")
        answers.rows[:] = np.random.default_rng(0).normal(0, 2, (images, CLASSES))
        answers.state[:] = SCORED
        items = [ImageItem(path, i % CLASSES, {"site": str(i % 7)}) for i, path in enumerate(names)]
        info = RunInfo(1, "net", "set", 1, 1)
        classes = [f"class {k}" for k in range(CLASSES)]
        record = RunRecord(
            info, classes, Path(name) / "m.onnx", Recipe(), True, ImageSet("set", Path(name), items), answers
        )
        workspace = opened(record, QtLoop())
        cold, table, thumbnails = first_screen(workspace)
        table.close()
        thumbnails.stop()
        warm, table, thumbnails = first_screen(workspace)
        before = memory()
        ticks: list[float] = []
        timer = QTimer(interval=0)
        timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
        timer.start()
        for bands in ("no bands", "label"):
            workspace.shown.set_bands(bands)
            QApplication.processEvents()
            ticks.clear()
            painted = []
            viewport = table.thumbs.viewport()
            at = QPointF(viewport.rect().center())
            for frame in range(FRAMES):
                began = time.perf_counter()
                turn = QPoint(0, STEP if frame < FRAMES * 2 // 3 else 40 * STEP)  # then as fast as a dragged scroll bar
                wheel = QWheelEvent(
                    at,
                    QPointF(viewport.mapToGlobal(at.toPoint())),
                    QPoint(),
                    turn,
                    Qt.MouseButton.NoButton,
                    Qt.KeyboardModifier.NoModifier,
                    Qt.ScrollPhase.NoScrollPhase,
                    False,
                )
                QApplication.sendEvent(viewport, wheel)
                QApplication.processEvents()
                painted.append(1000 * (time.perf_counter() - began))
                while time.perf_counter() - began < 1 / 60:  # frames as a screen asks for them
                    QApplication.processEvents()
            stall = 1000 * max(b - a for a, b in pairwise(ticks))
            print(
                f"{images:,} images, {bands}: {FRAMES} frames, median {statistics.median(painted):.1f} ms, worst "
                f"{max(painted):.1f} ms, over 33 ms: {sum(one > 33 for one in painted)}; longest stall {stall:.0f} ms"
            )
        wait(lambda: table.settled and thumbnails.settled)
        print(f"first full screen of thumbnails: {cold:.2f} s cold, {warm:.2f} s warm")
        print(f"memory {before:.0f} MB before scrolling, {memory():.0f} MB after")
        thumbnails.stop()
        table.stop()


if __name__ == "__main__":
    main()
    sys.stdout.flush()
    os._exit(0)
