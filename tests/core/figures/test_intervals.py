"""Wilson intervals against published examples and their defining equation."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.figures.intervals import Z95, proportion


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
    with pytest.raises(ValueError, match="no share"):
        proportion(3, 2)
