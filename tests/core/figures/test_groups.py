"""Figures of groups by hand and against an exact test."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.stats import fisher_exact

from mivrat.core.figures import (
    groups,
)
from mivrat.core.figures.groups import SMALL, group_figures
from mivrat.core.figures.units import units_of


def test_groups_are_counted_tested_and_ordered() -> None:
    names = ["a"] * 40 + ["b"] * 40 + ["c"] * 10 + ["d"] * 3
    right = np.array([True] * 38 + [False] * 2 + [True] * 20 + [False] * 20 + [True] * 8 + [False] * 2 + [True] * 3)
    use = np.ones(93, bool)
    use[-3:] = False
    found = groups.group_figures(names, right, np.full(93, 0.9), use)
    assert [one.name for one in found] == ["b", "c", "a"]
    assert (found[0].accuracy.hits, found[0].accuracy.total, found[1].small) == (20, 40, True)
    assert found[0].gap == pytest.approx(0.4)
    assert found[0].p == pytest.approx(3 * fisher_exact([[20, 20], [46, 4]], alternative="less").pvalue)
    assert found[2].p == 1.0
    assert groups.group_names(["2031-05-02", "2031-05-30T08:00", ""]) == ["2031-05", "2031-05", "(none)"]
    assert groups.group_names(["2031-05-02", "x"]) == ["2031-05-02", "x"]


def test_one_group_has_no_rest_to_fall_below_and_is_small_below_a_number() -> None:
    units = units_of(["a", "a", "b", "b"], "slide")
    for corrected in (False, True):
        (one,) = group_figures(
            ["g"] * 4, np.array([1, 0, 0, 0], bool), np.full(4, 0.5), np.ones(4, bool), units, corrected=corrected
        )
        assert one.p == 1.0
    many = [
        group_figures(["g"] * n, np.ones(n, bool), np.ones(n), np.ones(n, bool))[0].small for n in (SMALL - 1, SMALL)
    ]
    assert many == [True, False]
