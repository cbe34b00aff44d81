"""Maps that need only answers against the forward passes they take; and the maps of a thousand mistakes, stopped and gone on with."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from PIL import Image

from benchmarks.networks import RECIPE, mobile, residual
from benchmarks.side_by_side import in_turn, spread
from mivrat.core.answers.judging import Judging
from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.heatmaps.kept_maps import KeptMaps
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.methods import Method
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.runs import load_run

ROUNDS, MISTAKES = 3, 1000


@contextmanager
def overheard(model: OnnxModel) -> Iterator[list[np.ndarray]]:
    """Keeps the batches a model is asked about meanwhile."""
    heard: list[np.ndarray] = []
    real = model.scores

    def scores(batch: np.ndarray) -> np.ndarray:
        heard.append(batch.copy())
        return real(batch)

    model.scores = scores  # type: ignore[method-assign]
    try:
        yield heard
    finally:
        del model.scores  # type: ignore[method-assign]


def overhead(title: str, model: OnnxModel) -> None:
    """Each method against the forward passes of the very images it asks about, made ready beforehand."""
    maker = HeatmapMaker(model)
    picture = np.random.default_rng(0).uniform(0, 1, model.sample_shape(1)).astype(np.float32)
    methods: tuple[Method, ...] = ("score", "occlusion", "masks")
    for method in methods:
        layer = maker.layer_for(method, None)
        layers = [layer] if layer is not None else []
        with overheard(model) as heard:
            maker.maps(picture, [Target(1)], layers, method)
        found = in_turn(
            {
                "map": lambda m=method, some=layers: maker.maps(picture, [Target(1)], some, m),
                "passes": lambda batches=heard: [model.scores(one) for one in batches],
            },
            ROUNDS,
        )
        ratios = [a / b for a, b in zip(found["map"], found["passes"], strict=True)]
        print(f"{title}: {method} / its {sum(map(len, heard))} forward passes: {spread(ratios)}", flush=True)


def a_thousand(folder: Path) -> None:
    """Maps of 1,000 images under a residual network that has never learned: nearly all are mistakes."""
    rng, names = np.random.default_rng(0), [f"class {k}" for k in range(100)]
    images = folder / "images"
    images.mkdir()
    lines = ["path,label"]
    coarse = [Image.fromarray(rng.integers(0, 256, (12, 16, 3), dtype=np.uint8)) for _ in range(MISTAKES)]
    for i, picture in enumerate(coarse):
        picture.resize((500, 375), Image.Resampling.BICUBIC).save(images / f"{i}.jpg", quality=90)
        lines.append(f"images/{i}.jpg,{names[i % 100]}")
    (folder / "table.csv").write_text("\n".join(lines) + "\n")
    model = residual(folder)
    study = Study.create(folder / "s.mivrat", names)
    evaluation = Evaluation(model, read_image_set(folder / "table.csv", names), study)
    began = time.perf_counter()
    for _ in evaluation.run():
        pass
    scoring = time.perf_counter() - began
    assert evaluation.run_id is not None
    record = load_run(study, evaluation.run_id)
    judged = Judging(record.answers, record.image_set.labels).judged()
    contents = {i: stamp.content for i, stamp in load_stamps(study, record.info.set_id).items()}
    maker, setup, everything = HeatmapMaker(OnnxModel(model.path, RECIPE, 100)), MapSetup(), list(range(MISTAKES))
    cache, stop = BlobCache(folder / "cache"), StopSignal()
    kept, began, asked_at = KeptMaps(record, judged, setup, contents, cache), time.perf_counter(), 0.0
    with stopped_by(stop):
        for progress in kept.run(maker, everything):
            if progress.done > MISTAKES // 2 and not stop.stopped:
                stop.stop()
                asked_at = time.perf_counter()
    ended, done = time.perf_counter(), len(kept.maps)
    again = KeptMaps(record, judged, setup, contents, cache)
    known = len(again.maps)
    began_again = time.perf_counter()
    for _ in again.run(maker, everything):
        pass
    whole = ended - began + time.perf_counter() - began_again
    size = sum(path.stat().st_size for path in cache.iterdir()) / 1e6
    print(
        f"{int(judged.wrong.sum())} mistakes of {MISTAKES}: maps in {whole:.0f} s ({whole / scoring:.2f} x reading and scoring them), "
        f"stopped {1000 * (ended - asked_at):.0f} ms after it was asked with {done} done, {known} of them found again, "
        f"gone on to {len(again.maps)}; cache {size:.1f} MB"
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        overhead("residual, 18 layers, 224 px", residual(Path(folder)))
        overhead("mobile, inverted residuals, 224 px", mobile(Path(folder)))
    with tempfile.TemporaryDirectory() as folder:
        a_thousand(Path(folder))


if __name__ == "__main__":
    main()
