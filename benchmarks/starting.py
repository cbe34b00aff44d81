"""Whole processes in turn: how long until the start page is drawn, until `mivrat evaluate` scores, and until it has scored the
demonstration's pictures with all intervals written, against a plain script with Pillow, ONNX Runtime and NumPy."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.pictures import write_table
from benchmarks.side_by_side import in_turn, spread
from mivrat.demo.study import DATA

ROUNDS = 10
_PLAIN = """
import sys, csv
from pathlib import Path
import numpy as np, onnxruntime as ort
from PIL import Image
session = ort.InferenceSession(sys.argv[1])
name, classes = session.get_inputs()[0].name, Path(sys.argv[3]).read_text().split()
lines = list(csv.reader(open(sys.argv[2])))[1:]
pictures, labels = [], []
for path, label in lines:
    picture = Image.open(path).convert("RGB").resize((96, 96), Image.BILINEAR)
    pictures.append(((np.asarray(picture, np.float32) / 255 - 0.5) / 0.5).transpose(2, 0, 1))
    labels.append(classes.index(label))
scores = np.concatenate([session.run(None, {name: np.stack(pictures[i : i + 32])})[0] for i in range(0, len(pictures), 32)])
labels, called = np.array(labels), scores.argmax(1)
matrix = np.zeros((len(classes), len(classes)), int)
np.add.at(matrix, (labels, called), 1)
p = np.exp(scores - scores.max(1, keepdims=True))
p /= p.sum(1, keepdims=True)
print((called == labels).mean(), -np.log(p[np.arange(len(p)), labels]).mean(), matrix.diagonal() / matrix.sum(1), matrix.diagonal() / matrix.sum(0))
"""
_DRAWN = """
import time
began = time.perf_counter()
from PySide6.QtCore import QSettings
from mivrat.ui.application import make_application
from mivrat.ui.window import MainWindow
application = make_application()
window = MainWindow(QSettings("/nonexistent/settings.ini", QSettings.Format.IniFormat), at_once=False)
window.show()
application.processEvents()
"""
_SCORING = """
import sys, os
import mivrat.core.answers.scoring as scoring
scoring._scores = lambda *_: os._exit(0)
from mivrat.cli import main
main()
"""


def main() -> None:
    files = [
        (path, path.parent.name)
        for name in ("spring-check", "late-summer-field")
        for path in sorted((DATA / name).rglob("*.jpg"))
        if path.stat().st_size > 800
    ]
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    with tempfile.TemporaryDirectory() as folder:
        table = write_table(Path(folder) / "images.csv", files)
        model, classes = DATA / "grain-net-1.onnx", DATA / "classes.txt"
        asked = ["evaluate", "--model", str(model), "--recipe", str(DATA / "recipe.toml"), "--classes", str(classes)]
        asked += ["--images", str(table), "--out", f"{folder}/out"]

        def run(*arguments: str) -> None:
            subprocess.run(
                [sys.executable, *arguments], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )

        run("-m", "mivrat", *asked)  # what is tried once is tried
        found = in_turn(
            {
                "plain": lambda: run("-c", _PLAIN, str(model), str(table), str(classes)),
                "evaluate": lambda: run("-m", "mivrat", *asked),
                "scoring": lambda: run("-c", _SCORING, *asked),
                "drawn": lambda: run("-c", _DRAWN),
            },
            ROUNDS,
        )
    ratios = [a / b for a, b in zip(found["evaluate"], found["plain"], strict=True)]
    print(
        f"{len(files)} pictures: evaluate {statistics.median(found['evaluate']):.2f} s, {spread(ratios)} x a plain script without "
        f"intervals; scoring begins within {statistics.median(found['scoring']):.2f} s; the start page is drawn within "
        f"{statistics.median(found['drawn']):.2f} s"
    )


if __name__ == "__main__":
    main()
