"""Pieces of the hottest part: against loops over pixels, and put into groups by what they show."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.heatmaps.hottest import hottest_part, laid_over
from mivrat.core.heatmaps.kept_maps import maps_of_setup
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.likeness.pieces import LEAST, PER_IMAGE, cut_out, cut_pieces, features_in, group_pieces, hot_pieces
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.one_image import prepared
from tests.support.small_run import Ran


def flooded(mask: np.ndarray) -> list[set[tuple[int, int]]]:
    """The pieces of a mask that hang together by sides or corners, by walking over them."""
    left, found = set(zip(*(axis.tolist() for axis in np.nonzero(mask)), strict=True)), []
    while left:
        piece, edge = set(), [left.pop()]
        while edge:
            y, x = edge.pop()
            piece.add((y, x))
            near = {(y + a, x + b) for a in (-1, 0, 1) for b in (-1, 0, 1)} & left
            left -= near
            edge += near
        found.append(piece)
    return found


@given(heat=st.integers(0, 10_000), part=st.floats(0.02, 0.6), side=st.tuples(st.integers(3, 30), st.integers(3, 30)))
@settings(max_examples=80, deadline=None)
def test_pieces_are_what_a_walk_over_the_hottest_part_finds(heat: int, part: float, side: tuple[int, int]) -> None:
    values = np.random.default_rng(heat).normal(size=(5, 6)).astype(np.float32)
    evidence = np.maximum(laid_over(values, *side), 0).astype(float)
    hot = hottest_part(values, part, *side)
    whole = evidence[hot].sum()
    expected = []
    for piece in flooded(hot):
        share = sum(evidence[at] for at in piece) / whole
        if share >= LEAST:
            expected.append((share, piece))
    expected.sort(key=lambda one: -one[0])
    found = hot_pieces(values, part, *side)
    assert len(found) == min(PER_IMAGE, len(expected))
    for (mask, share), (wanted, _) in zip(found, expected, strict=False):
        assert share == pytest.approx(wanted)
        assert set(zip(*(axis.tolist() for axis in np.nonzero(mask)), strict=True)) in [piece for _, piece in expected]
    assert hot_pieces(-np.abs(values), part, *side) == []


def test_features_are_the_mean_over_a_piece_less_that_over_the_image(ran: Ran) -> None:
    recipe = ran.record.recipe
    tensor = to_tensor(prepared(ran.record.image_set.file(0), recipe), recipe)
    layer = ran.maker.layer(None)
    assert isinstance(ran.maker, HeatmapMaker)
    (named,) = ran.maker.layers_for(tensor[None], [layer])
    laid = named.placement.laid(ran.maker.activations(tensor[None], layer)[0])
    rows, columns = laid.shape[1:]
    mask = np.zeros((rows * 2, columns * 2), bool)  # four pixels to a place
    mask[2:5, 4:9] = True
    (found,) = features_in(ran.maker, tensor, layer, [mask])
    there = [laid[:, y // 2, x // 2] for y, x in zip(*np.nonzero(mask), strict=True)]
    everywhere = [laid[:, y, x] for y in range(rows) for x in range(columns)]
    np.testing.assert_allclose(found, np.mean(there, axis=0) - np.mean(everywhere, axis=0), atol=1e-5)


def test_a_box_encloses_its_piece(ran: Ran) -> None:
    *_, pieces = cut_pieces(ran.maker, ran.record.image_set, ran.judged, [0], MapSetup(), 0.3)
    assert isinstance(pieces, tuple)
    recipe = ran.record.recipe
    pixels = prepared(ran.record.image_set.file(0), recipe)
    target = MapSetup().target(ran.judged, 0)
    assert target is not None
    heat = maps_of_setup(ran.maker, to_tensor(pixels, recipe)[None], [target], MapSetup())[0]
    found = hot_pieces(heat, 0.3, *pixels.shape[:2])
    assert len(found) == len(pieces) >= 1
    for one, (mask, share) in zip(pieces, found, strict=True):
        drawn = one.shape.mask(*mask.shape)
        assert (drawn | mask == drawn).all()
        for edge in (drawn.any(axis=0) == mask.any(axis=0), drawn.any(axis=1) == mask.any(axis=1)):
            assert edge[[0, -1]].all()
        assert drawn.any(axis=0).sum() == np.ptp(np.flatnonzero(mask.any(axis=0))) + 1
        assert drawn.any(axis=1).sum() == np.ptp(np.flatnonzero(mask.any(axis=1))) + 1
        assert one.evidence == share


def test_a_square_is_cut_out_around_a_box_and_stays_inside() -> None:
    pixels = np.arange(20 * 30, dtype=np.uint8).reshape(20, 30, 1)
    for box in ((0.0, 0.0, 0.1, 0.1), (0.9, 0.8, 1.0, 1.0), (0.4, 0.0, 0.5, 1.0), (0.0, 0.0, 1.0, 1.0)):
        found = cut_out(pixels, box)
        side = min(20, max(round(max((box[2] - box[0]) * 30, (box[3] - box[1]) * 20)), 4))
        assert found.shape == (side, side, 1)
    assert (cut_out(pixels, (0.4, 0.4, 0.6, 0.6)) == pixels[7:13, 12:18]).all()


def test_a_sheet_counts_images_not_pieces_and_says_which_have_none(ran: Ran) -> None:
    images = [*range(12), 21]  # the last one cannot be read
    *_, pieces = cut_pieces(ran.maker, ran.record.image_set, ran.judged, images, MapSetup(), 0.3)
    assert isinstance(pieces, tuple)
    sheet = group_pieces(pieces, len(images), ran.judged, 2)
    assert sheet.without == len(images) - len({one.image for one in pieces}) >= 1
    assert sorted(at for group in sheet.groups for at in group.members) == list(range(len(pieces)))
    for g, group in enumerate(sheet.groups):
        own = {pieces[at].image for at in group.members}
        assert set(group.images) == set(sheet.regions(g)) == own
        assert (group.right.hits, group.right.total) == (sum(bool(ran.judged.right[i]) for i in own), len(own))
        assert sum(len(some) for some in sheet.regions(g).values()) == len(group.members)
    assert group_pieces((), 3, ran.judged).groups == ()
    assert group_pieces((), 3, ran.judged).without == 3
