"""What has become of a finding: the rule on cases worked by hand, and what must never happen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.concluding.checking import state_of_finding, told_confirmed
from mivrat.core.concluding.evaluation_context import RunSummary
from mivrat.core.concluding.findings import Beside, Finding, FindingClaim, FindingOrigin, Measure, as_text, from_text
from mivrat.core.concluding.verdict_rules import change, excess, state_of
from mivrat.core.figures.intervals import Proportion, wilson

MADE = FindingOrigin(
    "m", "net", "", "i", "set", 400, "2031-05-06", "0", balanced=0.9, balanced_low=0.87, balanced_high=0.93
)
WELL = RunSummary(Proportion(90, 100, 0.9, 0.8, 0.95), 0.9, 0.86, 0.93, 8, 8)


def share(hits: int, total: int, of: tuple[int, int] | None = (1, 100), bad: int = 1) -> Measure:
    low, high = wilson(hits / total, total)
    beside = Beside("elsewhere", of[0] / of[1], *wilson(of[0] / of[1], of[1]), *of) if of else None
    return Measure("answers changed", hits / total, low, high, hits, total, bad, beside=beside)


def criterion(value: float, half: float, limit: float = 0.9) -> Measure:
    low, high = value - half, value + half
    return Measure(
        "recall", value, low, high, bad=-1, limit=limit, met=True if low >= limit else False if high < limit else None
    )


@pytest.mark.parametrize(
    ("before", "after", "state"),
    [
        (share(25, 25), share(1, 25), "gone"),
        (share(25, 25), share(10, 25), "weaker"),
        (share(25, 25), share(23, 25), "holds"),
        (share(10, 50), share(30, 50), "worse"),
        (share(2, 10), share(1, 10), "inconclusive"),
        (share(25, 50), share(0, 50, None), "gone"),
        (share(25, 50), share(5, 50, None), "weaker"),
        (share(10, 100, None, -1), share(90, 100, None, -1), "weaker"),  # more of it is better, and it was lacking
        (share(10, 100, None, -1), share(100, 100, None, -1), "gone"),
        (share(8, 50), share(0, 8), "inconclusive"),  # less, but so few images leave room for more
        (share(40, 50, (20, 1000)), share(8, 200, (14, 1400)), "weaker"),  # 4 % against 1 %: still there
        (share(25, 25), share(6, 25, (1, 25)), "weaker"),  # too few images to exclude that a quarter is left
        (
            share(6, 100, (30, 1000)),
            share(0, 400, (30, 1000)),
            "inconclusive",
        ),  # it did not stand out where it was found
        (share(90, 100, None, -1), share(10, 100, None, -1), "worse"),
        (criterion(0.5, 0.1), criterion(0.95, 0.03), "gone"),
        (criterion(0.5, 0.1), criterion(0.8, 0.05), "weaker"),
        (criterion(0.5, 0.1), criterion(0.55, 0.1), "holds"),
        (criterion(0.8, 0.05), criterion(0.5, 0.1), "worse"),
        (criterion(0.85, 0.1), criterion(0.86, 0.1), "inconclusive"),
        (criterion(0.97, 0.02), criterion(0.95, 0.03), "holds"),
        (criterion(0.97, 0.02), criterion(0.5, 0.1), "worse"),
        (criterion(0.97, 0.02), criterion(0.9, 0.05), "inconclusive"),
    ],
)
def test_the_rule(before: Measure, after: Measure, state: str) -> None:
    assert state_of(before, after, MADE, WELL, False)[0] == state


def test_the_interval_of_the_change_is_newcombes() -> None:
    # Newcombe 1998: 56 of 70 against 48 of 80 gives 0.0524 to 0.3339, without continuity correction.
    low, high = change(share(48, 80), share(56, 70))
    assert low is not None
    assert high is not None
    assert (low, high) == pytest.approx((0.0524, 0.3339), abs=5e-5)


counts = st.integers(1, 60).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n)))


@given(counts, counts, st.booleans())
def test_what_never_happens(before: tuple[int, int], after: tuple[int, int], same: bool) -> None:
    a, b = share(*before), share(*after)
    state, why = state_of(a, b, MADE, WELL, same)
    assert why
    rise = after[0] / after[1] - before[0] / before[1]
    if state in ("gone", "weaker"):
        assert rise < 0
    if state == "worse":
        assert rise > 0
    if before == after:
        assert state in ("holds", "inconclusive")
        assert not same or state == "holds"
    one_class = RunSummary(WELL.top1, 0.125, 0.1, 0.15, 1, 8)
    fallen = RunSummary(WELL.top1, 0.7, 0.65, 0.75, 8, 8)
    for bad in (one_class, fallen):
        assert state_of(a, b, MADE, bad, False)[0] not in ("gone", "weaker")
    assert state_of(a, Measure("", None, problem="no such class"), MADE, WELL, same) == (
        "inconclusive",
        "no such class",
    )


def found_again(rng: np.random.Generator, alike: int, left: float, trials: int) -> float:
    """How often the most frequent of so many mistakes alike is called gone on a second set of images, when so much of each is left."""
    gone = 0
    for _ in range(trials):
        rate = 0.04 if alike > 1 else 0.3  # many that are all the same, or one that is really there
        base = rng.binomial(200, rate if alike > 1 else 0.01, alike)
        base[0] = rng.binomial(200, rate) if alike == 1 else base[0]
        worst = int(base.argmax())
        rest = (
            (int(base.sum() - base[worst]), 200 * (alike - 1)) if alike > 1 else (int(rng.binomial(1400, 0.01)), 1400)
        )
        now = int(rng.binomial(200, 0.01 + (rate - 0.01) * left if alike == 1 else rate * left))
        other = int(rng.binomial(rest[1], 0.01 if alike == 1 else rate * left))
        before, after = share(int(base[worst]), 200, rest), share(now, 200, (other, rest[1]))
        state, _ = state_of(before, after, replace(MADE, looks=alike), WELL, False)
        gone += state == "gone"
    return gone / trials


def test_what_was_chosen_for_being_frequent_is_not_gone_by_itself() -> None:
    rng = np.random.default_rng(1)
    for alike in (5, 20):
        assert found_again(rng, alike, 1.0, 300) <= 0.02
    assert found_again(rng, 1, 1.0, 200) == 0
    assert found_again(rng, 1, 0.5, 300) <= 0.02
    assert found_again(rng, 1, 0.25, 300) <= 0.05  # three quarters fixed is not gone
    assert found_again(rng, 1, 0.0, 300) >= 0.8


def test_the_other_half_rarely_confirms_what_is_not_there_and_mostly_what_is() -> None:
    """The most frequent of 20 mistakes alike on one half: without the other half it seems to stand out often, with it rarely."""
    rng = np.random.default_rng(3)
    trials, alike = 400, 20
    seems = confirmed = really = 0
    for _ in range(trials):
        first, second = rng.binomial(100, 0.05, (2, alike))
        k = int(first.argmax())

        def stands_out(counts: np.ndarray, k: int = k) -> bool:
            found = excess(share(int(counts[k]), 100, (int(counts.sum() - counts[k]), 100 * (alike - 1))))
            return found is not None and found.low > 0

        seems += stands_out(first)
        confirmed += stands_out(second)
        second[k] = rng.binomial(100, 0.2)
        really += stands_out(second)
    assert seems >= 0.3 * trials
    assert confirmed <= 0.04 * trials  # one side of 5 %
    assert really >= 0.9 * trials


def test_figures_of_the_other_half_are_what_later_ones_are_compared_with() -> None:
    where = share(30, 100, (30, 1000))
    finding = Finding(1, "a", "", "matters", FindingClaim("share"), replace(MADE, looks=40), where)
    half = share(12, 100, (30, 1000))
    with_half = replace(finding, confirmed=half)
    assert finding.basis == (where, finding.made)
    assert with_half.basis == (half, replace(finding.made, looks=1))
    assert replace(finding, confirmed=Measure("", None, problem="no such class")).basis == finding.basis
    assert from_text(1, as_text(with_half)) == with_half
    after = share(10, 100, (30, 1000))
    assert state_of_finding(finding, after, WELL, False)[0] == "weaker"
    assert state_of_finding(with_half, after, WELL, False)[0] == "holds"  # as on the half nothing was chosen from
    assert state_of_finding(with_half, where, WELL, True)[0] == "holds"
    assert told_confirmed(finding) == ""
    assert told_confirmed(with_half).startswith("confirmed on the other half: 12 of 100, 12.0 % (")
    assert told_confirmed(replace(finding, confirmed=share(4, 100, (30, 1000)))).startswith(
        "not confirmed on the other half: 4 of 100"
    )
    assert "no such class" in told_confirmed(replace(finding, confirmed=Measure("", None, problem="no such class")))


def test_of_many_looks_only_what_stands_out_by_far_stands_out() -> None:
    one = share(12, 100, (30, 1000))
    alone, chosen = excess(one), excess(one, 20)
    assert alone is not None
    assert chosen is not None
    # Halves of both intervals in proportion to the normal distribution's points, 1.96 at 5 % and 3.0233 at 5 % of 20.
    for part, other in (
        (alone.value - alone.low, chosen.value - chosen.low),
        (alone.high - alone.value, chosen.high - chosen.value),
    ):
        assert other / part == pytest.approx(3.0233 / 1.95996, rel=1e-4)
    after = share(0, 600, (30, 1000))
    assert state_of(one, after, MADE, WELL, False)[0] == "gone"
    state, why = state_of(one, after, replace(MADE, looks=1000), WELL, False)
    assert state == "inconclusive"
    assert "as one of 1000 looked at" in why or why.startswith("no significant change")
