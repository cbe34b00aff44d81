"""Opening a study with 50,000 images and 1,000 classes: seconds to the first figures, and against reading the file."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.score_folder import folder_beside

IMAGES, CLASSES, ROUNDS = 50_000, 1_000, 5
_OPENED = """
import sys, time
from pathlib import Path
from mivrat.core.running.loading import load_judged
from mivrat.core.study.file import Study
from mivrat.core.study.runs import list_runs
from mivrat.core.running.snapshot import take_snapshot
began = time.perf_counter()
study = Study.open(Path(sys.argv[1]))
snapshot = take_snapshot(*load_judged(study, list_runs(study)[0].id))
seconds = time.perf_counter() - began
assert snapshot.figures.total == int(sys.argv[2])
print(seconds)
"""


class MadeUp(PredictionTable):
    """Logits drawn at random, the labelled class raised."""

    def __init__(self, path: Path, labels: np.ndarray, seed: int = 1) -> None:
        names = [f"class {k}" for k in range(CLASSES)]
        path.write_text(f"path,predicted\nnone {seed},class 0\n", encoding="utf-8")
        super().__init__(path, names)
        self.columns, self._settled = CLASSES, "logits"
        self._labels, self._seed = labels, seed

    def looked_up(self, image_set: ImageSet) -> tuple[np.ndarray, Iterator[np.ndarray]]:
        rng = np.random.default_rng(self._seed)
        rows = rng.standard_normal((len(self._labels), CLASSES), np.float32)
        rows[np.arange(len(rows)), self._labels] += rng.normal(3.5, 1.5, len(rows)).astype(np.float32)
        return np.arange(len(rows)), iter([rows])


def make_study(path: Path, models: int = 1) -> None:
    labels = np.random.default_rng(0).integers(0, CLASSES, IMAGES)
    items = [ImageItem(f"class {k}/{i:06}.jpg", int(k), {}, f"class {k}") for i, k in enumerate(labels)]
    study = Study.create(path, [f"class {k}" for k in range(CLASSES)])
    image_set = ImageSet("made up", path.parent, items)
    for seed in range(1, models + 1):
        list(Evaluation(MadeUp(path.with_name(f"model {seed}.csv"), labels, seed), image_set, study).run())
    study.close()


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "big.mivrat"
        make_study(path)
        opened, read = [], []
        for _ in range(ROUNDS):
            began = time.perf_counter()
            for file in (path, *folder_beside(path).iterdir()):
                file.read_bytes()
            read.append(time.perf_counter() - began)
            done = subprocess.run(
                [sys.executable, "-c", _OPENED, str(path), str(IMAGES)], capture_output=True, text=True, check=True
            )
            opened.append(float(done.stdout))
        print(
            f"{IMAGES} images x {CLASSES} classes, {path.stat().st_size / 1e6:.0f} MB and the scores beside it: {statistics.median(opened):.2f} s to the "
            f"first figures (from {min(opened):.2f} to {max(opened):.2f}); {statistics.median(opened) / statistics.median(read):.1f} times "
            "reading all of it"
        )


if __name__ == "__main__":
    main()
