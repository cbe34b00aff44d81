"""A piece is pasted where it is told, and its control takes as much from elsewhere in the same image: against loops over pixels."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.region_masking.pasting import moved_within, pasted, piece_of, place_for


def by_loop(
    receiver: np.ndarray, piece: np.ndarray, mask: np.ndarray, move: tuple[int, int], take: tuple[int, int]
) -> np.ndarray:
    """Each pixel of the mask, moved, shows what lies ``take`` away from it in the donor, counted round the edges."""
    found, (height, width) = receiver.copy(), mask.shape
    for y, x in zip(*np.nonzero(mask), strict=True):
        down, across = y + move[0], x + move[1]
        if 0 <= down < height and 0 <= across < width:
            found[down, across] = piece[(y + take[0]) % height, (x + take[1]) % width]
    return found


@given(
    side=st.tuples(st.integers(4, 20), st.integers(4, 20)),
    box=st.tuples(*[st.floats(0, 1)] * 4),
    at=st.none() | st.tuples(st.floats(0, 1), st.floats(0, 1)),
    seed=st.integers(0, 99),
)
@settings(max_examples=120, deadline=None)
def test_piece_and_control_lie_where_loops_put_them(
    side: tuple[int, int], box: tuple[float, ...], at: tuple[float, float] | None, seed: int
) -> None:
    rng = np.random.default_rng(seed)
    donor, receiver = (rng.integers(0, 256, (*side, 3), dtype=np.uint8) for _ in range(2))
    mask = np.zeros(side, bool)
    top, left = int(box[0] * (side[0] - 1)), int(box[1] * (side[1] - 1))
    mask[top : top + 1 + int(box[2] * (side[0] - 1)), left : left + 1 + int(box[3] * (side[1] - 1))] = True
    piece = piece_of(donor, mask, np.random.default_rng(seed))
    move = place_for(mask, at)
    made = pasted(receiver, piece, at, soft=False)
    if made is None:  # a thin piece with its middle on the very edge
        assert not moved_within(mask, move).any()
        return
    assert (made[0] == by_loop(receiver, donor, mask, move, (0, 0))).all()
    assert (made[1] == by_loop(receiver, donor, mask, move, piece.control)).all()
    rows, columns = mask.any(axis=1).sum(), mask.any(axis=0).sum()
    if not piece.wraps:
        assert moved_within(mask, piece.control).sum() == mask.sum()  # whole inside the donor
    if 3 * rows <= side[0] or 3 * columns <= side[1]:
        assert piece.overlap() < 1  # there is room beside it on one side at least


def test_the_middle_of_a_piece_goes_to_the_place_told() -> None:
    mask = np.zeros((20, 40), bool)
    mask[2:6, 10:20] = True  # its middle is 4 down, 15 across
    assert place_for(mask, None) == (0, 0)
    assert place_for(mask, (0.5, 0.5)) == (6, 5)
    assert place_for(mask, (1.0, 0.25)) == (1, 25)


def test_a_soft_edge_runs_from_the_piece_to_what_was_there_and_adds_nothing() -> None:
    mask = np.zeros((64, 64), bool)
    mask[20:44, 20:44] = True
    white, black = np.full((64, 64, 1), 255, np.uint8), np.zeros((64, 64, 1), np.uint8)
    made = pasted(black, piece_of(white, mask, np.random.default_rng(0)), None, soft=True)
    assert made is not None
    soft = made[0][..., 0].astype(float) / 255
    assert soft[32, 32] == 1.0
    assert soft[0, 0] == 0.0
    assert 0.5 < soft[32, 20] < 1
    assert 0 < soft[32, 19] < 0.5
    assert soft.sum() == pytest.approx(mask.sum(), rel=0.002)  # a bell takes nothing away


def test_a_piece_from_an_image_of_another_size_keeps_its_share_and_an_empty_one_is_none() -> None:
    mask = np.zeros((20, 40), bool)
    mask[5:10, 10:20] = True
    donor = np.zeros((20, 40, 3), np.uint8)
    donor[mask] = 200
    made = pasted(np.full((40, 20, 3), 9, np.uint8), piece_of(donor, mask, np.random.default_rng(1)), None, soft=False)
    assert made is not None
    changed = (made[0] != 9).any(axis=2)
    assert changed.mean() == mask.mean()
    assert changed[10:20, 5:10].all()
    assert pasted(donor, piece_of(donor, mask, np.random.default_rng(1)), (1.0, 30.0), soft=False) is None
    with pytest.raises(ValueError, match="an empty piece"):
        piece_of(donor, np.zeros((20, 40), bool), np.random.default_rng(1))
