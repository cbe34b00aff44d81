"""The strain test's sweep against what it cannot do without: decoding each photo once and one forward pass for each level."""

from __future__ import annotations

import statistics
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

from benchmarks.networks import RECIPE, mobile
from benchmarks.pictures import write_jpegs
from benchmarks.side_by_side import in_turn, spread
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.distorting.kinds import sweep_from_text
from mivrat.core.pictures.distorting.names import USUAL
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.straining.strained import IN_BLOCK, StrainWork
from mivrat.demo.study import DATA, demo_inputs


def measure(title: str, model: OnnxModel, recipe: Recipe, files: list[Path], kinds: tuple[str, ...]) -> None:
    strains = tuple(one for text in kinds for one in sweep_from_text(text))
    tensors = [prepare_file(path, recipe) for path in files[:32]]
    batch = np.stack(tensors)
    of = dict.fromkeys(range(len(files)), strains)

    def sweep() -> None:
        for first in range(0, len(files), IN_BLOCK):
            some = dict(list(enumerate(files))[first : first + IN_BLOCK])
            StrainWork({i: of[i] for i in some}, "logits", 0).do(model, some, 0)

    def least() -> None:
        with ThreadPoolExecutor() as pool:
            waiting = pool.map(lambda path: prepare_file(path, recipe), files)
            for _ in range(-(-len(files) * len(strains) // len(batch))):
                model.scores(batch)
            list(waiting)

    found = in_turn({"least": least, "sweep": sweep}, 3)
    ratios = [s / m for m, s in zip(found["least"], found["sweep"], strict=True)]
    each = 1000 * statistics.median(found["sweep"]) / len(files) / len(strains)
    print(
        f"{title}, {', '.join(kinds)}: {len(files)} photos x {len(strains)} levels, {each:.1f} ms each; sweep / least = {spread(ratios)}",
        flush=True,
    )


def main() -> None:
    inputs = demo_inputs()
    number = 16 if "--quick" in sys.argv else 48
    small = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, len(inputs.classes))
    with tempfile.TemporaryDirectory() as name:
        large = mobile(Path(name))
        jpegs = [path for path, _ in write_jpegs(Path(name), number)]
        grains = [one for one in inputs.sets["spring-check"].files() if one.is_file()][: 2 * number]
        for kinds in (USUAL, ("brightness",), ("blur",), ("rotation",)):
            measure("500 x 375 JPEGs, mobile network", large, RECIPE, jpegs, kinds)
        measure("demonstration, small network", small, inputs.recipe, grains, USUAL)


if __name__ == "__main__":
    main()
