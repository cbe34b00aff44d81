"""Writing predictions.csv for 20 000 images, held against the table library writing the same numbers and no more.

The ratio says what our own part of it costs: probabilities, ranking, escaping.
"""

from __future__ import annotations

import statistics
import time
from pathlib import Path

import numpy as np
import polars as pl

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import Judging
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.reporting.results import _table

IMAGES, ROUNDS = 20_000, 3


def answered(classes: int) -> tuple[EvaluatedRun, ImageSet]:
    """Random answers for as many images."""
    rng = np.random.default_rng(0)
    answers = Answers(IMAGES, classes, "logits", classes, "recipe", np.float32)
    answers.rows[:], answers.state[:] = rng.normal(size=(IMAGES, classes)), SCORED
    labels: list[int | None] = [int(k) for k in rng.integers(0, classes, IMAGES)]
    judging = Judging(answers, labels, None)
    judging.update(np.arange(IMAGES))
    items = [ImageItem(f"folder/{i}.png", label) for i, label in enumerate(labels)]
    return judging.judged(), ImageSet("set", Path("/set"), items)


def main() -> None:
    print(f"{'classes':>8}{'seconds':>9}{'library':>9}{'ratio':>7}")
    for classes in (8, 50, 1000):
        judged, images = answered(classes)
        names, ours, plain = [f"class {k}" for k in range(classes)], [], []
        for _ in range(ROUNDS):
            began = time.perf_counter()
            text = _table(judged, images, names, range(IMAGES))
            ours.append(time.perf_counter() - began)
            read = pl.read_csv(text.encode())
            began = time.perf_counter()
            read.write_csv()
            plain.append(time.perf_counter() - began)
        seconds, library = statistics.median(ours), statistics.median(plain)
        print(f"{classes:8}{seconds:9.2f}{library:9.2f}{seconds / library:7.1f}")


if __name__ == "__main__":
    main()
