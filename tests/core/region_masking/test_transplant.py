"""Transplant tests are the same in whatever order images are listed, are done again from what is kept, stop, and say what is left out."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace

import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal, stopped_by
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.one_image import prepared
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape
from mivrat.core.region_masking.transplant import (
    TransplantPlan,
    TransplantTest,
    drawn_by_content,
    run_transplant,
    transplant_from_text,
)
from mivrat.core.reporting import transplant_report
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES
from tests.support.small_run import Ran

UNREADABLE = 21
BOX = RegionPlan("fixed", (Shape("rectangle", ((0.1, 0.1), (0.5, 0.6))),))


@pytest.fixture(scope="module")
def maker(tmp_path_factory: pytest.TempPathFactory) -> HeatmapMaker:
    """Of a network that calls images two ways."""
    return HeatmapMaker(loaded(classifier(side=16, seed=5), tmp_path_factory.mktemp("model") / "m.onnx", 3))


def done(ran: Ran, plan: TransplantPlan, maker: HeatmapMaker, image_set: ImageSet | None = None) -> TransplantTest:
    *_, test = run_transplant(CLASSES, image_set or ran.record.image_set, plan, maker, maker)
    assert isinstance(test, TransplantTest)
    return test


def called_of(maker: HeatmapMaker, image_set: ImageSet, image: int) -> int:
    recipe = maker.model.recipe
    return int(maker.probabilities(to_tensor(prepared(image_set.file(image), recipe), recipe)[None]).argmax())


def test_the_order_of_the_list_changes_nothing(ran: Ran, maker: HeatmapMaker) -> None:
    whole = ran.record.image_set
    size = len(whole.items)
    called = {i: called_of(maker, whole, i) for i in range(size) if i != UNREADABLE}
    donors = tuple(sorted([i for k in (1, 2) for i in [i for i in called if called[i] == k][:3]]))
    plan = TransplantPlan(donors, tuple(i for i in range(size) if i not in donors), BOX, soft=True, seed=3)
    turned = replace(whole, items=list(reversed(list(whole.items))))
    other = replace(
        plan,
        donors=tuple(size - 1 - i for i in reversed(plan.donors)),
        receivers=tuple(size - 1 - i for i in plan.receivers),
    )
    one, back = done(ran, plan, maker), done(ran, other, maker, turned)
    assert one.enough == back.enough
    assert one.need == back.need
    told = [{whole.told_path(x.image): (whole.told_path(x.donor), x.predicted) for x in one.found if not x.problem}]
    told += [{turned.told_path(x.image): (turned.told_path(x.donor), x.predicted) for x in back.found if not x.problem}]
    assert told[0] == told[1]
    assert len({x.donor for x in one.found if not x.problem}) > 1
    labels = whole.labels
    for x in one.found:
        if not x.problem:
            assert labels[x.image] != x.target  # a receiver of the donor's class would prove nothing
            assert x.predicted[0] != x.target
            assert x.became == (x.predicted[1] == x.target, x.predicted[2] == x.target)
    assert any("already" in x.problem for x in one.found)
    assert one.left_out == size - len(donors) - one.enough.total


def test_it_is_done_again_from_what_is_kept_and_stops(ran: Ran, maker: HeatmapMaker) -> None:
    names = ran.record.names
    plans = [
        TransplantPlan((0, 2), (20, 21, 30), BOX, "hazel", (0.5, 0.25), True, 10**20, "labelled birch", "others"),
        TransplantPlan((0, 2), (20, 21), RegionPlan("each", each={0: BOX.shapes})),
        TransplantPlan((0, 2), (20, 21), RegionPlan("hottest", share=0.2, heat_model="x")),
    ]
    for plan in plans:
        text = plan.as_text(names)
        assert transplant_from_text(text, names) == plan
        test = done(ran, plan, maker)
        assert done(ran, plan, maker).enough == test.enough
        told = transplant_report.as_text(transplant_report.as_json(test, "m.onnx", "0" * 64, ran.record.image_set))
        enough, need, _ = transplant_report.results_from_text(told)
        assert (enough, need) == (test.enough, test.need)
    assert [one.problem for one in done(ran, plans[1], maker).donors] == ["", "no region was drawn for it"]
    for key, value in (
        ("edge", "round"),
        ("at", [1]),
        ("at", ["NaN", 0]),
        ("region", {"place": "fixed"}),
        ("from", 3),
        ("seed", "x"),
    ):
        bad = {**json.loads(plans[0].as_text(names)), key: value}
        with pytest.raises(InputError, match="kept transplant test cannot be read"):
            transplant_from_text(json.dumps(bad), names)
    stop, events = StopSignal(), list[object]()
    with stopped_by(stop):
        for event in run_transplant(CLASSES, ran.record.image_set, plans[0], maker, maker):
            events.append(event)
            if isinstance(event, Progress) and event.done == 3:  # two donors and a receiver
                stop.stop()
    assert isinstance(events[-1], TransplantTest)
    assert len(events[-1].found) == 1


def test_what_cannot_be_pasted_says_so(ran: Ran, maker: HeatmapMaker) -> None:
    nowhere = RegionPlan("fixed", (Shape("rectangle", ((0.0, 0.0), (0.001, 0.001))),))
    whole = RegionPlan("fixed", (Shape("rectangle", ((0.0, 0.0), (1.0, 1.0))),))
    for region, why in ((nowhere, "it has no such region"), (whole, "the region is the whole image")):
        with pytest.raises(InputError, match=f"no donor has a piece to paste: {why}"):
            done(ran, TransplantPlan((0,), (20,), region), maker)
    test = done(ran, TransplantPlan((UNREADABLE, 0), (UNREADABLE, 0, 20), BOX, "hazel"), maker)
    assert test.donors_left_out == 1
    assert test.enough.donors <= 1
    by_image = {one.image: one.problem for one in test.found}
    assert by_image[UNREADABLE]
    assert "is this image" in by_image[0]
    lines = list(csv.reader(io.StringIO(transplant_report.as_csv(test.found, ran.record.image_set, CLASSES))))
    assert [len(line) for line in lines] == [12] * 4
    nothing = done(ran, TransplantPlan((0,), (0,), BOX), maker)
    assert "says nothing" in transplant_report.in_sentences(nothing.enough, nothing.need)
    one = transplant_report.conclusions(test.enough, test.need)
    assert any("that piece alone" in text or "says nothing" in text for text in one)


def test_a_sample_is_drawn_by_content_whatever_the_positions() -> None:
    contents = {i: bytes([i]) * 32 for i in range(40)}
    turned = {100 - i: content for i, content in contents.items()}
    drawn = drawn_by_content(contents, 10, 5)
    assert {contents[i] for i in drawn} == {turned[i] for i in drawn_by_content(turned, 10, 5)}
    assert set(drawn) < set(drawn_by_content(contents, 20, 5))  # a larger sample holds the smaller one
    assert drawn != drawn_by_content(contents, 10, 6)
    assert drawn_by_content(contents, 99) == tuple(range(40))
