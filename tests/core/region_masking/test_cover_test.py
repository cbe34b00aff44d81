"""Cover tests are done again from what is kept of them, stopped, and their ranks counted."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal, stopped_by
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.cover_test import (
    CoverPlan,
    CoverTest,
    plan_from_text,
    result_of,
    run_cover_test,
)
from mivrat.core.region_masking.lookalikes import sampled_colour, sampled_patch
from mivrat.core.region_masking.one_image import prepared
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape, mask_of
from tests.support.sets import CLASSES
from tests.support.small_run import Ran


def looked_for(ran: Ran) -> list[CoverPlan]:
    """Regions by the colour and by the features of the middle of an image."""
    recipe = ran.record.recipe
    pixels = prepared(ran.record.image_set.file(1), recipe)
    marked = mask_of([Shape("rectangle", ((0.3, 0.3), (0.7, 0.7)))], *pixels.shape[:2])
    assert isinstance(ran.maker, HeatmapMaker)
    colour = sampled_colour(pixels, recipe.picture.mode, marked, 60.0)
    patch = sampled_patch(ran.maker, to_tensor(pixels, recipe), marked, likeness=-1.0)
    regions = RegionPlan("colour", colour=colour), RegionPlan("likeness", patch=patch)
    return [CoverPlan((1, 5, 9), region, "mean", selection="some") for region in regions]


def test_a_patch_of_another_model_is_refused_and_bad_rules_are_not_read(ran: Ran) -> None:
    names = ran.record.names
    colour, likeness = looked_for(ran)
    assert colour.in_words() == "pixels of the sampled colour (within 60 ΔE) in each image, in the mean colour"
    assert likeness.region.patch is not None
    assert likeness.region.model == ran.record.model_sha256
    other = replace(likeness, region=replace(likeness.region, patch=replace(likeness.region.patch, model="other")))
    with pytest.raises(InputError, match="marked under another model"):
        list(run_cover_test(CLASSES, ran.record.image_set, other, ran.maker, ran.maker))
    short = replace(likeness.region.patch, features=(1.0,), usual=(0.0,))
    with pytest.raises(InputError, match="1 features, the layer"):
        list(
            run_cover_test(
                CLASSES,
                ran.record.image_set,
                replace(likeness, region=replace(likeness.region, patch=short)),
                ran.maker,
                ran.maker,
            )
        )
    for plan, key, value in (
        (colour, "tolerance", 0),
        (colour, "lab", [1, 2]),
        (colour, "lab", [1, 2, "NaN"]),
        (likeness, "likeness", 2),
        (likeness, "usual", []),
        (likeness, "features", None),
    ):
        data = json.loads(plan.as_text(names))
        data["region"][key] = value
        with pytest.raises(InputError, match="cannot be read"):
            plan_from_text(json.dumps(data), names)


def test_a_cover_test_can_be_done_again_from_what_is_kept(ran: Ran) -> None:
    shapes = (Shape("ellipse", ((0.2, 0.2), (0.8, 0.7))), Shape("brush", ((0.1, 0.9), (0.3, 0.9)), 0.05))
    plans = [
        CoverPlan((1, 5, 9, 3), RegionPlan("fixed", shapes), "mean", "alder", 7, "some"),
        CoverPlan((1, 5), RegionPlan("each", each={1: shapes[:1]}), "blur"),
        CoverPlan((0, 7), RegionPlan("hottest", share=0.2, method="elementwise", heat_model="x"), "patch"),
        *looked_for(ran),
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
    assert [one.problem for one in found.found] == ["", "", ""]
    assert found.result.hot_elsewhere is not None
    assert all(len(one.predicted) == 4 for one in found.found)  # each of three has another one whose heat is known
    stop, cut = StopSignal(), list[object]()
    with stopped_by(stop):
        for event in run_cover_test(CLASSES, ran.record.image_set, plans[0], ran.maker, ran.maker):
            cut.append(event)
            if isinstance(event, Progress) and event.done == 1:
                stop.stop()
        assert not any(
            isinstance(one, CoverTest)
            for one in run_cover_test(CLASSES, ran.record.image_set, plans[0], ran.maker, ran.maker)
        )
    assert isinstance(cut[-1], CoverTest)
    assert len(cut[-1].found) == 1
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
