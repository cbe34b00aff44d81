"""One process against two of a local cluster: the rate, and that answers are the same to the last bit while workers are killed at random."""

from __future__ import annotations

import os
import random
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image

from benchmarks.networks import mobile
from mivrat.cluster.dask_cluster import DaskCluster, connected
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.running.evaluation import Evaluation
from mivrat.demo.study import DATA, demo_inputs

# So many kills of one cluster: it brings workers back, but not those killed again and again while they start.
KILLS = 3


def depends_on_batch(model: OnnxModel, images: int = 32) -> int:
    """How many of an image's rows differ between batches of other images and sizes."""
    rng = np.random.default_rng(0)
    batch = rng.normal(0, 1, model.sample_shape(images)).astype(np.float32)
    whole, differing = model.scores(batch), 0
    for size in (31, 17, 8, 2, 1):
        some = rng.choice(images, size, replace=False)
        differing += int((model.scores(batch[some]) != whole[some]).any(axis=1).sum())
    return differing


def scored(
    model: OnnxModel, images: ImageSet, where: DaskCluster | None, kill: random.Random | None = None
) -> Evaluation:
    evaluation = Evaluation(model, images, None, where)
    at = kill.randrange(32, len(images.items)) if kill is not None else len(images.items)
    for progress in evaluation.run():
        if where is not None and kill is not None and progress.done >= at:
            at = len(images.items) + 1
            os.kill(kill.choice(list(where._client.run(os.getpid).values())), 9)
    return evaluation


def photos(folder: Path, number: int) -> ImageSet:
    """So many different pictures of 500 x 375, as JPEG files."""
    folder.mkdir()
    rng = np.random.default_rng(0)
    for i in range(number):
        coarse = Image.fromarray(rng.integers(0, 256, (12, 16, 3), dtype=np.uint8))
        coarse.resize((500, 375), Image.Resampling.BICUBIC).save(folder / f"{i:05}.jpg", quality=90)
    return ImageSet("photos", folder, [ImageItem(f"{i:05}.jpg", None) for i in range(number)])


def main() -> None:
    kills = KILLS if "--quick" in sys.argv else 10 * KILLS
    inputs = demo_inputs()
    model = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, len(inputs.classes))
    images = inputs.sets["late-summer-field"]
    with tempfile.TemporaryDirectory() as folder:
        large = mobile(Path(folder))
        print(
            f"rows that depend on their batch: {depends_on_batch(model)} small, {depends_on_batch(large)} mobile network"
        )
        alone = scored(model, images, None)
        same, rng = 0, random.Random(0)
        for _ in range(0, kills, KILLS):
            with connected("local:2") as where:
                for _ in range(KILLS):
                    found = scored(model, images, where, rng)
                    same += found.answers.rows.tobytes() == alone.answers.rows.tobytes()
        print(f"a worker killed at a random moment: {same} of {kills} runs bit-identical")
        many = photos(Path(folder) / "photos", 256 if "--quick" in sys.argv else 1_024)
        rates = {}
        for name in ("one process", "local:2"):
            if name == "one process":
                began = time.perf_counter()
                scored(large, many, None)
            else:
                with connected("local:2") as where:
                    where.wait_for_workers()
                    scored(large, replace_first(many, 64), where)  # the model is loaded
                    began = time.perf_counter()
                    scored(large, many, where)
            rates[name] = len(many.items) / (time.perf_counter() - began)
            print(f"{name}: {rates[name]:.1f} images/s of the mobile network")
        print(f"two processes at {rates['local:2'] / rates['one process']:.2f} x the rate of one")


def replace_first(images: ImageSet, number: int) -> ImageSet:
    """The first images of a set."""
    return ImageSet(images.name, images.root, images.items[:number])


if __name__ == "__main__":
    main()
