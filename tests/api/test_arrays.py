"""Runs from arrays: the same figures as from a table, whatever the arrays are; what cannot be is refused with a way to mend it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import mivrat

NAMES = ["red", "green", "blue", "grey"]


def made(seed: int, n: int = 60, k: int = 4, sure: float = 1.5) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    labels = rng.integers(0, k, n)
    return labels, rng.normal(size=(n, k)) + sure * np.eye(k)[labels]


def softmax(z: np.ndarray) -> np.ndarray:
    e = np.exp(z - z.max(axis=1, keepdims=True))
    return e / e.sum(axis=1, keepdims=True)


@settings(max_examples=25)
@given(
    seed=st.integers(0, 9999),
    n=st.integers(1, 80),
    k=st.integers(2, 5),
    unlabelled=st.floats(0, 1),
    broken=st.integers(0, 3),
    by_name=st.booleans(),
    single=st.booleans(),
)
def test_figures_are_those_of_a_plain_loop(
    seed: int, n: int, k: int, unlabelled: float, broken: int, by_name: bool, single: bool
) -> None:
    rng = np.random.default_rng(seed)
    labels, scores = made(seed, n, k)
    labels[rng.random(n) < unlabelled] = -1
    scores[: min(broken, n)] = np.nan
    names = [f"class {i}" for i in range(k)]
    given_labels: Any = [names[i] if i >= 0 else None for i in labels] if by_name else labels
    run = mivrat.from_scores(given_labels, scores.astype(np.float32) if single else scores, names)
    use = [i for i in range(n) if labels[i] >= 0 and np.isfinite(scores[i]).all()]
    rows = scores.astype(np.float32).astype(float) if single else scores
    right = sum(int(rows[i].argmax()) == labels[i] for i in use)
    assert run.n == run.top1.n == len(use)
    assert run.counts.failed == min(broken, n)
    if not use:
        assert run.top1.value is None
        assert run.top1.why == run.log_loss.why == "no labelled image was scored"
        return
    assert run.top1.value == pytest.approx(right / len(use))
    p = softmax(rows[use])
    assert run.log_loss.value == pytest.approx(-np.mean(np.log(p[np.arange(len(use)), labels[use]])), rel=1e-5)
    matrix = np.zeros((k, k), int)
    for i in use:
        matrix[labels[i], int(rows[i].argmax())] += 1
    assert (run.confusion == matrix).all()
    assert run.mistakes.height == len(use) - right
    assert run.classes["images"].to_list() == matrix.sum(axis=1).tolist()


@pytest.mark.parametrize("kind", ["logits", "probabilities"])
@pytest.mark.parametrize("grouped", [False, True])
def test_a_table_with_the_same_numbers_gives_the_same_run(tmp_path: Path, kind: str, grouped: bool) -> None:
    labels, scores = made(3, 90)
    rows = softmax(scores) if kind == "probabilities" else scores
    slides = [f"slide {i // 6}" for i in range(90)]
    frame = pl.DataFrame(
        {"path": [f"{i}.png" for i in range(90)], "label": [NAMES[k] for k in labels], "slide": slides}
    )
    answers = frame.select("path").with_columns(**{name: rows[:, k] for k, name in enumerate(NAMES)})
    answers.write_parquet(tmp_path / "answers.parquet")
    frame.write_csv(tmp_path / "images.csv")
    together = "slide" if grouped else None
    table = mivrat.evaluate(tmp_path / "answers.parquet", tmp_path / "images.csv", NAMES, together=together)
    arrays = mivrat.from_scores(labels, rows, NAMES, kind, units=slides if grouped else None)  # type: ignore[arg-type]
    for key, figure in table.figures.items():
        here = arrays.figures[key]
        assert (here.value, here.low, here.high, here.n, here.units) == pytest.approx(
            (figure.value, figure.low, figure.high, figure.n, figure.units), nan_ok=True
        ), key
    assert arrays.top1.units == (15 if grouped else None)
    assert arrays.classes.equals(table.classes)
    assert np.allclose(arrays.probabilities(), table.probabilities())


def test_one_column_stands_for_two_classes() -> None:
    p = np.array([0.1, 0.8, 0.6, 0.3])
    run = mivrat.from_scores([0, 1, 0, 1], p, ["no", "yes"], "sigmoid")
    both = mivrat.from_scores([0, 1, 0, 1], np.stack([1 - p, p], axis=1), ["no", "yes"], "probabilities")
    logits = mivrat.from_scores([0, 1, 0, 1], np.log(p / (1 - p))[:, None], ["no", "yes"])
    for one in (run, both, logits):
        assert one.top1.value == 0.5
        assert one.log_loss.value == pytest.approx(both.log_loss.value)
        assert one.predictions["predicted"].to_list() == ["no", "yes", "yes", "no"]


GOOD = {"labels": [0, 1, 2, 3], "scores": np.eye(4) * 3 - 1, "classes": NAMES}


@pytest.mark.parametrize(
    ("change", "where", "part"),
    [
        ({"labels": [0, 1]}, "labels", "shape"),
        ({"labels": [0, 1, 2, 4]}, "labels", "hold 4"),
        ({"labels": [0, 1, 2, -2]}, "labels", "hold -2"),
        ({"labels": ["red", "green", "blue", "pink"]}, "labels", "row 3 is labelled 'pink'"),
        ({"labels": [0.0, 1.0, 2.0, 3.0]}, "labels", "float64"),
        ({"scores": np.eye(3)}, "scores", "3 columns"),
        ({"scores": np.zeros((2, 2, 2))}, "scores", "shape"),
        ({"scores": np.zeros((0, 4))}, "scores", "shape"),
        ({"scores": [["a"] * 4] * 4}, "scores", "U"),
        ({"scores": np.full((4, 4), 0.25)}, "scores", "these are probabilities"),
        ({"kind": "probabilities"}, "scores", "do not all lie in"),
        ({"kind": "probabilities", "scores": np.full((4, 4), 0.5)}, "scores", "sums to 1 only within"),
        ({"kind": "auto", "scores": np.full((4, 4), 0.5)}, "scores", "sums to 1 only within"),
        ({"kind": "sigmoid", "scores": np.full((4, 4), 0.25)}, "scores", "one column"),
        ({"kind": "softmax"}, "kind", "no kind of scores"),
        ({"classes": ["red", "red", "blue", "grey"]}, "classes", "more than once"),
        ({"classes": [1, 2, 3, 4]}, "classes", "no text"),
        ({"paths": ["a", "b", "c", "a"]}, "paths", "3 of them different"),
        ({"units": ["a", "b"]}, "units", "2 values"),
        ({"columns": {"site": ["n"]}}, "columns['site']", "1 values"),
    ],
)
def test_what_cannot_be_says_what_where_and_how_to_mend_it(change: dict[str, Any], where: str, part: str) -> None:
    mivrat.from_scores(**GOOD)
    with pytest.raises(mivrat.InputError) as caught:
        mivrat.from_scores(**{**GOOD, **change})
    assert caught.value.where == where
    assert part in caught.value.what
    assert caught.value.mend


def test_figures_of_some_images_are_those_of_a_run_of_these_alone() -> None:
    labels, scores = made(5, 120)
    site = np.where(np.arange(120) % 3 == 0, "north", "south")
    run = mivrat.from_scores(labels, scores, NAMES, columns={"site": site})
    mask = run.images["site"] == "north"
    some, alone = run.among(mask), mivrat.from_scores(labels[mask], scores[mask], NAMES)
    for key in ("top1", "macro_f1", "log_loss", "ece", "macro_auroc"):
        assert getattr(some, key).value == pytest.approx(getattr(alone, key).value), key
        assert getattr(some, key).low == pytest.approx(getattr(alone, key).low), key
    assert (some.confusion == alone.confusion).all()
    assert some.among(np.zeros(120, bool)).top1.value is None
    north = run.by("site").filter(pl.col("site") == "north").row(0, named=True)
    assert (north["accuracy"], north["images"]) == (pytest.approx(alone.top1.value), alone.n)
    for asked in (lambda: some.require("top1 >= 0.5"), some.sets, lambda: mivrat.compare(some, run)):
        with pytest.raises(mivrat.InputError, match="of a whole run"):
            asked()
    with pytest.raises(mivrat.InputError, match="120 booleans"):
        run.among([True, False])


def test_what_there_is_not_says_so() -> None:
    run = mivrat.from_scores(*made(1), NAMES)
    with pytest.raises(AttributeError, match="no figure 'accuracy'; its figures are top1"):
        _ = run.accuracy
    with pytest.raises(mivrat.InputError, match="4 classes, no top-7"):
        _ = run.top7
    assert run.top2.value >= run.top1.value
    assert run.top4.value == 1.0
    with pytest.raises(mivrat.InputError, match="'pink' is not a class"):
        run.figure("recall", of="pink")
    with pytest.raises(mivrat.InputError, match="no column 'site' to group by"):
        run.by("site")
    assert "top1" in dir(run)
    assert "macro_f1" in dir(run)
    with pytest.raises(AttributeError):
        _ = mivrat.nothing


# --- two runs ---


@given(seed=st.integers(0, 999))
@settings(max_examples=10)
def test_two_runs_meet_by_path_in_whatever_order(seed: int) -> None:
    labels, scores = made(7, 80)
    later = made(8, 80)[1] * 0.2 + scores
    order = np.random.default_rng(seed).permutation(80)
    paths = np.array([f"{i:03}.png" for i in range(80)])
    a = mivrat.from_scores(labels, scores, NAMES, paths=paths.tolist())
    b = mivrat.from_scores(labels[order], later[order], NAMES, paths=paths[order].tolist())
    found, straight = mivrat.compare(a, b), mivrat.compare(a, mivrat.from_scores(labels, later, NAMES), same_rows=True)
    right = scores.argmax(axis=1) == labels, later.argmax(axis=1) == labels
    assert found.same_images
    assert found.n == 80
    assert found.top1.value == straight.top1.value == pytest.approx(np.mean(right[1]) - np.mean(right[0]))
    assert (found.top1.low, found.top1.high, found.top1.p) == (straight.top1.low, straight.top1.high, straight.top1.p)
    assert found.counts["fixed"] == int((~right[0] & right[1]).sum())
    assert set(found.changed["path"]) == set(paths[right[0] != right[1]])


def test_rows_are_no_names_unless_that_is_said() -> None:
    labels, scores = made(7, 80)
    a, b = mivrat.from_scores(labels, scores, NAMES), mivrat.from_scores(labels, scores * 2, NAMES)
    with pytest.raises(mivrat.InputError, match="nothing says which image is which"):
        mivrat.compare(a, b)
    assert mivrat.compare(a, b, same_rows=True).counts["fixed"] == 0
    assert mivrat.compare(a, a, same_rows=True).top1.value == 0
    shuffled = mivrat.from_scores(labels[::-1], scores[::-1], NAMES)
    with pytest.raises(mivrat.InputError, match="different labels"):
        mivrat.compare(a, shuffled, same_rows=True)
    shorter = mivrat.from_scores(labels[:40], scores[:40], NAMES)
    with pytest.raises(mivrat.InputError, match="different labels"):
        mivrat.compare(a, shorter, same_rows=True)


def test_runs_of_unequal_sets_share_what_both_have() -> None:
    labels, scores = made(7, 80)
    paths = [f"{i:03}.png" for i in range(80)]
    a = mivrat.from_scores(labels, scores, NAMES, paths=paths)
    b = mivrat.from_scores(labels[:30], scores[:30] + 1e-3, NAMES, paths=paths[:30])
    assert mivrat.compare(a, b).n == mivrat.compare(b, a).n == 30
    apart = mivrat.from_scores(labels[:30], scores[:30] + 1e-3, NAMES, paths=[f"other/{one}" for one in paths[:30]])
    found = mivrat.compare(a, apart)
    assert not found.same_images
    for asked in ("counts", "changed"):
        with pytest.raises(mivrat.InputError, match="of two sets"):
            getattr(found, asked)
    with pytest.raises(mivrat.InputError, match="of two sets"):
        found.by("site")
    assert found.classes.height == 4
