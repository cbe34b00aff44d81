"""What measuring photos costs while they are scored: with and without it in turn, for photos of some sizes, by a network of ordinary size and by none."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from benchmarks.networks import mobile
from benchmarks.pictures import write_jpegs
from benchmarks.side_by_side import in_turn, spread
from mivrat.core.answers import scoring
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.decode import read_file, whole_picture
from mivrat.core.pictures.properties import NAMES, measured
from mivrat.demo.study import DATA

ROUNDS = 3


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        files = [path for path, _ in write_jpegs(root, 300)]
        large = mobile(root)
        demo = OnnxModel(DATA / "grain-net-1.onnx", None)
        small = sorted((DATA / "spring-check").rglob("*.jpg"))
        none = np.full(len(NAMES), np.nan, np.float32)
        for what, model, some in (("photos, ordinary network", large, files), ("128 px, demonstration", demo, small)):

            def scored(measuring: bool, model: OnnxModel = model, some: list[Path] = some) -> None:
                scoring.measured = measured if measuring else lambda file, picture: none
                for _ in scoring.score_images(some, range(len(some)), model):
                    pass
                scoring.measured = measured

            found = in_turn({"with": lambda: scored(True), "without": lambda: scored(False)}, ROUNDS)
            ratio = [a / b for a, b in zip(found["with"], found["without"], strict=True)]
            print(
                f"{what}: {len(some)} images, with {spread(found['with'])} s, without {spread(found['without'])} s, ratio {spread(ratio)}"
            )
            file = read_file(some[0])
            again = [(file, whole_picture(file))] * 20
            alone = in_turn({"measured": lambda again=again: [measured(*one) for one in again]}, ROUNDS)["measured"]
            print(f"  one photo alone: {spread([1000 * each / 20 for each in alone])} ms")


if __name__ == "__main__":
    main()
