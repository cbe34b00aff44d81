"""What pasting did: shares and test against counts by hand and the binomial distribution, and how often it is wrong where nothing is carried."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import binomtest

from mivrat.core.figures.transplanted import transplant_result

A = np.array


def test_over_one_donor_the_test_is_the_exact_one_of_pairs() -> None:
    piece, control = A([1, 1, 1, 1, 1, 1, 1, 0, 0, 1], bool), A([0, 0, 0, 0, 0, 0, 0, 1, 0, 1], bool)
    rise = A([0.5, 0.25, *[0.0] * 8])
    found = transplant_result(piece, control, rise, -rise, np.zeros(10, int))
    assert (found.total, found.donors, found.over, found.only_piece, found.only_control) == (10, 1, "images", 7, 1)
    assert found.difference.p == pytest.approx(binomtest(7, 8).pvalue)
    assert found.difference.value == pytest.approx(0.6)
    assert (found.piece.became.hits, found.control.became.hits, found.piece.became.units) == (8, 2, None)
    assert (found.piece.mean_rise, found.control.mean_rise) == (0.075, -0.075)
    units = transplant_result(piece, control, rise, rise, np.zeros(10, int), np.zeros(10, int), A([0] * 7 + [1, 2, 2]))
    assert units.over == "units"
    assert units.difference.p == pytest.approx(1.0)  # all seven are one unit: 7 against 1 may as well be 1 against 7


def test_whole_donors_stand_or_fall_together_and_so_do_units_they_share() -> None:
    piece, donor = np.ones(12, bool), np.repeat(np.arange(6), 2)
    rise = np.zeros(12)
    found = transplant_result(piece, ~piece, rise, rise, donor)
    assert (found.over, found.donors, found.piece.became.units) == ("donors", 6, 6)
    assert found.difference.p == pytest.approx(2 / 2**6)
    # Donors 0 and 1 are of one unit, and 2 and 3 went to receivers of one: four are left that are independent.
    joined = transplant_result(
        piece,
        ~piece,
        rise,
        rise,
        donor,
        A([9, 9, 9, 9, 2, 2, 3, 3, 4, 4, 5, 5]),
        A([0, 1, 2, 3, 4, 5, 5, 6, 7, 8, 9, 10]),
    )
    assert joined.piece.became.units == 4
    assert joined.difference.p == pytest.approx(2 / 2**4)
    nothing = transplant_result(*[np.zeros(0, bool)] * 2, *[np.zeros(0)] * 2, np.zeros(0, int))
    assert (nothing.total, nothing.piece.mean_rise, nothing.difference.p) == (0, 0.0, None)


def test_pieces_that_carry_no_more_than_others_of_their_image_are_rarely_said_to() -> None:
    """Each donor's piece and control carry by a strength of their own, drawn alike: images of one donor are then not independent."""
    rng, wrong, naive = np.random.default_rng(1), 0, 0
    for _ in range(300):
        donor = rng.integers(0, 12, 120)
        piece, control = (rng.random(120) < (rng.random(12) ** 3)[donor] for _ in range(2))
        found = transplant_result(piece, control, np.zeros(120), np.zeros(120), donor)
        wrong += (found.difference.p or 0) < 0.05
        naive += binomtest(found.only_piece, max(1, found.only_piece + found.only_control)).pvalue < 0.05
        assert ((found.difference.p or 0) < 0.05) == (found.difference.beyond_chance != 0)
    assert wrong <= 25  # 5 % of 300 is 15; 25 lies 2.6 standard errors above
    assert naive > 60  # what counting every image by itself would have claimed
