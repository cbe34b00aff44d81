"""`mivrat evaluate` against what it cannot do without: decoding and preparing alone, plus bare inference."""

from __future__ import annotations

import contextlib
import io
import statistics
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from benchmarks.networks import CLASSES, RECIPE, mobile
from benchmarks.pictures import write_jpegs, write_table
from benchmarks.side_by_side import in_turn, spread
from mivrat.cli import run_command
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Recipe, read_recipe, recipe_to_toml
from mivrat.demo.study import DATA

ROUNDS = 3


def measure(
    title: str, model: OnnxModel, recipe: Recipe, recipe_path: Path, files: list[tuple[Path, str]], classes: Path
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        table = write_table(Path(folder) / "images.csv", files)
        tensors = [prepare_file(path, recipe) for path, _ in files[:64]]
        batches = [np.stack([tensors[(i + j) % len(tensors)] for j in range(32)]) for i in range(0, len(files), 32)]

        def decode() -> None:
            with ThreadPoolExecutor() as pool:
                for _ in pool.map(lambda one: prepare_file(one[0], recipe), files):
                    pass

        def infer() -> None:
            for batch in batches:
                model.scores(batch)

        def evaluate() -> None:
            with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
                arguments = {
                    "model": model.path,
                    "recipe": recipe_path,
                    "classes": classes,
                    "images": table,
                    "out": Path(folder) / "out",
                }
                code = run_command(
                    ["evaluate", *(part for key, value in arguments.items() for part in (f"--{key}", str(value)))]
                )
            assert code == 0

        found = in_turn({"decode": decode, "infer": infer, "evaluate": evaluate}, ROUNDS)
    ratios = [e / (d + i) for d, i, e in zip(found["decode"], found["infer"], found["evaluate"], strict=True)]
    print(
        f"{title}: {len(files)} images, {len(files) / statistics.median(found['evaluate']):.0f} images/s; "
        f"whole evaluate / (decode and prepare alone + bare inference) = {spread(ratios)}"
    )


def main() -> None:
    classes = (DATA / "classes.txt").read_text(encoding="utf-8").split()
    demo = [
        (path, path.parent.name)
        for name in ("spring-check", "late-summer-field")
        for path in sorted((DATA / name).rglob("*.jpg"))
        if path.stat().st_size > 800
    ]
    recipe = read_recipe(DATA / "recipe.toml")
    measure(
        "demonstration, small network",
        OnnxModel(DATA / "grain-net-1.onnx", recipe, len(classes)),
        recipe,
        DATA / "recipe.toml",
        demo,
        DATA / "classes.txt",
    )
    if "--quick" in sys.argv:
        return
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = write_jpegs(folder, 2000)
        (folder / "classes.txt").write_text("\n".join(f"c{i}" for i in range(CLASSES)), encoding="utf-8")
        (folder / "recipe.toml").write_text(recipe_to_toml(RECIPE), encoding="utf-8")
        measure(
            "500 x 375 JPEGs, mobile network",
            mobile(folder),
            RECIPE,
            folder / "recipe.toml",
            files,
            folder / "classes.txt",
        )


if __name__ == "__main__":
    main()
