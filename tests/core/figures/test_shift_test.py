"""How unlike two sets are: against loops over pairs, in simulation, and with what is planted."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.base.job import stopped_by
from mivrat.core.figures import shift_test as module
from mivrat.core.figures.shift_test import far_images, unlike
from tests.support.stopping import StopsAfter


def features(rng: np.random.Generator, total: int, shift: float = 0.0) -> np.ndarray:
    made = rng.normal(0, 1, (total, 6)) + shift
    return (made / np.linalg.norm(made, axis=1, keepdims=True)).astype(np.float32)


def by_loops(a: np.ndarray, b: np.ndarray) -> float:
    both = np.concatenate([a, b]).astype(float)
    apart = np.array([[((x - y) ** 2).sum() for y in both] for x in both])
    width = np.median(apart[apart > 1e-12])
    kernel = np.exp(-apart / (2 * width))
    n, m = len(a), len(b)
    inside = sum(kernel[i, j] for i in range(n) for j in range(n) if i != j) / (n * (n - 1))
    other = sum(kernel[n + i, n + j] for i in range(m) for j in range(m) if i != j) / (m * (m - 1))
    return float(inside + other - 2 * kernel[:n, n:].mean())


def test_discrepancy_against_loops() -> None:
    rng = np.random.default_rng(1)
    a, b = features(rng, 14), features(rng, 11, 0.4)
    found = unlike(a, b)
    assert found is not None
    assert found.mmd == pytest.approx(by_loops(a, b), abs=1e-5)
    assert found.used == (14, 11)
    assert unlike(a[:9], b) is None
    with stopped_by(StopsAfter(0)):
        assert unlike(a, b) is None


@pytest.mark.slow
def test_alarms_are_rare_and_shifts_are_seen(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "PERMUTATIONS", 110)
    found = {shift: [] for shift in (0.0, 0.5)}
    for seed in range(150):
        rng = np.random.default_rng(seed)
        a = features(rng, 40)
        for shift, told in found.items():
            one = unlike(a, features(rng, 40, shift), seed=seed)
            assert one is not None and one.p is not None  # noqa: PT018
            told.append(one.p < 0.05)
    assert np.mean(found[0.0]) <= 0.10
    assert np.mean(found[0.5]) >= 0.9


def test_another_mix_is_not_taken_for_other_pictures() -> None:
    rng = np.random.default_rng(3)
    kinds = [np.repeat([0, 1], sizes) for sizes in ((60, 20), (20, 60))]
    a, b = (features(rng, 80) + np.where(k[:, None] == 0, 1.5, -1.5).astype(np.float32) for k in kinds)
    plain, held = unlike(a, b), unlike(a, b, (kinds[0], kinds[1]))
    assert plain is not None and held is not None  # noqa: PT018
    assert plain.p is not None and held.p is not None  # noqa: PT018
    assert plain.p < 0.01 < 0.05 < held.p
    assert held.within_classes
    # other pictures of one class are seen all the same
    b[kinds[1] == 1] += np.array([1.2, 0, 0, 0, 0, 0], np.float32)
    seen = unlike(a, b, (kinds[0], kinds[1]))
    assert seen is not None and seen.p is not None and seen.p < 0.01  # noqa: PT018


def test_units_are_dealt_whole() -> None:
    """Images of one unit alike: taken singly two sets of them look unlike, taken whole they do not."""
    rng = np.random.default_rng(6)
    sides = [np.repeat(features(rng, 8), 6, axis=0) + rng.normal(0, 0.05, (48, 6)).astype(np.float32) for _ in range(2)]
    unit = np.repeat(np.arange(8), 6)
    single, whole = unlike(*sides), unlike(*sides, None, unit, unit)
    assert single is not None and whole is not None  # noqa: PT018
    assert single.p is not None and whole.p is not None  # noqa: PT018
    assert single.p < 0.02 < whole.p
    assert whole.units == 16
    few = unlike(*sides, None, np.repeat(np.arange(2), 24), np.repeat(np.arange(2), 24))
    assert few is not None
    assert few.p is None


def test_far_images_against_loops() -> None:
    rng = np.random.default_rng(8)
    base, of = features(rng, 30), features(rng, 12)
    of[3] = -base.mean(axis=0) * 30  # planted: unlike anything
    of[5] = np.nan
    found = far_images(of, base, k=3)
    own = sorted(sorted(np.linalg.norm(base[i] - base[j]) for j in range(30) if j != i)[2] for i in range(30))
    for i in range(12):
        if i == 5:
            assert np.isnan(found.distance[i])
            continue
        distance = sorted(np.linalg.norm(of[i] - one) for one in base)[2]
        assert found.distance[i] == pytest.approx(distance, abs=1e-4)
        assert found.percentile[i] == pytest.approx(sum(one < distance for one in own) / 30, abs=1 / 30)
    assert np.nanargmax(found.distance) == 3
    assert found.percentile[3] == 1
    assert np.isnan(far_images(of, base[:1]).distance).all()


def test_of_nothing_no_image_is_far() -> None:
    rng = np.random.default_rng(0)
    some, none = rng.normal(size=(5, 3)), np.zeros((0, 3))
    assert np.isnan(far_images(some, none).distance).tolist() == [True] * 5
    assert len(far_images(none, some).distance) == 0
