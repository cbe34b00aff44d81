"""The curves of a training log: losses and accuracies by epoch or step, where the best one was, and where the gap opens."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.numbers import percent
from mivrat.core.base.tables import read_columns
from mivrat.core.base.text import quoted

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

# The gap counts as open where it stays so many times its own scatter above its smallest.
SCATTERS = 3.0
# Whether it still improved is told from this share at the end, and from no fewer points.
LAST, FEWEST = 0.2, 6
_MINUS_LN_HALF = 0.6744897501960817  # the median of |z| of a standard normal

_STEP = re.compile(r"^(epochs?|steps?|global[ _-]?steps?|iter(ation)?s?|batch(es)?)$")
_LOSS, _RIGHT = re.compile(r"loss|nll|cross[ _-]?entropy"), re.compile(r"acc|top[ _@-]?1|correct")
_HELD_OUT = re.compile(r"(^|[^a-z])(v|val|valid|validation|dev|eval|test)([^a-z]|$)|^val|validation")

Curve = NDArray[np.float64]


@dataclass(frozen=True)
class Roles:
    """Which column is what; empty where there is none."""

    step: str = ""
    training_loss: str = ""
    validation_loss: str = ""
    training_accuracy: str = ""
    validation_accuracy: str = ""


SERIES = ("training_loss", "validation_loss", "training_accuracy", "validation_accuracy")


@dataclass(frozen=True)
class TrainingLog:
    """A log as it was read: ``columns`` of numbers (NaN: empty) by name, in the order of the file."""

    path: Path
    columns: Mapping[str, Curve]

    @property
    def rows(self) -> int:
        return len(next(iter(self.columns.values())))


def read_training_log(path: Path) -> TrainingLog:
    """The numeric columns of a CSV, TSV or JSON Lines log, one row an epoch or step. InputError where there are none."""
    table = read_columns(path)
    found: dict[str, Curve] = {}
    for name in table.columns:
        try:
            text = table[name].cast(pl.String).str.strip_chars().replace("", None)
            values = text.cast(pl.Float64).fill_null(float("nan")).to_numpy().astype(np.float64)
        except pl.exceptions.PolarsError:
            continue  # words, such as a date or a name
        if np.isfinite(values).any():
            found[name] = values
    if not table.height or len(found) < 2:
        raise InputError(
            f"is not a training log: it has {table.height} rows and the columns {quoted(table.columns)}",
            where=path,
            hint="give a row for each epoch or step, with a column for it and one for each loss or accuracy",
        )
    return TrainingLog(path, found)


def guess_roles(names: Sequence[str]) -> Roles:
    """Which column is what, by their names; of several that could be the same the first."""
    found: dict[str, str] = {}
    for name in names:
        plain = name.strip().lower()
        if _STEP.match(plain):
            found.setdefault("step", name)
            continue
        what = "loss" if _LOSS.search(plain) else "accuracy" if _RIGHT.search(plain) else ""
        if what:
            part = "validation" if _HELD_OUT.search(plain) else "training"
            found.setdefault(f"{part}_{what}", name)
    return Roles(**found)


def roles_from(data: Mapping[str, object], names: Sequence[str]) -> Roles:
    """Roles as they were kept; what names no column is left out.

    ``names`` are the columns of the log; returns which of them is the epoch, the losses and the accuracies.
    """
    known = {field.name for field in fields(Roles)}
    return Roles(**{role: str(name) for role, name in data.items() if role in known and name in names})


def roles_as_data(roles: Roles) -> dict[str, str]:
    return asdict(roles)


@dataclass(frozen=True)
class Overfitting:
    """From ``since`` (an epoch or step) to ``until`` validation loss rises while training loss falls; each from what it was there to
    what it is at the end, smoothed over five points."""

    since: float
    until: float
    validation: tuple[float, float]
    training: tuple[float, float]

    def sentence(self) -> str:
        (low, high), (first, last) = self.validation, self.training
        share = f", {percent(high / low - 1, 0)} more" if low > 0 else ""
        return (
            f"Overfitting: from {self.since:g} to {self.until:g} validation loss rises by {high - low:.3g} (from {low:.3g} to {high:.3g}{share}) "
            f"while training loss falls from {first:.3g} to {last:.3g}."
        )


@dataclass(frozen=True)
class Training:
    """Curves over ``step`` (rising), NaN where a row says nothing; accuracies from 0 to 1. ``best`` is the place of the best
    validation value, ``best_by`` which curve says so; ``gap_opens`` where validation and training loss part for good;
    ``improving`` whether the validation value was still getting better at the end (None: too few points to tell)."""

    step: Curve
    curves: dict[str, Curve]
    best: int | None
    best_by: str
    gap_opens: int | None
    improving: bool | None
    in_percent: tuple[str, ...] = ()
    overfitting: Overfitting | None = None

    def sentences(self) -> list[str]:
        """What the curves say, in words."""
        told = []
        if self.best is None:
            return ["The log has no validation curve, so it is unknown whether the model was trained too long."]
        value = self.curves[self.best_by][self.best]
        what = self.best_by.replace("_", " ")
        shown = percent(value) if self.best_by.endswith("accuracy") else f"{value:.4g}"
        told.append(f"Best {what}: {shown} at {self.step[self.best]:g}, of {self.step[0]:g} to {self.step[-1]:g}.")
        if self.overfitting is not None:
            told.append(self.overfitting.sentence())
        if self.gap_opens is not None:
            told.append(
                f"From {self.step[self.gap_opens]:g} on validation loss stays above training loss by more than scatter explains."
            )
        elif "training_loss" in self.curves and "validation_loss" in self.curves:
            told.append("Training and validation loss do not part beyond their scatter.")
        if self.improving is not None:
            told.append("At the end it was still improving." if self.improving else "At the end it no longer improved.")
        return told


def training(log: TrainingLog, roles: Roles) -> Training:
    """The curves by their roles and what they say. Without a step column rows count from 1. InputError without any curve."""
    named = {series: name for series in SERIES if (name := getattr(roles, series))}
    if not named:
        raise InputError(
            "no column is named for a loss or an accuracy", where=log.path, hint="say which column is which"
        )
    step = log.columns[roles.step] if roles.step else np.arange(1.0, log.rows + 1)
    known = np.isfinite(step)
    order = np.flatnonzero(known)[np.argsort(step[known], kind="stable")]
    curves, in_percent = {}, []
    for series, name in named.items():
        values = log.columns[name][order]
        if series.endswith("accuracy") and np.nanmax(values, initial=0.0, where=np.isfinite(values)) > 1.5:
            values = values / 100
            in_percent.append(name)
        curves[series] = np.where(np.isfinite(values), values, np.nan)
    best_by = next(
        (s for s in ("validation_loss", "validation_accuracy") if s in curves and np.isfinite(curves[s]).any()), ""
    )
    best = None
    if best_by:
        best = int(np.nanargmin(curves[best_by]) if best_by.endswith("loss") else np.nanargmax(curves[best_by]))
    opens, over = None, None
    if "training_loss" in curves and "validation_loss" in curves:
        opens = gap_opens(curves["training_loss"], curves["validation_loss"])
        over = overfitting(step[order], curves["training_loss"], curves["validation_loss"])
    improving = _improving(curves.get(best_by), best_by)
    return Training(step[order], curves, best, best_by, opens, improving, tuple(in_percent), over)


def smoothed(values: Curve, window: int) -> Curve:
    """The mean over a window of points around each (fewer at the ends), of those that are known; NaN stays NaN."""
    known = np.isfinite(values)
    sums = np.cumsum(np.concatenate([[0.0], np.where(known, values, 0.0)]))
    counts = np.cumsum(np.concatenate([[0], known]))
    half = window // 2
    low = np.maximum(0, np.arange(len(values)) - half)
    high = np.minimum(len(values), np.arange(len(values)) + half + 1)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(known, (sums[high] - sums[low]) / (counts[high] - counts[low]), np.nan)


def gap_opens(training_loss: Curve, validation_loss: Curve) -> int | None:
    """The first place from which on the gap between both losses, smoothed over five points, stays above its smallest by more than
    SCATTERS times the scatter of the gap (median absolute difference from point to point, as a standard deviation); None where
    it never does for good."""
    both = np.flatnonzero(np.isfinite(training_loss) & np.isfinite(validation_loss))
    if len(both) < FEWEST:
        return None
    gap = validation_loss[both] - training_loss[both]
    scatter = float(np.median(np.abs(np.diff(gap)))) / _MINUS_LN_HALF / np.sqrt(2)
    calm = smoothed(gap, 5)
    wide = calm - calm.min() > max(SCATTERS * scatter, 1e-12)
    closed = np.flatnonzero(~wide)
    first = int(closed[-1]) + 1  # the smallest gap itself is never wide
    # What only the last point or two shows is no opening.
    return int(both[first]) if len(both) - first >= 3 else None


def overfitting(step: Curve, training_loss: Curve, validation_loss: Curve) -> Overfitting | None:
    """Whether, behind the lowest validation loss, that loss rises while training loss falls: both in rank (Kendall's test, one-sided,
    2.5 % and 5 %), and so that the ends, smoothed, say the same. None where they do not, or fewer than FEWEST points are left.

    The lowest point itself is left out: it was chosen for being low, those behind it were not.
    """
    both = np.flatnonzero(np.isfinite(training_loss) & np.isfinite(validation_loss))
    if not len(both):
        return None
    best = int(np.argmin(validation_loss[both]))
    behind = both[best + 1 :]
    if len(behind) < FEWEST:
        return None
    from scipy.stats import kendalltau

    at = np.arange(len(behind))
    for values, way, level in ((validation_loss, "greater", 0.025), (training_loss, "less", 0.05)):
        if np.ptp(values[behind]) == 0 or not kendalltau(at, values[behind], alternative=way).pvalue < level:
            return None
    calm = [smoothed(one[both], 5) for one in (validation_loss, training_loss)]
    (low, high), (first, last) = ((float(one[best]), float(one[-1])) for one in calm)
    if high <= low or last >= first:
        return None
    return Overfitting(float(step[both[best]]), float(step[both[-1]]), (low, high), (first, last))


def _improving(values: Curve | None, best_by: str) -> bool | None:
    """Whether the last values rank in the order of getting better (Kendall's test, one-sided, 5 %)."""
    if values is None:
        return None
    known = values[np.isfinite(values)]
    last = known[-max(FEWEST, round(LAST * len(known))) :]
    if len(last) < FEWEST:
        return None
    if np.ptp(last) == 0:
        return False
    better = "less" if best_by.endswith("loss") else "greater"
    from scipy.stats import kendalltau

    return bool(kendalltau(np.arange(len(last)), last, alternative=better).pvalue < 0.05)
