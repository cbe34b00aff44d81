"""How time and memory grow with the number of images: a table of predictions is imported, opened and shown, 10,000 images to a million.

Each step is done in a process of its own, which tells its seconds and what it held in memory that no file stands behind.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import polars as pl

SIZES, CLASSES, ROWS = (10_000, 100_000, 1_000_000), 100, 20_000

_TIMED = """
import json, sys, time
from pathlib import Path
began = time.perf_counter()
def told(**found):
    status = dict(line.split(":", 1) for line in open("/proc/self/status"))
    found["seconds"], found["MB"] = time.perf_counter() - began, int(status["RssAnon"].split()[0]) // 1024
    print(json.dumps(found))
folder = Path(sys.argv[1])
study_path = folder / "s.mivrat"
"""
_READING = "import polars as pl\nbegan = time.perf_counter()\npl.read_parquet(folder / 'p.parquet')\n"
_IMPORT = """
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
began = time.perf_counter()
classes = (folder / "classes.txt").read_text().split("\\n")
with Study.create(study_path, classes) as study:
    for _ in Evaluation(PredictionTable(folder / "p.parquet", classes), read_image_set(folder / "i.csv", classes), study).run():
        pass
"""
_OPENING = """
from mivrat.core.running.loading import load_judged
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.running.snapshot import take_snapshot
from mivrat.core.selecting.selection import Labelled, Selection
from mivrat.core.study.file import Study
began = time.perf_counter()
study = Study.open(study_path)
snapshot = take_snapshot(*load_judged(study, 1))
"""
_SLOW = _OPENING + "began = time.perf_counter()\nslow_figures(snapshot.judged)\n"
_ONE_CLASS = (
    _OPENING + "began = time.perf_counter()\nsnapshot.judged.figures([1], snapshot.judged.labels == 1, ranked=False)\n"
)
STEPS = {
    "reading the table once": _READING,
    "import": _IMPORT,
    "open, first figures": _OPENING,
    "figures of a class": _ONE_CLASS,
    "slow figures": _SLOW,
}


def write_inputs(folder: Path, number: int, classes: int = CLASSES) -> None:
    """Images with labels, and a table of logits in which the labelled class is raised."""
    rng = np.random.default_rng(0)
    labels = rng.integers(0, classes, number)
    names = [f"class {k}" for k in range(classes)]
    paths = [f"class {k}/{i:07}.jpg" for i, k in enumerate(labels.tolist())]
    (folder / "classes.txt").write_text("\n".join(names))
    pl.DataFrame({"path": paths, "label": [names[k] for k in labels]}).write_csv(folder / "i.csv")
    rows = rng.standard_normal((number, classes), np.float32)
    rows[np.arange(number), labels] += rng.normal(3.5, 1.5, number).astype(np.float32)
    frame = pl.DataFrame({"path": paths}).hstack(pl.DataFrame(rows, schema=names))
    frame.write_parquet(folder / "p.parquet", row_group_size=ROWS, compression="uncompressed")


def main() -> None:
    sizes = SIZES[:2] if "--quick" in sys.argv else SIZES
    found: dict[str, list[dict[str, float]]] = {step: [] for step in STEPS}
    for number in sizes:
        with tempfile.TemporaryDirectory() as name:
            write_inputs(Path(name), number)
            for step, code in STEPS.items():
                done = subprocess.run(
                    [sys.executable, "-c", f"{_TIMED}{code}told()", name], capture_output=True, text=True, check=True
                )
                found[step].append(json.loads(done.stdout))
    print(f"{CLASSES} classes".ljust(26) + "".join(f"{number:>22,}" for number in sizes))
    for step, cells in found.items():
        print(step.ljust(26) + "".join(f"{one['seconds']:>12.2f} s {one['MB']:>5.0f} MB" for one in cells))


if __name__ == "__main__":
    main()
