"""Runs of real studies held against one another: pictures are the same by their bytes, in whatever set, under whatever name."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.comparing.claims import claims
from mivrat.core.comparing.holding import hold, names_of
from mivrat.core.gradients.layers import corresponding
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.study.file import Study
from mivrat.demo.study import DATA, demo_inputs
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def runs(tmp_path: Path) -> dict[tuple[str, str], Snapshot]:
    """Two models of one file name on two sets; the second set has five pictures of the first under other names, one of them
    twice, and one under another label."""
    first = write_set(tmp_path / "first", 4, classes=CLASSES)
    second = write_set(tmp_path / "second", 3, classes=CLASSES, seed=9)
    for i in range(4):
        shutil.copy(first / CLASSES[0] / f"{i}.png", second / CLASSES[0] / f"again {i}.png")
    shutil.copy(first / CLASSES[0] / "0.png", second / CLASSES[0] / "twice.png")
    shutil.copy(first / CLASSES[1] / "0.png", second / CLASSES[2] / "labelled otherwise.png")
    found: dict[tuple[str, str], Snapshot] = {}
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        for seed in (1, 2):
            (tmp_path / str(seed)).mkdir()
            model = loaded(classifier(seed=seed, classes=3), tmp_path / str(seed) / "net.onnx", 3)
            for folder in (first, second):
                evaluation = Evaluation(model, read_image_set(folder, CLASSES), study)
                for _ in evaluation.run():
                    pass
                assert evaluation.run_id is not None
                found[str(seed), folder.name] = take_snapshot(*load_judged(study, evaluation.run_id))
    return found


def test_pictures_are_the_same_by_their_bytes(runs: dict[tuple[str, str], Snapshot]) -> None:
    a, b = runs["1", "first"], runs["2", "second"]
    held = hold(a, b, names_of(a, b))
    other = held.other
    assert other is not None
    matched = np.flatnonzero(other.at >= 0)
    paths = sorted(a.record.image_set.items[i].path for i in matched)
    assert paths == sorted([f"{CLASSES[1]}/0.png", *(f"{CLASSES[0]}/{i}.png" for i in range(4))])
    assert len(set(other.at[matched].tolist())) == 5  # of two copies one is taken
    for i in matched:
        files = a.record.image_set.file(int(i)), b.record.image_set.file(int(other.at[i]))
        assert files[0].read_bytes() == files[1].read_bytes()
        assert other.predicted[i] == b.judged.predicted[other.at[i]]
    # the label of the run shown counts, also where the other set says otherwise
    found = held.on_images.compare() if held.on_images is not None else None
    assert found is not None and found.paired is not None  # noqa: PT018
    assert found.shared.both == 5
    assert found.shared.only_a == len(a.judged.labels) - 5
    assert found.shared.only_b == len(b.judged.labels) - 5
    right = b.judged.predicted[other.at[matched]] == a.judged.labels[matched]
    assert found.paired.top1.b == pytest.approx(right.mean())
    own = b.judged.probabilities(other.at[matched])[np.arange(5), a.judged.labels[matched]]
    assert other.own[matched] == pytest.approx(own)


def test_one_model_on_two_sets_that_share_pictures(runs: dict[tuple[str, str], Snapshot]) -> None:
    a, b = runs["1", "first"], runs["1", "second"]
    held = hold(a, b, names_of(a, b))
    assert held.other is None
    assert held.on_sets is not None
    assert (held.names.a, held.names.b) == ("first", "second")
    found = held.on_sets.compare()
    assert found.shared.in_both == 5
    assert any("are in both sets" in one.text for one in claims(found))
    models = names_of(runs["1", "first"], runs["2", "first"])
    assert (models.a, models.b) == tuple(runs[one, "first"].record.info.model for one in "12")


def test_layers_that_correspond() -> None:
    inputs = demo_inputs()
    makers = [HeatmapMaker(OnnxModel(DATA / f"grain-net-{i}.onnx", inputs.recipe, 8)) for i in (1, 2)]
    layers, others = (maker.layers for maker in makers)
    for layer in layers:
        if layer.heatmap:
            found = corresponding(layer, layers, others)
            assert found is not None
            assert found.tensor == layer.tensor  # of one architecture: by name
    renamed = [one for one in others if one.heatmap][::2]
    default = next(one for one in layers if one.default)
    first = next(one for one in layers if one.heatmap)
    assert corresponding(default, layers, renamed) in renamed
    assert corresponding(first, layers, renamed[1:]) == renamed[1]  # as near to the image as can be
    assert corresponding(default, layers, []) is None
