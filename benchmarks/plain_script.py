"""`mivrat evaluate` as a whole process against a script of one's own: Pillow, NumPy, the engine, one pool of decoders, no intervals."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.networks import CLASSES, RECIPE, mobile
from benchmarks.pictures import write_jpegs, write_table
from benchmarks.side_by_side import in_turn, spread
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.demo.study import DATA

ROUNDS = 2
# What a practitioner writes: threads that decode and prepare, batches of 32 to the engine, accuracy and a list of predictions.
SCRIPT = """
import csv, os, sys
from concurrent.futures import ThreadPoolExecutor
import numpy as np
import onnxruntime
from PIL import Image

model, table, classes, out, shorter, side, mean, scale = sys.argv[1:9]
shorter, side = int(shorter), int(side)
mean, scale = (np.array([float(one) for one in text.split(",")], np.float32) for text in (mean, scale))
names = open(classes).read().split("\\n")
rows = list(csv.DictReader(open(table)))
session = onnxruntime.InferenceSession(model, providers=["CPUExecutionProvider"])
name = session.get_inputs()[0].name

def prepared(row):
    image = Image.open(os.path.join(os.path.dirname(table), row["path"])).convert("RGB")
    width, height = image.size
    if shorter:
        factor = shorter / min(width, height)
        image = image.resize((round(width * factor), round(height * factor)), Image.BILINEAR)
        left, top = (image.width - side) // 2, (image.height - side) // 2
        image = image.crop((left, top, left + side, top + side))
    elif image.size != (side, side):
        image = image.resize((side, side), Image.BILINEAR)
    pixels = np.asarray(image, np.float32) / 255
    return ((pixels - mean) / scale).transpose(2, 0, 1)

right = 0
with ThreadPoolExecutor(os.cpu_count()) as pool, open(out, "w", newline="") as file:
    writer = csv.writer(file)
    writer.writerow(["path", "label", "predicted", "confidence"])
    for first in range(0, len(rows), 32):
        some = rows[first : first + 32]
        if first == 0:
            waiting = list(pool.map(prepared, some))
        batch = np.stack(waiting)
        following = pool.map(prepared, rows[first + 32 : first + 64])
        scores = session.run(None, {name: batch})[0].astype(np.float64)
        waiting = list(following)
        p = np.exp(scores - scores.max(axis=1, keepdims=True))
        p /= p.sum(axis=1, keepdims=True)
        for row, line in zip(some, p):
            k = int(line.argmax())
            right += names[k] == row["label"]
            writer.writerow([row["path"], row["label"], names[k], line[k]])
print(right / len(rows))
"""


def measure(
    title: str, model: Path, recipe: Path, given: list[str], files: list[tuple[Path, str]], classes: Path
) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        table = write_table(folder / "images.csv", files)
        (folder / "script.py").write_text(SCRIPT)

        def ran(*words: object) -> None:
            subprocess.run(
                [sys.executable, *map(str, words)], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )

        found = in_turn(
            {
                "script": lambda: ran(folder / "script.py", model, table, classes, folder / "out.csv", *given),
                "evaluate": lambda: ran(
                    *("-m", "mivrat", "evaluate", "--model", model, "--recipe", recipe, "--classes", classes),
                    *("--images", table, "--out", folder / "out"),
                ),
            },
            ROUNDS,
        )
    ratios = [e / s for s, e in zip(found["script"], found["evaluate"], strict=True)]
    seconds = ", ".join(f"{key} {min(some):.1f} s" for key, some in found.items())
    print(f"{title}: {len(files)} images, {seconds}; evaluate / script = {spread(ratios)}", flush=True)


def main() -> None:
    demo = [
        (path, path.parent.name)
        for name in ("spring-check", "late-summer-field")
        for path in sorted((DATA / name).rglob("*.jpg"))
        if path.stat().st_size > 800
    ]
    measure(
        "small pictures, small network",
        DATA / "grain-net-1.onnx",
        DATA / "recipe.toml",
        ["0", "96", "0.5,0.5,0.5", "0.5,0.5,0.5"],
        demo,
        DATA / "classes.txt",
    )
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = write_jpegs(folder, 500 if "--quick" in sys.argv else 5_000)
        (folder / "classes.txt").write_text("\n".join(f"c{i}" for i in range(CLASSES)), encoding="utf-8")
        (folder / "recipe.toml").write_text(recipe_to_toml(RECIPE), encoding="utf-8")
        values = RECIPE.values
        measure(
            "500 x 375 JPEGs, mobile network",
            mobile(folder).path,
            folder / "recipe.toml",
            ["256", "224", ",".join(map(str, values.mean)), ",".join(map(str, values.std))],
            files,
            folder / "classes.txt",
        )


if __name__ == "__main__":
    main()
