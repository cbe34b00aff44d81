"""Wilson intervals against published examples and their defining equation."""

from dataclasses import replace
from math import comb

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures.intervals import Z95, Proportion, lowest_of, proportion, wilson


@pytest.mark.parametrize(
    ("hits", "total", "low", "high"),
    [(81, 263, 0.2553, 0.3662), (15, 148, 0.0624, 0.1605), (0, 20, 0.0, 0.1611), (1, 29, 0.0061, 0.1718)],
)
def test_published_examples(hits: int, total: int, low: float, high: float) -> None:
    """Newcombe (1998), table I, method 3."""
    found = proportion(hits, total)
    assert found.low == pytest.approx(low, abs=5e-5)
    assert found.high == pytest.approx(high, abs=5e-5)


@given(st.integers(1, 5000).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))))
def test_bounds_solve_the_score_equation(counts: tuple[int, int]) -> None:
    hits, total = counts
    found = proportion(hits, total)
    assert found.value is not None
    assert found.low is not None
    assert found.high is not None
    assert 0 <= found.low <= found.value <= found.high <= 1
    for bound in (found.low, found.high):
        assert total * (found.value - bound) ** 2 == pytest.approx(Z95**2 * bound * (1 - bound), abs=1e-9 * total)


def test_nothing_of_nothing_is_undefined() -> None:
    found = proportion(0, 0)
    assert (found.value, found.low, found.high) == (None, None, None)
    with pytest.raises(ValueError, match="not a proportion"):
        proportion(3, 2)


@pytest.mark.parametrize(("hits", "total", "classes"), [(3, 10, 1), (36, 40, 3), (0, 7, 20), (50, 60, 200)])
def test_the_upper_end_of_the_lowest_of_several_is_the_exact_one_at_a_shared_level(
    hits: int, total: int, classes: int
) -> None:
    """So few hits or fewer have half the shared level as their probability there, counted term by term."""
    others = [proportion(1000, 1000)] * (classes - 1)
    at, low, high = lowest_of([*others, proportion(hits, total)])
    assert at == classes - 1
    assert low == pytest.approx(wilson(hits / total, total)[0], abs=1e-12)
    assert high is not None
    tail = sum(comb(total, k) * high**k * (1 - high) ** (total - k) for k in range(hits + 1))
    assert tail == pytest.approx(0.05 / classes / 2, rel=1e-6)
    units = Proportion(hits, total, hits / total, 0.0, 1.0, 6, total / 2)
    assert lowest_of([*others, units])[2] > high  # type: ignore[operator]
    without = Proportion(hits, total, hits / total, None, None, 3)
    assert lowest_of([without, *others])[1:] == ((0.0, 1.0) if others else (None, None))


def test_p_against_a_share_by_tables() -> None:
    """60 of 100 against one half: z = 2, so p = 0.0455; over 11 units Student's t with 10 degrees of freedom, 0.0734."""
    alone = proportion(60, 100)
    assert alone.p_against(0.5) == pytest.approx(0.0455, abs=5e-5)
    assert replace(alone, units=11).p_against(0.5) == pytest.approx(0.0734, abs=5e-5)
    assert (alone.p_against(0.6), proportion(0, 0).p_against(0.5), alone.p_against(1.0)) == (1.0, 1.0, 0.0)
