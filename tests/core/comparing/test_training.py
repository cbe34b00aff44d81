"""Training logs: every kind of file, columns guessed by name, and curves whose course is known."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.training import (
    Roles,
    gap_opens,
    guess_roles,
    overfitting,
    read_training_log,
    roles_as_data,
    roles_from,
    smoothed,
    training,
)


@pytest.mark.parametrize(
    ("names", "roles"),
    [
        (
            ["epoch", "loss", "val_loss", "accuracy", "val_accuracy"],
            Roles("epoch", "loss", "val_loss", "accuracy", "val_accuracy"),
        ),
        (
            ["Step", "train/loss", "valid/loss", "train/top1", "valid/top1", "lr"],
            Roles("Step", "train/loss", "valid/loss", "train/top1", "valid/top1"),
        ),
        (["global_step", "training loss", "Validation Loss"], Roles("global_step", "training loss", "Validation Loss")),
        (["iteration", "cross-entropy (dev)", "acc"], Roles("iteration", "", "cross-entropy (dev)", "acc")),
        (["time", "value"], Roles()),
    ],
)
def test_columns_are_guessed_from_their_names(names: list[str], roles: Roles) -> None:
    assert guess_roles(names) == roles
    assert roles_from(roles_as_data(roles), names) == roles
    assert roles_from({"step": "gone", "other": "x"}, names) == Roles()


def write(path: Path, columns: dict[str, list[object]]) -> Path:
    rows = [dict(zip(columns, row, strict=True)) for row in zip(*columns.values(), strict=True)]
    if path.suffix == ".jsonl":
        path.write_text("".join(json.dumps({k: v for k, v in row.items() if v != ""}) + "\n" for row in rows))
    else:
        sign = "," if path.suffix == ".csv" else "\t"
        path.write_text("\n".join([sign.join(columns), *(sign.join(map(str, row.values())) for row in rows)]) + "\n")
    return path


@pytest.mark.parametrize("ending", [".csv", ".tsv", ".jsonl"])
def test_a_log_is_read_from_any_kind_of_file(tmp_path: Path, ending: str) -> None:
    """Rows out of order, validation only now and then, accuracy in percent, a column of words."""
    log = read_training_log(
        write(
            tmp_path / f"log{ending}",
            {
                "epoch": [3, 1, 2, 4],
                "note": ["c", "a", "b", "d"],
                "loss": [0.5, 1.5, 1.0, 0.25],
                "val_acc": [80, 50, "", 70],
            },
        )
    )
    assert set(log.columns) == {"epoch", "loss", "val_acc"}
    found = training(log, guess_roles(list(log.columns)))
    assert found.step.tolist() == [1, 2, 3, 4]
    assert found.curves["training_loss"].tolist() == [1.5, 1.0, 0.5, 0.25]
    assert found.curves["validation_accuracy"] == pytest.approx([0.5, np.nan, 0.8, 0.7], nan_ok=True)
    assert found.in_percent == ("val_acc",)
    assert (found.best, found.best_by, found.improving, found.gap_opens) == (2, "validation_accuracy", None, None)
    assert found.sentences()[0] == "Best validation accuracy: 80.0 % at 3, of 1 to 4."
    without = training(log, Roles(training_loss="loss"))
    assert without.step.tolist() == [1, 2, 3, 4]
    assert "has no validation curve" in without.sentences()[0]
    with pytest.raises(InputError, match="no column is named"):
        training(log, Roles(step="epoch"))


def test_what_is_no_log_is_refused(tmp_path: Path) -> None:
    for name, text in (("a.csv", "epoch,loss\n"), ("b.csv", "name,other\nx,y\n"), ("c.jsonl", "not json\n")):
        (tmp_path / name).write_text(text)
        with pytest.raises(InputError):
            read_training_log(tmp_path / name)
    with pytest.raises(InputError):
        read_training_log(tmp_path / "none.csv")


def curves(rng: np.random.Generator, opens: int, total: int = 60) -> tuple[np.ndarray, np.ndarray]:
    """Both losses fall together until a place, from where validation loss rises."""
    at = np.arange(total)
    fell = 0.3 + 1.5 * np.exp(-at / 12)
    gap = 0.1 + 0.03 * np.maximum(0, at - opens)
    return fell + rng.normal(0, 0.01, total), fell + gap + rng.normal(0, 0.01, total)


def test_where_the_gap_opens() -> None:
    for seed in range(20):
        rng = np.random.default_rng(seed)
        found = gap_opens(*curves(rng, 25))
        assert found is not None
        assert 25 <= found <= 30
        assert gap_opens(*curves(rng, 100)) is None
    assert gap_opens(np.zeros(5), np.ones(5)) is None
    assert gap_opens(np.zeros(9), np.ones(9)) is None  # wide, but no wider than ever


def test_whether_it_still_improved(tmp_path: Path) -> None:
    falling, flat = [2 - 0.03 * i for i in range(40)], [2 - 0.03 * min(i, 20) + 0.001 * (i % 2) for i in range(40)]
    for name, values, improving in (("falling", falling, True), ("flat", flat, False), ("constant", [1.0] * 40, False)):
        log = read_training_log(write(tmp_path / f"{name}.csv", {"epoch": list(range(40)), "val_loss": values}))
        found = training(log, guess_roles(list(log.columns)))
        assert found.improving is improving, name
        said = found.sentences()[-1]
        assert said == ("At the end it was still improving." if improving else "At the end it no longer improved.")


def test_smoothing_is_the_mean_of_what_is_known_around() -> None:
    values = np.array([1.0, 2.0, np.nan, 4.0, 10.0])
    assert smoothed(values, 3) == pytest.approx([1.5, 1.5, np.nan, 7.0, 7.0], nan_ok=True)
    assert smoothed(values, 1) == pytest.approx(values, nan_ok=True)


def test_overfitting_is_found_with_its_epoch_and_size_and_rarely_where_there_is_none() -> None:
    """Validation loss that turns at epoch 15 is found in every draw; one that levels off, or falls on, once in forty or fewer."""
    rng, step = np.random.default_rng(4), np.arange(1.0, 41.0)

    def drawn(rise: float, fall: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
        down = np.exp(-step / 5)
        lower = 1.2 * np.exp(-step / 8) + rng.normal(0, 0.01, 40)
        turned = np.maximum(0, step - 15)
        return lower, 0.4 + down + (rise - fall) * turned + rng.normal(0, 0.01, 40)

    for _ in range(40):
        found = overfitting(step, *drawn(0.01))
        assert found is not None
        assert 11 <= found.since <= 19
        assert found.until == 40
        assert found.validation[1] - found.validation[0] == pytest.approx(0.19, abs=0.07)
        assert found.training[1] < found.training[0]
        assert found.sentence().startswith(f"Overfitting: from {found.since:g} to 40 validation loss rises by 0.")
    level = sum(overfitting(step, *drawn(0.0)) is not None for _ in range(600))
    falling = sum(overfitting(step, *drawn(0.0, 0.002)) is not None for _ in range(200))
    assert level <= 0.04 * 600
    assert falling <= 0.02 * 200
    lower, upper = drawn(0.01)
    assert overfitting(step, np.full(40, 0.3), upper) is None  # training does not fall: no overfitting
    assert overfitting(step[:8], lower[:8], upper[:8]) is None
