"""A cluster of two processes: the same answers to the last bit, whatever happens to workers, files and the scheduler."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from concurrent.futures import CancelledError
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import distributed
import pytest

from mivrat.cli import run_command
from mivrat.cluster.blocks import Done, Lacking, Refused, Scoring, blocks_of, model_ref, work_on_block
from mivrat.cluster.dask_cluster import DaskCluster, connected
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.region_masking.cover_test import CoverPlan, CoverWork
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture(scope="module")
def cluster() -> Iterator[DaskCluster]:
    with connected("local:2") as found:
        yield DaskCluster(found._client, found._address, batches=1)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[OnnxModel, ImageSet]:
    """A model, and images among which one is copied twice, far apart, one is no picture, and one is gone."""
    folder = tmp_path_factory.mktemp("cluster")
    model = loaded(classifier(seed=1, classes=len(CLASSES)), folder / "m.onnx", len(CLASSES))
    images = read_image_set(write_set(folder / "set", 14, classes=CLASSES), CLASSES)
    files = images.files()
    shutil.copyfile(files[2], files[3])
    shutil.copyfile(files[2], files[-1])
    files[5].write_bytes(b"no picture")
    shutil.copyfile(files[5], files[-4])
    files[8].unlink()
    return model, images


def scored(model: OnnxModel, images: ImageSet, where: Any = None, study: Study | None = None) -> Evaluation:
    evaluation = Evaluation(model, images, study, where)
    for _ in evaluation.run(batch_size=4):
        pass
    return evaluation


def same(one: Evaluation, other: Evaluation) -> None:
    assert one.answers.rows.tobytes() == other.answers.rows.tobytes()
    assert (one.answers.state == other.answers.state).all()
    assert one.answers.reasons == other.answers.reasons
    assert one.answers.contents == other.answers.contents


def test_answers_are_those_of_one_machine_to_the_last_bit(
    cluster: DaskCluster, made: tuple[OnnxModel, ImageSet], tmp_path: Path
) -> None:
    alone = scored(*made)
    same(scored(*made, cluster), alone)
    # Half of it kept in a study by one machine, the rest by the cluster.
    model, images = made
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        half = Evaluation(model, images, study)
        for _ in half.run(batch_size=4, only=range(0, len(images.items), 2)):
            pass
        same(scored(model, images, cluster, study), alone)


def test_a_worker_killed_costs_nothing_but_its_block(cluster: DaskCluster, made: tuple[OnnxModel, ImageSet]) -> None:
    model, images = made
    evaluation, killed = Evaluation(model, images, None, cluster), False
    for progress in evaluation.run(batch_size=4):
        if progress.done and not killed:
            killed = True
            pid = next(iter(cluster._client.run(os.getpid).values()))
            os.kill(pid, 9)
    assert killed
    same(evaluation, scored(*made))


def test_a_stop_leaves_whole_batches_and_the_rest_pending(
    cluster: DaskCluster, made: tuple[OnnxModel, ImageSet]
) -> None:
    model, images = made
    stop, evaluation = StopSignal(), Evaluation(model, images, None, cluster)
    with stopped_by(stop):
        for progress in evaluation.run(batch_size=4):
            if progress.done >= 8:
                stop.stop()
    assert 8 <= len(images.items) - len(evaluation.answers.pending) < len(images.items)
    for _ in evaluation.run(batch_size=4):
        pass
    same(evaluation, scored(*made))


def test_what_a_worker_lacks_is_sent_to_it(made: tuple[OnnxModel, ImageSet], tmp_path: Path) -> None:
    """A worker without the files asks for them, and answers alike; one that sees other files under the same names, too."""
    model, images = made
    files = images.files()
    ref = model_ref(model)
    first, *_ = blocks_of(files, range(len(files)), 12)
    found = work_on_block(ref, first, Scoring(4), 1)
    assert isinstance(found, Done)
    here = found.result
    moved = replace(
        ref,
        path=str(tmp_path / "m.onnx"),
        files=((str(tmp_path / "m.onnx"), ref.files[0][1]),),
        recipe=ref.recipe.replace("{", "{ ", 1),
    )
    elsewhere = replace(first, paths=tuple(str(tmp_path / f"{i}.png") for i in first.places))
    assert work_on_block(moved, elsewhere, Scoring(4), 1) == Lacking(model=True, images=True)
    older = replace(first, sizes=tuple(one and (one[0], one[1] - 1) for one in first.sizes))
    assert work_on_block(ref, older, Scoring(4), 1) == Lacking(model=False, images=True)
    sent = {i: files[i].read_bytes() for i in first.places if files[i].exists()}
    found = work_on_block(moved, elsewhere, Scoring(4), 1, {moved.path: model.path.read_bytes()}, sent)
    assert isinstance(found, Done)
    there = found.result
    assert [one.stamps for one in there] == [one.stamps for one in here]
    assert [one.unreadable for one in there] == [one.unreadable for one in here]
    assert all((a.rows == b.rows).all() and (a.scored == b.scored).all() for a, b in zip(there, here, strict=True))
    broken = work_on_block(replace(ref, classes=2), first, Scoring(4), 1)
    assert isinstance(broken, Refused)
    assert "2" in broken.error.what

    # The cluster sends with every block what one worker has said it lacks.
    class Client:
        """As the engine does it, the same key stands for the same piece of work."""

        status, asked, made = "running", list[tuple[Any, Any]](), dict[str, Any]()

        def nthreads(self) -> dict[str, int]:
            return {"one": 1}

        def scatter(self, data: Any, hash: bool) -> Any:
            return data

        def submit(
            self, _: Any, ref: Any, block: Any, work: Any, threads: int, model: Any, images: Any, **how: Any
        ) -> Any:
            self.asked.append((model, images))
            hidden = replace(block, paths=elsewhere.paths[:1] * len(block.paths)) if images is None else block
            found = work_on_block(ref, hidden, work, 1, model, images)
            future = SimpleNamespace(done=lambda: True, result=lambda: found, cancel=lambda: None)
            return self.made.setdefault(how["key"], future)

    client = Client()
    cluster = DaskCluster(client, "tcp://made.up:1", batches=2)
    same(scored(model, images, cluster), scored(*made))
    assert client.asked[0] == (None, None)
    assert client.asked[-1][1] is not None
    # Another model after it, whose blocks have the same numbers, and which has to be sent.
    cluster._lacking = Lacking(model=True, images=True)
    other = loaded(classifier(seed=9, classes=len(CLASSES)), tmp_path / "other.onnx", len(CLASSES))
    same(scored(other, images, cluster), scored(other, images))
    assert list(client.asked[-1][0]) == [str(other.path)]
    other_sum = replace(moved, files=((moved.path, "0" * 64),))
    changed = work_on_block(other_sum, elsewhere, Scoring(4), 1, {moved.path: b"another"}, sent)
    assert isinstance(changed, Refused)
    assert "has changed since" in changed.what


def test_what_went_with_a_worker_is_sent_again(made: tuple[OnnxModel, ImageSet]) -> None:
    """The engine keeps what was sent on one worker: where that ends, the work that needs it is called off, and begun again."""
    model, images = made

    class Client:
        status, sent, called_off = "running", 0, 0

        def nthreads(self) -> dict[str, int]:
            return {"one": 1}

        def scatter(self, data: Any, hash: bool) -> Any:
            self.sent += 1
            return data

        def submit(
            self, _: Any, ref: Any, block: Any, work: Any, threads: int, model: Any, images: Any, **how: Any
        ) -> Any:
            def result() -> Any:
                if self.called_off:
                    self.called_off -= 1
                    raise CancelledError("lost dependencies")
                return work_on_block(ref, block, work, 1, model, images)

            return SimpleNamespace(done=lambda: True, result=result, cancel=lambda: None)

    client = Client()
    cluster = DaskCluster(client, "tcp://made.up:1", batches=2)
    cluster._lacking = Lacking(model=True, images=False)
    client.called_off = 3
    same(scored(model, images, cluster), scored(*made))
    assert client.sent >= 3
    client.called_off = 100
    with pytest.raises(InputError, match="does not answer any more; what was scored is kept"):
        scored(model, images, cluster)


def test_covering_needs_the_other_images_too(made: tuple[OnnxModel, ImageSet], tmp_path: Path) -> None:
    model, images = made
    plan = CoverPlan((0, 1), RegionPlan("fixed", (Shape("rectangle", ((0, 0), (0.5, 0.5))),)), "patch")
    files = dict(enumerate(images.files()))
    work = CoverWork(plan, None, files, dict(enumerate(images.labels.tolist())), "logits")
    ref, (block, *_) = model_ref(model), blocks_of(images.files(), plan.images, 2)
    found = work_on_block(ref, block, work, 1)
    assert isinstance(found, Done)
    assert [one.donor >= 0 for one in found.result] == [True, True]
    sent = {i: files[i].read_bytes() for i in plan.images}
    refused = work_on_block(ref, block, work, 1, None, sent)
    assert isinstance(refused, Refused)
    assert "from other images" in refused.what


@pytest.mark.parametrize(
    ("address", "what"),
    [
        ("local:0", "is not local:N"),
        ("local:many", "is not local:N"),
        ("tcp://127.0.0.1:1", "no scheduler answers there"),
        ("nothing at all", "no scheduler answers there"),
    ],
)
def test_what_is_no_cluster_is_said_in_a_line(address: str, what: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mivrat.cluster.dask_cluster.PATIENCE", 0.5)
    with pytest.raises(InputError, match=what) as found, connected(address):
        pass
    assert "\n" not in found.value.line()


def test_a_scheduler_that_is_lost_ends_the_run_with_what_is_done(made: tuple[OnnxModel, ImageSet]) -> None:
    model, images = made
    with ExitStack() as held:
        alone = distributed.LocalCluster(
            n_workers=1, threads_per_worker=1, dashboard_address="127.0.0.1:0", processes=False
        )
        held.callback(alone.close)
        cluster = held.enter_context(connected(alone.scheduler_address))
        cluster._batches = 1
        evaluation = Evaluation(model, images, None, cluster)
        with pytest.raises(InputError, match="does not answer any more; what was scored is kept"):
            _lose_at(8, evaluation, alone)
    assert 8 <= len(images.items) - len(evaluation.answers.pending) < len(images.items)


def _lose_at(done: int, evaluation: Evaluation, scheduler: Any) -> None:
    for progress in evaluation.run(batch_size=4):
        if progress.done >= done:
            scheduler.close()


def test_commands_write_the_same_files(made: tuple[OnnxModel, ImageSet], tmp_path: Path) -> None:
    model, images = made
    (tmp_path / "classes.txt").write_text("\n".join(CLASSES))
    (tmp_path / "r.toml").write_text(recipe_to_toml(model.recipe))
    told = [model.path, "--images", images.root, "--classes", tmp_path / "classes.txt"]
    recipe = ("--recipe", tmp_path / "r.toml")
    there = [one for one in images.files() if one.exists()]
    for name, more in (("alone", ()), ("cluster", ("--cluster", "local:1"))):
        for words in (
            ("evaluate", *recipe, "--model", *told),
            ("compare", "--a", *told, "--b", model.path),
            ("heatmap", *recipe, "--model", model.path, "--legend", "--board", "svg", "--image", *there),
            ("cover", *recipe, "--model", *told, "--hottest", "0.2", "--hide", "patch"),
            ("strain", *recipe, "--model", *told, "--kind", "noise:0.1,0.3", "--kind", "blur:1"),
        ):
            out = tmp_path / name / words[0]
            unreadable = 2 if words[0] == "heatmap" else 0
            assert run_command([str(one) for one in (*words, *more, "--out", out)]) == unreadable
    files = sorted(one.relative_to(tmp_path / "alone") for one in (tmp_path / "alone").rglob("*") if one.is_file())
    assert {one.name for one in files} >= {
        "metrics.json",
        "predictions.csv",
        "comparison.json",
        "index.csv",
        "0.npy",
        "0-board.svg",
        "cover.json",
    }
    for one in files:
        assert (tmp_path / "cluster" / one).read_bytes() == (tmp_path / "alone" / one).read_bytes(), one
