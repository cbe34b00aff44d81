"""Maps of many images stopped and gone on with, cover tests that can be repeated, trust examined, groups by place."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.answers.judged import Judged
from mivrat.core.answers.judging import Judging
from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal
from mivrat.core.covering.cover_test import (
    CoverPlan,
    CoverTest,
    RegionPlan,
    plan_from_text,
    result_of,
    run_cover_test,
)
from mivrat.core.covering.regions import Shape
from mivrat.core.heatmaps.kept_maps import KeptMaps
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.heatmaps.reliance import Reliance, examine_reliance
from mivrat.core.heatmaps.setup import MapSetup, Whose
from mivrat.core.heatmaps.shuffled import DEPTHS
from mivrat.core.likeness.by_place import group_by_place
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.kept_evidence import (
    EVERY,
    KeptTest,
    load_regions,
    load_tests,
    new_test_id,
    remove_test,
    save_regions,
    save_test,
)
from mivrat.core.study.records import RunRecord
from mivrat.core.study.removing import put_back
from mivrat.core.study.runs import load_run, remove_run
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


class Ran:
    """A small run: 3 classes of 14 pictures, one of them unreadable."""

    def __init__(self, path: Path) -> None:
        images = read_image_set(write_set(path / "set", 14), CLASSES)
        (path / "set" / "birch" / "3.png").write_bytes(b"no picture")
        self.model: OnnxModel = loaded(classifier(side=16), path / "m.onnx", 3)
        self.study = Study.create(path / "s.mivrat", CLASSES)
        evaluation = Evaluation(self.model, images, self.study)
        for _ in evaluation.run():
            pass
        assert evaluation.run_id is not None
        self.record: RunRecord = load_run(self.study, evaluation.run_id)
        self.judged: Judged = Judging(self.record.answers, self.record.image_set.labels).judged()
        stamps = load_stamps(self.study, self.record.info.set_id)
        self.contents = {i: stamp.content for i, stamp in stamps.items()}
        self.maker = HeatmapMaker(self.model)


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ran]:
    made = Ran(tmp_path_factory.mktemp("ran"))
    yield made
    made.study.close()


def test_maps_of_a_selection_are_stopped_kept_and_gone_on_with(ran: Ran, tmp_path: Path) -> None:
    setup, everything, stop = MapSetup("signed", of="predicted"), list(range(42)), StopSignal()
    kept = KeptMaps(ran.record, ran.judged, setup, ran.contents, BlobCache(tmp_path / "c"))
    for progress in kept.run(ran.maker, everything, stop):
        if progress.done > 1:
            stop.stop()
    done = len(kept.maps)
    assert 0 < done < 41
    again = KeptMaps(ran.record, ran.judged, setup, ran.contents, BlobCache(tmp_path / "c"))
    assert len(again.maps) == done
    steps = list(again.run(ran.maker, everything))
    assert steps[0].done > done - 2
    assert steps[-1].done == 42
    assert again.pending(everything) == []
    assert sorted(again.maps) == [i for i in everything if i not in ran.record.answers.reasons]
    for i in (0, 20, 41):
        tensor = prepare_file(ran.record.image_set.file(i), ran.record.recipe)
        expected = ran.maker.maps(
            tensor[None], [Target(int(ran.judged.predicted[i]))], [ran.maker.layer(None)], "signed"
        )
        np.testing.assert_allclose(again.maps[i], expected[0][0], rtol=1e-4, atol=1e-7)
    # Another question of the same images: only where called and labelled differ is there an answer.
    rather = MapSetup("signed", of="labelled", against="predicted")
    wrong = np.flatnonzero(ran.judged.wrong).tolist()
    assert (
        KeptMaps(ran.record, ran.judged, rather, ran.contents, BlobCache(tmp_path / "c")).pending(everything) == wrong
    )
    # What is known for a class is known however it was asked for.
    named = KeptMaps(ran.record, ran.judged, MapSetup("signed", of=1), ran.contents, BlobCache(tmp_path / "c"))
    assert sorted(named.maps) == np.flatnonzero(ran.judged.predicted == 1).tolist()
    slow = KeptMaps(ran.record, ran.judged, MapSetup("masks"), ran.contents, BlobCache(tmp_path / "c"))
    assert [one.done for one in slow.run(ran.maker, everything[:2], stop)] == [0]  # stopped before the first


def test_targets_of_all_images_at_once_are_those_of_each(ran: Ran) -> None:
    wishes: list[Whose] = ["predicted", "labelled", "runner-up", "other", 0, 2]
    for of in wishes:
        for against in (None, *wishes):
            setup = MapSetup(of=of, against=against)
            each = [setup.target(ran.judged, i) is not None for i in range(42)]
            found = setup.possible(ran.judged)
            if "runner-up" in (of, against) or "other" in (of, against):
                assert (found | ~np.array(each)).all()  # which class the second is it does not know
            else:
                assert found.tolist() == each
    usual = MapSetup(of="predicted", against="other")
    assert usual.possible(ran.judged).tolist() == [usual.target(ran.judged, i) is not None for i in range(42)]


def test_a_cover_test_can_be_done_again_from_what_is_kept(ran: Ran) -> None:
    shapes = (Shape("ellipse", ((0.2, 0.2), (0.8, 0.7))), Shape("brush", ((0.1, 0.9), (0.3, 0.9)), 0.05))
    plans = [
        CoverPlan((1, 5, 9, 3), RegionPlan("fixed", shapes), "mean", "alder", 7, "some"),
        CoverPlan((1, 5), RegionPlan("each", each={1: shapes[:1]}), "blur"),
        CoverPlan((0, 7), RegionPlan("hottest", share=0.2, method="elementwise", heat_model="x"), "patch"),
    ]
    names = ran.record.names
    for plan in plans:
        again = plan_from_text(plan.as_text(names), names)
        assert again == plan
        *progress, found = run_cover_test(CLASSES, ran.record.image_set, plan, ran.maker, ran.maker)
        *_, repeated = run_cover_test(CLASSES, ran.record.image_set, again, ran.maker, ran.maker)
        assert isinstance(found, CoverTest)
        assert isinstance(repeated, CoverTest)
        assert [p.done for p in progress if isinstance(p, Progress)] == list(range(len(plan.images) + 1))
        assert repeated.result == found.result
        labels = ran.record.image_set.labels
        assert found.result == result_of(found.found, labels)
        assert found.result.total == len(plan.images) - found.left_out
    assert [one.problem for one in found.found] == ["", ""]
    stop = StopSignal()
    stop.stop()
    *_, cut = run_cover_test(CLASSES, ran.record.image_set, plans[0], ran.maker, ran.maker, stop)
    assert isinstance(cut, CoverTest)
    assert len(cut.found) == 1
    for text in (
        "{}",
        "no",
        plans[0].as_text(names).replace("mean", "burn"),
        plans[2].as_text(names).replace("0.2", "2"),
    ):
        with pytest.raises(InputError, match="cannot be read"):
            plan_from_text(text, names)


def test_ranks_of_the_target_are_counted(ran: Ran) -> None:
    plan = CoverPlan((1, 5, 9), RegionPlan("fixed", (Shape("rectangle", ((0, 0), (1, 0.5))),)), target="hazel")
    *_, test = run_cover_test(CLASSES, ran.record.image_set, plan, ran.maker, ran.maker)
    assert isinstance(test, CoverTest)
    for one in test.found:
        order = ran.judged.ranking(one.image).tolist()
        assert one.rank[0] == 1 + order.index(2)
        assert one.p[0] == pytest.approx(float(ran.judged.probabilities([one.image])[0, 2]), abs=1e-6)


def test_trust_is_examined_step_by_step(ran: Ran) -> None:
    (broken,) = ran.record.answers.reasons
    images = [0, broken, 20, 30]
    *steps, last = examine_reliance(ran.record, ran.judged, MapSetup("signed", of=1), images, ran.maker)
    assert isinstance(last, Reliance)
    assert last.finished
    assert last.unreadable == 1
    assert last.images == (0, 20, 30)
    assert len(last.faithful) == 3 - last.zero
    assert len(last.shuffles) == 9
    assert len(last.agreements) == 6
    better, total, p = last.better_than_random("insertion")
    assert total == len(last.faithful)
    assert 0 <= better <= total
    assert 0 < p <= 1
    assert all(last.alike(depth) is not None for depth in DEPTHS)
    assert any("cover test" in one or "do not support" in one for one in last.sentences())
    assert [p.done for p in steps if isinstance(p, Progress)] == list(range(2 * 3 + 9 + 1))
    assert not Reliance(MapSetup(), ()).sentences()
    stop = StopSignal()
    stop.stop()
    assert not any(
        isinstance(one, Reliance)
        for one in examine_reliance(ran.record, ran.judged, MapSetup(), images, ran.maker, 0, stop)
    )


def test_groups_by_where_the_evidence_lies() -> None:
    """Three planted places are found as three groups, the most typical map first, and maps without evidence in none."""
    rng, maps, places = np.random.default_rng(2), [], rng_places()
    for i in range(31):
        heat = rng.uniform(0, 0.05, (12, 12)).astype(np.float32)
        row, column = places[i % 3]
        heat[row : row + 3, column : column + 3] += 1 if i > 5 else 0.4
        maps.append(heat)
    maps.append(np.zeros((12, 12), np.float32))
    groups = group_by_place(maps)
    assert [sorted(g.members.tolist()) for g in groups] == [list(range(k, 31, 3)) for k in range(3)]
    assert all(g.members[0] > 5 for g in groups)  # a weak one is not typical
    assert [g.members.tolist() for g in group_by_place(maps)] == [g.members.tolist() for g in groups]


def rng_places() -> list[tuple[int, int]]:
    return [(0, 0), (8, 8), (1, 8)]


def test_regions_and_tests_are_kept_and_go_with_their_run(ran: Ran) -> None:
    study, set_id, run_id = ran.study, ran.record.info.set_id, ran.record.info.id
    shapes = [Shape("rectangle", ((0, 0), (0.5, 0.5))).as_json()]
    save_regions(study, set_id, {EVERY: shapes, 3: shapes, 4: shapes})
    save_regions(study, set_id, {3: []})
    assert load_regions(study, set_id) == {EVERY: shapes, 4: shapes}
    test = KeptTest(4, run_id, "2026-01-02", "a 'dot'", "{}", "{}")
    save_test(study, test)
    removed = remove_run(study, run_id)
    assert load_tests(study) == ()
    put_back(study, removed)
    assert load_tests(study) == (test,)
    other = KeptTest(new_test_id(), run_id, "2026-01-03", "another", "{}", "{}")
    save_test(study, other)  # by one who has not read the list
    assert load_tests(study) == (test, other)
    remove_test(study, test.id)
    assert load_tests(study) == (other,)
