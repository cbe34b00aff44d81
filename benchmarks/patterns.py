"""Is what was planted in the demonstration found? Suspected labels, groups by likeness; and exact search among 100,000."""

from __future__ import annotations

import csv
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.likeness.features import unit
from mivrat.core.likeness.grouping import group_by_likeness
from mivrat.core.likeness.search import nearest
from mivrat.core.likeness.store import Features
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.runs import load_run
from mivrat.demo.study import DATA, SETS, demo_inputs

FLIPPED, ROUNDS = 0.05, 20


def precision_and_recall(found: list[int], wanted: set[int]) -> str:
    hits = len(wanted & set(found))
    first = len(wanted & set(found[: len(wanted)]))
    return (
        f"{hits} of {len(wanted)} found among {len(found)} suspected (precision {hits / max(1, len(found)):.0%}); "
        f"{first} among the first {len(wanted)}"
    )


def flipped(judged: EvaluatedRun, images: list[int], rng: np.random.Generator) -> tuple[float, float, float]:
    """Precision, recall and precision among the first, with some labels replaced by another at random."""
    known = np.array(images)
    turned = rng.permutation(known)[: round(FLIPPED * len(known))]
    changes = {int(i): int((judged.labels[i] + rng.integers(1, judged.classes)) % judged.classes) for i in turned}
    found = judged.relabelled(changes).suspected_labels().positions.tolist()
    hits = len(set(found) & changes.keys())
    first = len(set(found[: len(changes)]) & changes.keys())
    return hits / len(found), hits / len(changes), first / len(changes)


def main() -> None:
    inputs = demo_inputs()
    with open(DATA / "planted.csv", encoding="utf-8") as file:
        planted = {line["path"]: line["planted"] for line in csv.DictReader(file)}
    with tempfile.TemporaryDirectory() as name:
        study = Study.create(Path(name) / "s.mivrat", inputs.classes)
        for set_name in SETS:
            model = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, len(inputs.classes))
            evaluation = Evaluation(model, inputs.sets[set_name], study)
            for _ in evaluation.run():
                pass
            items = inputs.sets[set_name].items
            judged = judge(evaluation.answers, [item.label for item in items])
            told = {i: planted[item.path] for i, item in enumerate(items) if item.path in planted}
            wrong_labels = {i for i, what in told.items() if "wrong label" in what}
            suspected = judged.suspected_labels().positions.tolist()
            print(f"{set_name}: planted wrong labels: {precision_and_recall(suspected, wrong_labels)}")
            clean = [i for i in np.flatnonzero(judged.evaluated).tolist() if i not in wrong_labels]
            rng = np.random.default_rng(0)
            rates = np.array([flipped(judged, clean, rng) for _ in range(ROUNDS)]).mean(axis=0)
            print(
                f"{set_name}: {FLIPPED:.0%} of labels flipped, {ROUNDS} times: precision {rates[0]:.0%}, recall {rates[1]:.0%}; "
                f"among as many first as were flipped {rates[2]:.0%}"
            )
            assert evaluation.run_id is not None
            record = load_run(study, evaluation.run_id)
            features = Features(record, {}, BlobCache(Path(name) / "cache"))
            for _ in features.run():
                pass
            mistakes = np.flatnonzero(judged.wrong)
            groups = group_by_likeness(features.vectors[mistakes])
            for what in ("ink dot", "overlap", "blurred", "wrong label"):
                having = {i for i in mistakes.tolist() if what in told.get(i, "")}
                best = max(groups, key=lambda one: len(having & set(mistakes[one.members].tolist())))
                inside = len(having & set(mistakes[best.members].tolist()))
                if having:
                    print(
                        f"{set_name}: {len(mistakes)} mistakes in {len(groups)} groups; of {len(having)} with {what}, {inside} stand in "
                        f"one group of {len(best.members)}"
                    )
        study.close()
    vectors = unit(np.random.default_rng(0).normal(size=(100_000, 512)))
    taken = []
    for i in range(1 if "--quick" in sys.argv else 20):
        began = time.perf_counter()
        nearest(vectors, [i, i + 7, i + 90], 60)
        taken.append(1000 * (time.perf_counter() - began))
    print(f"the 60 nearest of 100,000 x 512: median {statistics.median(taken):.0f} ms, worst {max(taken):.0f} ms")


if __name__ == "__main__":
    main()
