"""Agreement of readers: worked examples from the papers, brute force, and how often kappa's interval holds."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.figures.agreement import agreement_of_several, agreement_of_two


def pairs(table: list[list[int]]) -> tuple[list[str], list[str]]:
    told = [(str(i), str(j)) for i, row in enumerate(table) for j, n in enumerate(row) for _ in range(n)]
    return [a for a, _ in told], [b for _, b in told]


def test_cohen_s_example() -> None:
    """Cohen 1960, table 1: kappa 0.492 of 200 cases (proportions .25 .13 .12 / .12 .02 .16 / .03 .15 .02 are another table of his)."""
    found = agreement_of_two(*pairs([[88, 14, 18], [10, 40, 10], [2, 6, 12]]))
    assert found.kappa == pytest.approx(0.492, abs=5e-4)
    assert found.share.hits == 140
    # Fleiss, Cohen and Everitt 1969: its standard error is 0.055 or so.
    assert found.high is not None
    assert found.low is not None
    assert (found.high - found.low) / 3.92 == pytest.approx(0.055, abs=0.004)


def test_fleiss_example() -> None:
    """Fleiss 1971's statistic on a table worked by hand: three images, four readers."""
    found = agreement_of_several(np.array([[4, 0], [2, 2], [1, 3]]))
    of_image = (1 + 1 / 3 + 0.5) / 3
    chance = (7 / 12) ** 2 + (5 / 12) ** 2
    assert found.kappa == pytest.approx((of_image - chance) / (1 - chance))
    assert (found.share.hits, found.share.total) == (1, 3)


def test_ends_and_nothing() -> None:
    alike = agreement_of_two(["a"] * 30 + ["b"] * 10, ["a"] * 30 + ["b"] * 10)
    assert (alike.kappa, alike.high) == (1.0, 1.0)
    assert alike.low is not None
    assert alike.low < 1
    assert agreement_of_two(["a"] * 9, ["a"] * 9).kappa is None
    assert agreement_of_two([], []).kappa is None
    few = agreement_of_two(["a", "b"] * 5, ["a", "b"] * 5)
    assert (few.kappa, few.low) == (1.0, None)
    assert agreement_of_several(np.zeros((0, 2), np.int64)).kappa is None


def test_the_interval_holds() -> None:
    rng, held, reps = np.random.default_rng(0), 0, 400
    table = np.array([[0.35, 0.1], [0.15, 0.4]])
    rows, columns = table.sum(axis=1), table.sum(axis=0)
    true = (np.trace(table) - rows @ columns) / (1 - rows @ columns)
    for _ in range(reps):
        found = agreement_of_two(*pairs(rng.multinomial(80, table.ravel()).reshape(2, 2).tolist()))
        assert found.low is not None
        assert found.high is not None
        held += found.low <= true <= found.high
    assert 0.92 <= held / reps <= 0.98
