"""Regions: what the shapes cover against areas known from geometry, and the share of evidence inside by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.hottest import hottest_part
from mivrat.core.region_masking.regions import Shape, mask_of, shape_from_json, share_inside

SHARES = st.floats(0.0, 1.0)


@pytest.mark.parametrize(
    ("shape", "area"),
    [
        (Shape("rectangle", ((0.75, 0.1), (0.25, 0.6))), 0.25),
        (Shape("ellipse", ((0.1, 0.2), (0.9, 0.7))), np.pi * 0.4 * 0.25),
        (Shape("lasso", ((0.1, 0.1), (0.9, 0.1), (0.1, 0.8))), 0.8 * 0.7 / 2),
        # An arrow, bent inwards: by the shoelace formula.
        (Shape("lasso", ((0.1, 0.1), (0.5, 0.4), (0.9, 0.1), (0.5, 0.9))), 0.2),
        (Shape("brush", ((0.5, 0.5),), 0.2), np.pi * 0.04 * 240 / 320),
        # A stroke: the rectangle along it and half a disc at either end; radii are shares of the shorter side.
        (Shape("brush", ((0.3, 0.5), (0.7, 0.5)), 0.1), (128 * 48 + np.pi * 24**2) / (240 * 320)),
    ],
)
def test_areas_known_from_geometry(shape: Shape, area: float) -> None:
    assert shape.mask(240, 320).mean() == pytest.approx(area, abs=0.004)
    again = shape_from_json(shape.as_json())
    assert (again.mask(240, 320) == shape.mask(240, 320)).all()
    assert shape.scaled(0.5).mask(240, 320).sum() < shape.mask(240, 320).sum()
    moved = shape.moved(0.05, -0.05).mask(240, 320)
    assert (moved == np.roll(shape.mask(240, 320), (-12, 16), (0, 1))).mean() > 0.997


@given(st.lists(st.tuples(SHARES, SHARES), min_size=3, max_size=7))
def test_a_lasso_holds_the_points_a_winding_loop_says(points: list[tuple[float, float]]) -> None:
    """Against the even-odd rule pixel by pixel, with a line straight down in place of one to the right."""
    mask = Shape("lasso", tuple(points)).mask(9, 11)
    for r in range(9):
        for c in range(11):
            x, y = (c + 0.5) / 11, (r + 0.5) / 9
            crossings, near = 0, False
            for (x0, y0), (x1, y1) in zip(points, [*points[1:], points[0]], strict=True):
                if (x < x0) != (x < x1):
                    at = y0 + (x - x0) * (y1 - y0) / (x1 - x0)
                    crossings += at > y
                    near |= abs(at - y) < 1e-9
                near |= abs(y0 - y) < 1e-9 or abs(x0 - x) < 1e-9
            assert near or mask[r, c] == bool(crossings % 2)


def test_several_shapes_and_the_hottest_part() -> None:
    one, other = Shape("rectangle", ((0, 0), (0.5, 0.5))), Shape("rectangle", ((0.25, 0.25), (1, 1)))
    mask = mask_of([one, other], 8, 8)
    assert mask.sum() == 16 + 36 - 4
    heat = np.arange(16, dtype=np.float32).reshape(4, 4)
    assert hottest_part(heat, 0.25, 4, 4)[3].all()
    assert hottest_part(heat, 0.25, 4, 4).sum() == 4
    assert not hottest_part(-heat, 0.25, 4, 4).any()


def test_the_share_of_evidence_inside_by_hand() -> None:
    heat = np.array([[4.0, 0.0], [-3.0, 2.0]], np.float32)
    mask = np.array([[True, False], [True, False]])
    assert share_inside(heat, mask) == pytest.approx(4 / 6)  # what is below zero is no evidence for the target
    assert share_inside(heat, ~mask) == pytest.approx(2 / 6)
    assert share_inside(-np.abs(heat), mask) is None


@pytest.mark.parametrize(
    "data",
    [
        None,
        {"kind": "star", "points": [[0, 0], [1, 1]]},
        {"kind": "lasso", "points": [[0, 0], [1, 1]]},
        {"kind": "rectangle", "points": [[0, 0], [float("nan"), 1]]},
        {"kind": "brush", "points": [[0, "x"]]},
    ],
)
def test_what_is_no_region_is_refused(data: object) -> None:
    with pytest.raises(InputError, match="is not a region"):
        shape_from_json(data)
