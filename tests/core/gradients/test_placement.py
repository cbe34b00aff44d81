"""Maps are laid where the layer looks: planted squares through random chains of operators, and placements worked by hand."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from mivrat.core.gradients.placement import Placement, placement_of
from mivrat.core.heatmaps.hottest import laid_over
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from tests.support.networks import Net, loaded

SIDES = (60, 48)


def add(net: Net, x: str, step: tuple[str, int], channels: int) -> str:
    """One step of a chain; kernels take means, so that a bright place stays bright."""
    kind, n = step
    if kind == "conv":
        kernel, stride, dilation, pad = (
            (3, 1, 1, 1),
            (3, 2, 1, 1),
            (5, 1, 1, 0),
            (3, 1, 2, 0),
            (2, 2, 1, 0),
            (3, 2, 1, 0),
        )[n % 6]
        weight = np.zeros((channels, channels, kernel, kernel), np.float32)
        weight[np.arange(channels), np.arange(channels)] = 1 / kernel**2
        return net.add(
            "Conv",
            x,
            net.weight(values=weight),
            kernel_shape=[kernel] * 2,
            strides=[stride] * 2,
            dilations=[dilation] * 2,
            pads=[pad] * 4,
        )
    if kind == "pool":
        op, size, pads, ceil = (
            ("MaxPool", 2, [0] * 4, 0),
            ("AveragePool", 3, [1] * 4, 0),
            ("MaxPool", 3, [0, 1, 1, 0], 1),
            ("AveragePool", 2, [0] * 4, 1),
        )[n % 4]
        return net.add(op, x, kernel_shape=[size] * 2, strides=[2, 2], pads=pads, ceil_mode=ceil)
    if kind == "crop":
        starts, ends = (([2, 3], [-2, -3]), ([0, 0], [-6, -5]), ([5, 0], [10**6, 10**6]))[n % 3]
        return net.add("Slice", x, *(net.weight(values=np.array(one)) for one in (starts, ends, [2, 3])))
    if kind == "pad":
        pads = ([0, 0, 3, 3, 0, 0, 3, 3], [0, 0, 0, 0, 0, 0, 5, 4], [0, 0, 4, 0, 0, 0, 0, 2])[n % 3]
        return net.add("Pad", x, net.weight(values=np.array(pads)))
    if kind == "swap":
        return net.add("Transpose", x, perm=[0, 1, 3, 2])
    if kind == "flip":
        axis = 2 + n % 2
        return net.add("Slice", x, *(net.weight(values=np.array([one])) for one in (-1, -(10**6), axis, -1)))
    return net.add(
        "Resize", x, "", net.weight(values=np.array([1, 1, 2, 2], np.float32)), mode=("nearest", "linear")[n % 2]
    )


STEPS = st.tuples(
    st.sampled_from(["conv", "conv", "pool", "crop", "pad", "swap", "flip", "resize"]), st.integers(0, 11)
)


@settings(max_examples=80, deadline=None)
@given(st.lists(STEPS, min_size=1, max_size=5), st.floats(0.25, 0.75), st.floats(0.25, 0.75))
def test_the_heat_covers_a_planted_square(
    tmp_path_factory: pytest.TempPathFactory, steps: list[tuple[str, int]], down: float, across: float
) -> None:
    net, channels = Net(seed=1), 3
    x = "image"
    for step in steps:
        x = add(net, x, step, channels)
    seen = net.add("Relu", x, name="seen")
    pooled = net.add("Flatten", net.add("GlobalAveragePool", net.add("Mul", seen, seen)), axis=1)
    net.add("MatMul", pooled, net.weight(values=np.array([[1, 0]] * 3, np.float32)), name="scores")
    model = net.model(["n", 3, *SIDES], {"scores": ["n", 2]})
    maker = HeatmapMaker(loaded(model, tmp_path_factory.mktemp("net") / "m.onnx"))
    layer = next(one for one in maker.layers if one.tensor == "seen")
    assume(min(layer.grid) >= 3)
    assert layer.heatmap, layer.reason
    place = layer.placement
    top, bottom = sorted((place.top, place.bottom))
    left, right = sorted((place.left, place.right))
    assume(top + 0.08 < down < bottom - 0.08 and left + 0.08 < across < right - 0.08)  # where it looks at all
    image = np.full((1, 3, *SIDES), 0.05, np.float32)
    half = 4
    row, column = round(down * SIDES[0]), round(across * SIDES[1])
    image[:, :, row - half : row + half, column - half : column + half] = 1
    heat = maker.laid_maps(image, [Target(0)], [layer], "signed")[0][0]
    large = laid_over(heat, *SIDES)
    hot = large > 0.5 * large.max()
    rows, columns = np.nonzero(hot)
    cell = [
        abs(place.bottom - place.top) * SIDES[0] / layer.grid[1 if place.swapped else 0],
        abs(place.right - place.left) * SIDES[1] / layer.grid[0 if place.swapped else 1],
    ]
    # Its middle is the square's, to half a cell and a pixel.
    assert abs(rows.mean() + 0.5 - row) <= 0.5 * cell[0] + 1
    assert abs(columns.mean() + 0.5 - column) <= 0.5 * cell[1] + 1


def test_placements_worked_by_hand() -> None:
    down, across = np.array([0.1, 0.3, 0.5, 0.7]), np.array([0.25, 0.5, 0.75])
    places = np.stack(np.meshgrid(down, across, indexing="ij"), axis=-1)
    found = placement_of(places)
    assert found is not None
    np.testing.assert_allclose([found.top, found.bottom, found.left, found.right], [0, 0.8, 0.125, 0.875], atol=1e-9)
    assert not found.swapped
    turned = placement_of(places.swapaxes(0, 1))
    assert turned is not None
    assert turned.swapped
    np.testing.assert_allclose(
        [turned.top, turned.left, turned.bottom, turned.right], [found.top, found.left, found.bottom, found.right]
    )
    padded = np.pad(places, ((1, 1), (0, 0), (0, 0)), constant_values=np.nan)
    outside = placement_of(padded)
    assert outside is not None
    assert (outside.top, outside.bottom) == pytest.approx((-0.2, 1.0))
    upside_down = placement_of(places[::-1])
    assert upside_down is not None
    assert (upside_down.top, upside_down.bottom) == pytest.approx((0.8, 0.0))
    assert placement_of(places[[0, 2, 1, 3]]) is None  # another order
    for rows in ([0.1, 0.3, 0.26, 0.5], [0.5, 0.26, 0.3, 0.1]):  # near equal steps, but once backwards
        assert placement_of(np.stack(np.meshgrid(np.array(rows), across, indexing="ij"), axis=-1)) is None
    sheared = places + np.array([0.25, 0]) * np.arange(3)[None, :, None]
    assert placement_of(sheared) is None
    assert placement_of(np.full((3, 3, 2), np.nan)) is None
    heat = np.arange(12, dtype=np.float32).reshape(4, 3) + 1
    large = laid_over(found.laid(heat), 400, 400)
    for r, y in enumerate(down):
        for c, x in enumerate(across):
            assert large[int(y * 400), int(x * 400)] == pytest.approx(heat[r, c], abs=0.6)
    assert not large[380:].any()  # further below than it looks
    np.testing.assert_array_equal(Placement().laid(heat), heat)
    np.testing.assert_allclose(turned.laid(heat.T), found.laid(heat))
    np.testing.assert_allclose(upside_down.laid(heat[::-1]), found.laid(heat), atol=1e-5)


def test_what_comes_from_two_places_has_none(tmp_path: Path) -> None:
    net = Net(seed=1)
    corners = [
        net.add("Slice", "image", *(net.weight(values=np.array(one)) for one in (starts, ends, [2, 3])))
        for starts, ends in (([0, 0], [20, 20]), ([28, 28], [48, 48]))
    ]
    both = net.add("Relu", net.add("Add", *corners), name="both")
    pooled = net.add("Flatten", net.add("GlobalAveragePool", both), axis=1)
    net.add("MatMul", pooled, net.weight(3, 2), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 48, 48], {"scores": ["n", 2]}), tmp_path / "m.onnx"))
    (layer,) = (one for one in maker.layers if one.tensor == "both")
    assert not layer.heatmap
    assert "their places are unknown" in str(layer.reason)


def test_what_comes_from_everywhere_joins_what_has_a_place(tmp_path: Path) -> None:
    """The mean over all places, laid out again beside a convolution, takes nothing from where that looks."""
    net = Net(seed=1)
    x = net.add("Relu", net.add("Conv", "image", net.weight(4, 3, 4, 4), strides=[4, 4]))
    whole = net.add("Conv", net.add("ReduceMean", x, axes=[2, 3], keepdims=1), net.weight(2, 4, 1, 1))
    whole = net.add("Expand", whole, net.weight(values=np.array([1, 1, 12, 12])))
    both = net.add("Concat", x, whole, axis=1, name="both")
    net.add("MatMul", net.add("Flatten", net.add("GlobalAveragePool", both)), net.weight(6, 2), name="scores")
    maker = HeatmapMaker(loaded(net.model(["n", 3, 48, 48], {"scores": ["n", 2]}), tmp_path / "m.onnx"))
    layer = maker.layer(None)
    assert (layer.tensor, layer.grid) == ("both", (12, 12))
    assert layer.placement.even
