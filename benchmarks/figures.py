"""All figures of 50,000 images x 1,000 classes against reading the scores and taking the softmax once, and against a
straightforward way; intervals apart; peak memory beyond the scores."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.side_by_side import in_turn, spread
from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.job import stopped_by
from mivrat.core.figures.uncertainty import intervals
from mivrat.core.running.slow_figures import slow_figures
from tests.support.stopping import StopsAfter

IMAGES, CLASSES, ROUNDS = 50_000, 1_000, 3


def made_up(images: int, classes: int) -> tuple[np.ndarray, np.ndarray]:
    """Logits as float32 and labels, about four in five right."""
    rng = np.random.default_rng(0)
    labels = rng.integers(0, classes, images)
    rows = rng.standard_normal((images, classes), np.float32)
    rows[np.arange(images), labels] += rng.normal(4.0, 1.2, images).astype(np.float32)
    return rows, labels


def judged_from(rows: np.ndarray, labels: np.ndarray) -> EvaluatedRun:
    answers = Answers(len(rows), rows.shape[1], "logits")
    answers.rows, answers.state[:] = rows, SCORED
    return judge(answers, labels.tolist())


def all_figures(rows: np.ndarray, labels: np.ndarray) -> None:
    """Everything but the intervals."""
    found = judged_from(rows, labels)
    figures = found.figures([1, 3, 5], ranked=False)
    assert figures.total == len(rows)
    with stopped_by(StopsAfter(2)):
        assert slow_figures(found) is None


def straightforward(rows: np.ndarray, labels: np.ndarray) -> None:
    """The same figures (without temperature) as one would write them down: whole arrays, a sort per class."""
    p = np.exp(rows.astype(np.float64) - rows.max(axis=1, keepdims=True))
    p /= p.sum(axis=1, keepdims=True)
    order = np.argsort(-p, axis=1)
    (order[:, :5] == labels[:, None]).any(axis=1).mean()
    predicted = order[:, 0]
    matrix = np.zeros((CLASSES, CLASSES), int)
    np.add.at(matrix, (labels, predicted), 1)
    -np.log(np.clip(p[np.arange(len(p)), labels], 2.0**-52, 1)).mean()
    truth = np.eye(CLASSES)[labels]
    ((p - truth) ** 2).sum(axis=1).mean()
    for k in range(CLASSES):
        positive = labels == k
        by_score = np.argsort(-p[:, k], kind="stable")
        hits = np.cumsum(positive[by_score])
        (hits / np.arange(1, len(p) + 1))[positive[by_score]].mean()
        ranks = np.empty(len(p))
        ranks[by_score[::-1]] = np.arange(1, len(p) + 1)
        ranks[positive].sum()
        where = np.minimum((p[:, k] * 15).astype(int), 14)
        np.bincount(where, p[:, k], 15)
        np.bincount(where, positive, 15)


def read_and_softmax(path: Path) -> None:
    rows = np.load(path)
    p = np.exp(rows - rows.max(axis=1, keepdims=True))
    p /= p.sum(axis=1, keepdims=True)


_PEAK = """
import re, sys
import numpy as np
from pathlib import Path
from benchmarks.figures import all_figures

def peak():
    # The process's own high-water mark; the one that getrusage tells begins with the parent's.
    return int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) * 1024

rows = np.load(sys.argv[1])
labels = np.load(sys.argv[2])
all_figures(rows[:200].copy(), labels[:200])
before = peak()
all_figures(rows, labels)
print((peak() - before) / rows.nbytes)
"""


def main() -> None:
    images = 5_000 if "--quick" in sys.argv else IMAGES
    rows, labels = made_up(images, CLASSES)
    with tempfile.TemporaryDirectory() as folder:
        path, told = Path(folder) / "rows.npy", Path(folder) / "labels.npy"
        np.save(path, rows)
        np.save(told, labels)
        found = in_turn(
            {
                "read": lambda: read_and_softmax(path),
                "figures": lambda: all_figures(rows, labels),
                "plain": lambda: straightforward(rows, labels),
            },
            ROUNDS,
        )
        ratios = [a / b for a, b in zip(found["figures"], found["read"], strict=True)]
        plain = [a / b for a, b in zip(found["plain"], found["figures"], strict=True)]
        print(
            f"{images} x {CLASSES}: all figures but the intervals {statistics.median(found['figures']):.2f} s = {spread(ratios)} x "
            f"reading and softmax; a straightforward way takes {spread(plain)} x as long"
        )
        judged = judged_from(rows, labels)
        began = time.perf_counter()
        intervals(judged.outcomes(np.flatnonzero(judged.evaluated)), CLASSES)
        print(f"all intervals: {time.perf_counter() - began:.2f} s")
        peak = subprocess.run(
            [sys.executable, "-c", _PEAK, str(path), str(told)], capture_output=True, text=True, check=True
        )
        print(f"peak memory beyond the scores: {float(peak.stdout):.3f} x the scores")


if __name__ == "__main__":
    main()
