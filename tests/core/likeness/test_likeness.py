"""Features against a second forward pass, search and silhouettes against loops, groups against planted ones."""

from __future__ import annotations

from math import comb
from pathlib import Path

import numpy as np
import onnx
import onnxruntime as ort
import pytest

from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.gradients.graph import GraphView
from mivrat.core.likeness import store
from mivrat.core.likeness.features import FeatureModel, feature_tensor, unit
from mivrat.core.likeness.grouping import LikeGroup, group_by_likeness, shared_beyond_chance, silhouette
from mivrat.core.likeness.search import likeness_to_class, nearest
from mivrat.core.likeness.store import Features
from mivrat.core.models.prediction_table import TABLE
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.runs import load_run
from tests.support.networks import classifier, loaded, random_batch
from tests.support.sets import CLASSES, write_set


@pytest.mark.parametrize("head", ["logits", "probabilities", "sigmoid", "softmax-4d"])
@pytest.mark.parametrize("batch", ["n", 4])
def test_features_are_what_the_head_is_given(head: str, batch: int | str, tmp_path: Path) -> None:
    proto = classifier(head=head, batch=batch)  # type: ignore[arg-type]
    model = loaded(proto, tmp_path / "m.onnx", 2 if head == "sigmoid" else 3)
    pictures = random_batch(model, 6)
    found = FeatureModel(model).scores(pictures)
    assert found.shape == (6, 8)
    # A second way: the last convolution's maps, averaged over their places, one picture at a time where the batch is free.
    proto.graph.output.append(onnx.helper.make_tensor_value_info("features", onnx.TensorProto.FLOAT, None))
    session = ort.InferenceSession(proto.SerializeToString(), providers=["CPUExecutionProvider"])
    padded = np.concatenate([pictures, pictures[:2]])
    size = 4 if batch == 4 else 1
    maps = [session.run(["features"], {"image": padded[i : i + size]})[0] for i in range(0, len(padded), size)]
    expected = np.concatenate(maps)[:6].mean(axis=(2, 3))
    expected /= np.linalg.norm(expected, axis=1, keepdims=True)
    assert found == pytest.approx(expected, abs=1e-6)


def test_without_a_head_of_weights_the_logits_are_taken(tmp_path: Path) -> None:
    node = onnx.helper.make_node("ReduceMean", ["image"], ["scores"], axes=[2, 3], keepdims=0)
    ports = [
        onnx.helper.make_tensor_value_info("image", onnx.TensorProto.FLOAT, ["n", 3, 8, 8]),
        onnx.helper.make_tensor_value_info("scores", onnx.TensorProto.FLOAT, ["n", 3]),
    ]
    graph = onnx.helper.make_graph([node], "g", ports[:1], ports[1:])
    made = onnx.helper.make_model(graph, opset_imports=[onnx.helper.make_opsetid("", 17)])
    made.ir_version = 8
    assert feature_tensor(GraphView(loaded(made, tmp_path / "m.onnx", 3))) == "scores"


def test_features_are_kept_found_again_and_gone_on_with(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    images = read_image_set(write_set(tmp_path / "set", 20), CLASSES)
    (tmp_path / "set" / "birch" / "3.png").write_bytes(b"no picture")
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, images, study)
    for _ in evaluation.run():
        pass
    assert evaluation.run_id is not None
    record = load_run(study, evaluation.run_id)
    contents = {i: stamp.content for i, stamp in load_stamps(study, record.info.set_id).items()}
    cache, stop = BlobCache(tmp_path / "cache"), StopSignal()
    features = Features(record, contents, cache)
    with stopped_by(stop):
        for progress in features.run():
            if progress.done > 1:
                stop.stop()
    unread = len(features.pending)
    assert 0 < unread < 59
    again = Features(record, {}, cache)  # nothing is known of the files before they are read
    assert len(again.pending) == 59
    again = Features(record, contents, cache)
    assert len(again.pending) == unread
    for _ in again.run():
        pass
    assert np.isnan(again.vectors).any(axis=1).nonzero()[0].tolist() == list(evaluation.answers.reasons)
    monkeypatch.setattr(store, "FeatureModel", None)  # all is known: no model is made
    whole = Features(record, contents, cache)
    assert [progress.done for progress in whole.run()] == [60]
    np.testing.assert_array_equal(whole.vectors, again.vectors)
    cache.path.write_bytes(b"broken")
    assert len(Features(record, contents, cache).pending) == 59
    record.kind = TABLE
    with pytest.raises(InputError, match="no features"):
        list(Features(record, contents, BlobCache(tmp_path / "other")).run())


def made_up(total: int, width: int = 6, seed: int = 0) -> np.ndarray:
    return unit(np.random.default_rng(seed).normal(size=(total, width)))


