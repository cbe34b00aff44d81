"""The headline figures ready to show, each with its interval, N and how it is computed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mivrat.core.base.numbers import DASH, bounds, decimal, percent, span
from mivrat.core.comparing.holding import IN_POINTS, headline_differences
from mivrat.core.figures.confusion import ClassFigures
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion, significantly_below
from mivrat.ui import words
from mivrat.workspace.workspace import Workspace

NEED_SCORES = ("top-5 accuracy", "log loss", "Brier score")


@dataclass(frozen=True)
class Line:
    """One headline figure ready to show. ``share`` is its value and the ends of its interval where more is better and 1 is the
    most, ``beyond`` of a top-k accuracy its k."""

    name: str
    value: str
    interval: str
    total: int
    how: str
    key: str = ""
    share: tuple[float, float | None, float | None] | None = None
    beyond: int = 0


def headline_lines(workspace: Workspace) -> list[Line]:
    """The headline figures of what is measured; intervals that are no Wilson intervals come with the slow figures."""
    measured, snapshot = workspace.shown.measured, workspace.shown.snapshot
    figures, deep = measured.figures, measured.deep
    n = figures.total

    def share(name: str, key: str, found: Proportion, how: str, k: int = 0) -> Line:
        ends = None if found.value is None else (found.value, found.low, found.high)
        told = f"{how} {words.how(found)}"
        return Line(name, percent(found.value), bounds(found), found.total, told, key, ends, k)

    def mean(
        name: str, key: str, value: float | None, how: str, *, in_percent: bool = True, best: bool = False
    ) -> Line:
        interval = deep.intervals.of.get(key) if deep is not None and deep.intervals is not None else None
        bounds = ""
        if interval is not None and deep is not None and deep.intervals is not None:
            bounds = span(interval.low, interval.high, *(() if in_percent else (1, 3)))
        if deep is not None and deep.intervals is not None:
            how = f"{how} {deep.intervals.how(key)}"
            bounds = bounds or ("no interval" if key in deep.intervals.missing else "")
        low, high = (interval.low, interval.high) if interval is not None else (None, None)
        ends = (value, low, high) if best and value is not None else None
        return Line(name, percent(value) if in_percent else decimal(value), bounds, n, how, key, ends)

    lines = []
    for k, found in figures.top_k.items():
        meaning = (
            "Share of images whose highest score is the labelled class's."
            if k == 1
            else f"Share of images whose labelled class is among the {k} highest scores."
        )
        lines.append(share(f"top-{k} accuracy", f"top{k}", found, meaning, k))
    families = snapshot.record.families
    if families:
        within = snapshot.judged.within_family(families, measured.among)
        how = f"Share of images whose predicted class is of the labelled class's family ({len(set(families.values()))} families)."
        lines.insert(1, share("accuracy within family", "family", within, how))
    averages, missing = figures.averages, sum(c.support == 0 for c in figures.classes)
    without = f" {missing} classes without images are left out." if missing else ""
    how = f"Mean recall over the classes that have images.{without}"
    lines.append(mean("balanced accuracy", "balanced_accuracy", averages.balanced_accuracy, how, best=True))
    undefined = averages.undefined_precision
    counted = f" Precision is undefined for {undefined} of them." if undefined else ""
    how = f"Mean F1 over the classes that have images; an undefined F1 counts as 0.{counted}"
    lines.append(mean("macro F1", "macro_f1", averages.macro_f1, how, best=True))
    how = "Multiclass Matthews correlation of labels and predictions (Gorodkin 2004): 0 is chance, 1 is perfect."
    lines.append(mean("MCC", "mcc", averages.mcc, how, in_percent=False))
    if not snapshot.judged.has_scores:
        why = "Not available: it needs a score for every class, and the table has predictions only."
        lines += [Line(name, DASH, "", 0, why) for name in NEED_SCORES]
    if figures.log_loss is not None:
        clipped = (
            f" {figures.log_loss.clipped} images had p below 2⁻⁵² and were counted as 2⁻⁵²."
            if figures.log_loss.clipped
            else ""
        )
        how = f"Mean of −ln p of the labelled class, in nats; lower is better.{clipped}"
        lines.append(mean("log loss", "log_loss", figures.log_loss.value, how, in_percent=False))
        how = "Mean over images of the squared error of all class probabilities, 0 to 2; lower is better."
        lines.append(mean("Brier score", "brier", figures.brier, how, in_percent=False))
    if figures.calibration.ece is not None:
        how = f"Expected calibration error: mean gap between confidence and accuracy over {len(figures.calibration.bins)} bins of equal width, weighted by images. It reads too high at small N."
        if deep is not None and deep.chance is not None:
            how += f" A perfectly calibrated model would show {percent(deep.chance.median)} here, in 95 % of cases below {percent(deep.chance.high)}."
        lines.append(mean("ECE", "ece", figures.calibration.ece, how))
    return lines


def below_accuracy(
    workspace: Workspace, share: Callable[[ClassFigures], Proportion] = lambda one: one.recall
) -> frozenset[int]:
    """The classes whose share lies significantly below the accuracy over all classes: each tested by its interval, corrected over all
    classes (Holm), since all of them are looked at."""
    figures = workspace.shown.measured.figures
    return frozenset(significantly_below([share(one) for one in figures.classes], figures.top_k[1].value))


def _held(workspace: Workspace) -> list[tuple[str, str, Difference]]:
    """The headline figures of the run held, where they are of the same images as those shown: key, name, difference."""
    shown = workspace.shown
    if shown.compared is None or shown.compared.of_selection != shown.measured.of_selection:
        return []
    return headline_differences(shown.compared)


def held_values(workspace: Workspace) -> dict[str, str]:
    """What the run held has for the headline figures, by name."""
    return {
        name: percent(one.b) if key.startswith("top") or key in IN_POINTS else decimal(one.b)
        for key, name, one in _held(workspace)
    }


def other_values(workspace: Workspace) -> dict[str, float]:
    """The same as numbers, by key."""
    return {key: one.b for key, _, one in _held(workspace) if one.b is not None}
