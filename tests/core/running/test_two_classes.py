"""Images with two plausible classes: the windows, the rule, and a model that looks at one corner only."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import pytest
from PIL import Image

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judging import judge
from mivrat.core.base.job import Progress, StopSignal, stopped_by
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.running import two_classes as two_classes
from mivrat.core.running.two_classes import TwoClasses, candidates, find_two_classes, led_by_two, windows_of
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set
from mivrat.core.study.models import add_model
from mivrat.core.study.runs import add_run, load_run
from mivrat.core.study.settings import save_setting
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES


def test_windows_lie_inside_and_where_they_should() -> None:
    pixels = np.arange(50 * 100 * 3).reshape(50, 100, 3) % 251
    found = windows_of(pixels.astype(np.uint8))
    assert [one.shape[:2] for one in found] == [(50, 100), (48, 96), *[(46, 92)] * 5]
    corners = [one[0, 0].tolist() for one in found[3:]]
    assert corners == [pixels[y, x].tolist() for y, x in ((0, 0), (0, 8), (4, 0), (4, 8))]


def test_two_classes_have_to_be_near_and_to_stay() -> None:
    near = np.array([[0.5, 0.4, 0.1]] * 7)
    assert led_by_two(near) == (0, 1, 7)
    turned = near.copy()
    turned[:3, :2] = near[:3, 1::-1]  # which of the two leads does not matter
    assert led_by_two(turned) == (0, 1, 7)
    turned[0] = [0.1, 0.4, 0.5]
    assert led_by_two(turned) == (1, 0, 6)
    turned[1] = [0.1, 0.4, 0.5]
    assert led_by_two(turned) is None
    assert led_by_two(np.array([[0.7, 0.2, 0.1]] * 7)) is None


def test_candidates_are_those_whose_second_class_is_near(tmp_path: Path) -> None:
    p = np.array([[0.5, 0.4, 0.1], [0.9, 0.05, 0.05], [0.76, 0.24, 0.0], [0.78, 0.22, 0.0], [0.4, 0.3, 0.3]])
    answers = Answers(5, 3, "probabilities")
    answers.rows[:], answers.state[:4] = p, SCORED
    assert candidates(judge(answers, [0] * 5)).tolist() == [0, 2]


def test_a_model_in_two_minds_is_found_out_and_kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(0)
    files = [tmp_path / f"{i}.png" for i in range(30)]
    for file in files[:-1]:
        Image.fromarray(rng.integers(0, 256, (24, 24, 3), dtype=np.uint8)).save(file)
    files[-1].write_bytes(b"no picture")
    made = classifier()
    bias = next(one for one in made.graph.initializer if list(one.dims) == [3])
    bias.CopyFrom(onnx.numpy_helper.from_array(np.array([60.0, 59.9, 0.0], np.float32), bias.name))
    weight = next(one for one in made.graph.initializer if list(one.dims) == [8, 3])
    weight.CopyFrom(onnx.numpy_helper.from_array(np.zeros((8, 3), np.float32), weight.name))
    model = loaded(made, tmp_path / "m.onnx", 3)
    answers = Answers(30, 3, "logits")
    answers.rows[:], answers.state[:] = [60.0, 59.9, 0.0], SCORED
    one = judge(answers, [0] * 30)
    event = list(find_two_classes(model, files, one))
    found = [each for each in event if isinstance(each, TwoClasses)]
    assert [each.image for each in found] == list(range(29))
    assert {(each.first, each.second, each.views) for each in found} == {(0, 1, two_classes.VIEWS)}
    assert found[0].p_first == pytest.approx(1 / (1 + np.exp(-0.1)), abs=1e-4)
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    images = ImageSet("set", tmp_path, [ImageItem(file.name, 0, {}, "birch") for file in files])
    add_run(study, add_model(study, model), add_image_set(study, images), 3, "logits")
    record = load_run(study, 1)
    assert two_classes.load_two_classes(study, record) is None
    two_classes.save_two_classes(study, record, found)
    assert two_classes.load_two_classes(study, record) == tuple(found)
    there = images.items[0].path
    for odd in (
        '[[["", "none.png"], 0, 1, 0.5, 0.4, 7]]',
        f'[[["", "{there}"], 0, 3, 0.5, 0.4, 7]]',
    ):  # an image, a class that there is not
        save_setting(study, "two plausible classes in run 1", odd)
        assert two_classes.load_two_classes(study, record) is None
    stop, done = StopSignal(), 0
    with stopped_by(stop):
        for each in find_two_classes(model, files, one):
            if isinstance(each, Progress) and each.done >= 5:
                done = each.done
                stop.stop()
    assert done == 5