def test_the_nearest_by_loops() -> None:
    vectors = made_up(60)
    vectors[[7, 20]] = np.nan
    vectors[31] = vectors[30]
    for like in ([3], [3, 20, 44]):
        mean = np.mean([vectors[i] for i in like if i != 20], axis=0)
        cosines = {
            i: float(vectors[i] @ mean / np.linalg.norm(mean)) for i in range(60) if i not in like and i not in (7, 20)
        }
        expected = sorted(cosines, key=lambda i: (-round(cosines[i], 6), i))[:9]
        found, values = nearest(vectors, like, 9)
        assert found.tolist() == expected
        assert values == pytest.approx([cosines[i] for i in expected], abs=1e-6)
    odd = np.arange(60) % 2 == 1
    assert (nearest(vectors, [3], 5, odd)[0] % 2 == 1).all()
    assert len(nearest(vectors, [7], 5)[0]) == 0
    assert len(nearest(vectors, [3], 500)[0]) == 57


def test_likeness_to_the_class_by_loops() -> None:
    vectors, labels = made_up(30, seed=1), np.arange(30) % 4
    labels[:6] = [-1, -1, -1, -1, 5, 6]
    vectors[9] = np.nan
    found = likeness_to_class(vectors, labels)
    for i in range(30):
        others = [vectors[j] for j in range(30) if j not in (i, 9) and labels[j] == labels[i]]
        if labels[i] < 0 or i == 9 or not others:
            assert np.isnan(found[i])
        else:
            mean = np.sum(others, axis=0)
            assert found[i] == pytest.approx(vectors[i] @ mean / np.linalg.norm(mean), abs=1e-5)


def test_silhouette_by_loops() -> None:
    vectors, where = made_up(25, seed=2), np.array([0] * 9 + [1] * 10 + [2] * 5 + [3])
    distances = 1 - vectors @ vectors.T
    values = []
    for i in range(25):
        mean = {
            g: np.mean([distances[i, j] for j in range(25) if where[j] == g and j != i])
            for g in range(4)
            if any(where[j] == g and j != i for j in range(25))
        }
        if where[i] not in mean:
            values.append(0.0)
            continue
        own = mean.pop(where[i])
        values.append((min(mean.values()) - own) / max(own, min(mean.values())))
    assert silhouette(distances, where) == pytest.approx(np.mean(values), abs=1e-6)


@pytest.mark.parametrize("planted", [2, 3, 5])
def test_planted_groups_are_found_typical_first_and_the_same_every_time(planted: int) -> None:
    rng = np.random.default_rng(planted)
    sizes = [40 - 6 * g for g in range(planted)]
    where = np.repeat(np.arange(planted), sizes)
    vectors = unit(np.eye(planted, 10)[where] + rng.normal(0, 0.12, (len(where), 10)))
    found = group_by_likeness(vectors, seed=3)
    assert [sorted(one.members.tolist()) for one in found] == [
        np.flatnonzero(where == g).tolist() for g in range(planted)
    ]
    for one in found:
        centre = vectors[one.members].mean(axis=0)
        cosines = vectors[one.members] @ (centre / np.linalg.norm(centre))
        assert (np.diff(cosines) <= 1e-6).all()
        assert one.tightness == pytest.approx(cosines.mean(), abs=1e-6)
    again = group_by_likeness(vectors, seed=3)
    assert [one.members.tolist() for one in again] == [one.members.tolist() for one in found]
    assert len(group_by_likeness(vectors, 4)) == 4


def test_few_images_make_one_group_or_none() -> None:
    assert group_by_likeness(np.zeros((0, 4), np.float32)) == []
    assert len(group_by_likeness(made_up(3))) == 1
    same = np.repeat(made_up(1), 12, axis=0)
    assert sum(len(one.members) for one in group_by_likeness(same)) == 12


def test_what_a_group_shares_by_counting_ways() -> None:
    groups = [LikeGroup(np.arange(10), 1.0), LikeGroup(np.arange(10, 30), 1.0)]
    in_nine, even = np.zeros(30, bool), np.arange(30) % 2 == 0
    in_nine[1:10] = in_nine[12] = True
    found = shared_beyond_chance(groups, [("site", "hill", in_nine), ("month", "May", even)])
    assert [(one.about, one.inside, one.members, one.everywhere, one.total) for one in found[0]] == [
        ("site", 9, 10, 10, 30)
    ]
    ways = sum(comb(10, i) * comb(20, 10 - i) for i in (9, 10)) / comb(30, 10)
    assert found[0][0].p == pytest.approx(4 * ways)  # four were asked, this is the smallest
    assert found[1] == []
