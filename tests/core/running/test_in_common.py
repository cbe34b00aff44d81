"""What wrong images share: over a made-up run of which it is known, whatever the order, and where there is nothing to ask."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from mivrat.core.base.job import Progress
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.shares import looks_of, measured_share, read, refused, written
from mivrat.core.pictures.properties import NAMES
from mivrat.core.running.in_common import InCommon, find_in_common, searched_half
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ranges import InRange
from tests.support.grounds import ground

SHARP = NAMES.index("sharpness")


def case(
    n: int = 600, *, soft_fails: float = 0.7, seed: int = 0, order: list[int] | None = None, units: int = 0
) -> tuple[EvaluationContext, Measures]:
    """A run in which soft photos of two classes are mostly wrong; a column of numbers and one of words that say nothing."""
    rng = np.random.default_rng(seed)
    labels = rng.integers(0, 3, n)
    properties = np.full((n, len(NAMES)), np.nan, np.float32)
    properties[:, : len(NAMES) - 1] = rng.normal(size=(n, len(NAMES) - 1))
    properties[:, 0] = 128
    soft = (properties[:, SHARP] < np.quantile(properties[:, SHARP], 0.25)) & (labels < 2)
    wrong = rng.random(n) < np.where(soft, soft_fails, 0.05)
    predicted = np.where(wrong, (labels + 1) % 3, labels)
    columns = {"age": [str(int(one)) for one in rng.integers(1, 90, n)], "site": [f"s{i % 4}" for i in range(n)]}
    if units:
        columns["slide"] = [f"slide {i}" for i in rng.integers(0, units, n)]
    found = ground(
        labels.tolist(), predicted.tolist(), columns=columns, order=order, unit_column="slide" if units else ""
    )
    at = np.arange(n) if order is None else np.array(order)
    record = found.snapshot.record
    measures = Measures(record.image_set.items, properties[at])
    found.measured = lambda: measures
    return found, measures


def found_in(context: EvaluationContext, measures: Measures) -> InCommon:
    events = list(find_in_common(context.snapshot.record, context.snapshot.judged, measures))
    assert all(isinstance(one, Progress) for one in events[:-1])
    assert isinstance(events[-1], InCommon)
    return events[-1]


@pytest.mark.parametrize("units", [0, 40])
def test_the_planted_property_and_spot_come_out(units: int) -> None:
    context, measures = case(n=900, units=units)
    found = found_in(context, measures)
    assert found.properties[0].name == "sharpness"
    value = found.properties[0].effect.value
    assert value is not None
    assert value < 0.4
    assert (found.properties[0].p_holm or 1) < 1e-3
    assert [one.name for one in found.properties if one.p_holm is not None and one.p_holm < 0.05] == ["sharpness"]
    assert {one.name for one in found.properties} == {*NAMES[:-1], "age"}
    sure = [one for one in found.spots if one.is_confirmed]
    assert sure
    about = {each.kind for each in sure[0].conditions}
    assert "range of sharpness" in about
    assert found.searched + found.held_out == found.evaluated == 900
    assert abs(found.searched - found.held_out) <= (30 if not units else 120)


def test_nothing_depends_on_how_images_are_listed() -> None:
    order = np.random.default_rng(9).permutation(600).tolist()
    straight, turned = case(), case(order=order)
    half = searched_half(straight[0].snapshot.record, straight[0].snapshot.judged)
    # Contents are told by the image behind, so the same pictures are searched.
    other = searched_half(turned[0].snapshot.record, turned[0].snapshot.judged)
    assert {i for i in range(600) if half[i]} == {order[at] for at in range(600) if other[at]}
    one, two = found_in(*straight), found_in(*turned)
    assert [(p.name, p.effect, p.p_holm) for p in one.properties] == [
        (p.name, pytest.approx(p.effect), pytest.approx(p.p_holm)) for p in two.properties
    ]
    assert [(s.found, s.confirmed, s.p_holm) for s in one.spots] == [
        (s.found, s.confirmed, s.p_holm) for s in two.spots
    ]


def test_copies_and_units_stay_in_one_half() -> None:
    context, _ = case(units=30)
    record = context.snapshot.record
    record.answers.contents[1] = record.answers.contents[0]
    half = searched_half(record, context.snapshot.judged)
    for slide in range(30):
        of = [half[i] for i, item in enumerate(record.image_set.items) if item.columns["slide"] == f"slide {slide}"]
        assert len(set(of)) <= 1


@pytest.mark.parametrize(
    ("labels", "predicted", "words"),
    [
        ([None] * 90, [0] * 90, "No image has a label"),
        ([0] * 90, [0] * 90, "All 90 labelled images are right"),
        ([0] * 90, [1] * 90, "All 90 labelled images are wrong"),
    ],
)
def test_where_nothing_can_be_told_apart_it_says_so(labels: list[int | None], predicted: list[int], words: str) -> None:
    context = ground(labels, predicted)
    found = found_in(context, Measures(context.snapshot.record.image_set.items, None))
    assert found.problem.startswith(words)
    assert not found.properties
    assert not found.spots


def test_few_images_unmeasured_photos_one_class_and_a_thousand_columns() -> None:
    rng = np.random.default_rng(1)
    columns = {f"c{i}": [f"{one:.3f}" for one in rng.random(70)] for i in range(1000)}
    context = ground([0] * 70, [0, 1] * 35, columns=columns)
    measures = Measures(context.snapshot.record.image_set.items, None)
    found = found_in(context, measures)
    assert (found.unmeasured, len(found.properties)) == (70, 100)
    assert found.spots_problem.startswith("Weak spots take at least 80 labelled images")
    assert measures.names == list(columns)


def test_a_spot_is_a_rule_that_can_be_asked_again_of_other_images() -> None:
    context, measures = case()
    spot = next(one for one in found_in(context, measures).spots if one.is_confirmed)
    assert refused(spot.conditions) == ""
    told = written(spot.conditions, context)
    again = read(told, context)
    assert again == spot.conditions
    judged = context.snapshot.judged
    assert all((a.mask(judged) == b.mask(judged)).all() for a, b in zip(again, spot.conditions, strict=True))
    here = measured_share(again, context)
    both = spot.found.total + spot.confirmed.total
    assert here.total == both
    assert here.hits == both - spot.found.hits - spot.confirmed.hits
    assert looks_of(spot.conditions, context) >= 4 * len(measures.names)
    other, unmeasured = case(seed=5), Measures(context.snapshot.record.image_set.items, None)
    assert measured_share(read(told, other[0]), other[0]).total
    assert not InRange("sharpness", frozenset({(0.0, 1.0)}), unmeasured).mask(judged).any()


def test_columns_of_numbers_are_told_from_words() -> None:
    def measures(*texts: str) -> Measures:
        return Measures(
            ground([0] * len(texts), [0] * len(texts), columns={"x": texts}).snapshot.record.image_set.items
        )

    assert measures("1", "2.5", "", "-3e2").names == ["x"]
    values: NDArray[np.float64] = measures("1", "2.5", "", "-3e2").of("x")
    np.testing.assert_array_equal(values, [1, 2.5, np.nan, -300])
    assert measures("1", "two").names == []
    assert measures("4", "4").names == []  # the same for all says nothing
    assert measures("", "").names == []
