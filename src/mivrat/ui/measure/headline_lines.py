"""The headline figures ready to show, each with its interval, N and how it is computed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mivrat.core.base.numbers import DASH, bounds, decimal, percent, span
from mivrat.core.comparing.holding import headline_differences
from mivrat.core.figures.confusion import ClassFigures
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion, significantly_below
from mivrat.core.figures.metrics import METRICS, Metric, metric
from mivrat.ui import words
from mivrat.workspace.workspace import Workspace

NEED_SCORES = "Not available: it needs a score for every class, which this run has not."


@dataclass(frozen=True)
class HeadlineFigure:
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


def headline_lines(workspace: Workspace) -> list[HeadlineFigure]:
    """The headline figures of what is measured; intervals that are no Wilson intervals come with the slow figures."""
    measured, snapshot = workspace.shown.results.measured, workspace.shown.snapshot
    figures, deep = measured.figures, measured.deep
    n = figures.total

    def share(name: str, key: str, found: Proportion, how: str, k: int = 0) -> HeadlineFigure:
        ends = None if found.value is None else (found.value, found.low, found.high)
        told = f"{how} {words.how(found)}"
        return HeadlineFigure(name, percent(found.value), bounds(found), found.total, told, key, ends, k)

    def of_metric(one: Metric) -> HeadlineFigure:
        assert one.read is not None
        value, intervals = one.read(figures), deep.intervals if deep is not None else None
        assert not isinstance(value, Proportion)
        interval = intervals.of.get(one.key) if intervals is not None else None
        how, bounds = " ".join(part for part in (f"{_sentence(one.meaning)}.", one.remark(figures)) if part), ""
        if one.key == "ece" and deep is not None and deep.chance is not None:
            how += f" A perfectly calibrated model would show {percent(deep.chance.median)} here, in 95 % of cases below {percent(deep.chance.high)}."
        low, high = (interval.low, interval.high) if interval is not None else (None, None)
        if intervals is not None:
            how = f"{how} {intervals.how(one.key)}"
            bounds = span(low, high, *(() if one.in_percent else (1, 3)))
            bounds = bounds or ("no interval" if one.key in intervals.missing else "")
        most = one.counted is not None and one.counted.over_classes and value is not None
        shown = percent(value) if one.in_percent else decimal(value)
        return HeadlineFigure(
            one.called, shown, bounds, n, how, one.key, (value, low, high) if most and value is not None else None
        )

    lines = []
    for k, found in figures.top_k.items():
        record = metric(f"top{k}")
        lines.append(share(record.called, record.key, found, f"{_sentence(record.meaning)}.", k))
    families = snapshot.record.families
    if families:
        record = metric("family_accuracy")
        how = f"{_sentence(record.meaning)} ({len(set(families.values()))} families)."
        lines.insert(1, share(record.called, "family", snapshot.judged.within_family(families, measured.among), how))
    shown = [one for one in METRICS if one.in_headline]
    without_scores = not snapshot.judged.has_scores
    for one in shown:
        if one.needs == "confidence" and figures.calibration.ece is None:
            continue
        if one.needs == "scores" and figures.log_loss is None:
            if without_scores:
                lines.append(HeadlineFigure(one.called, DASH, "", 0, NEED_SCORES))
            continue
        lines.append(of_metric(one))
    if without_scores and 5 not in figures.top_k:
        lines.insert(len(figures.top_k) + bool(families), HeadlineFigure("top-5 accuracy", DASH, "", 0, NEED_SCORES))
    return lines


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"


def below_accuracy(
    workspace: Workspace, share: Callable[[ClassFigures], Proportion] = lambda one: one.recall
) -> frozenset[int]:
    """The classes whose share lies significantly below the accuracy over all classes: each tested by its interval, corrected over all
    classes (Holm), since all of them are looked at."""
    figures = workspace.shown.results.measured.figures
    return frozenset(significantly_below([share(one) for one in figures.classes], figures.top_k[1].value))


def _held(workspace: Workspace) -> list[tuple[Metric, Difference]]:
    """The headline figures of the run held, where they are of the same images as those shown."""
    shown = workspace.shown
    if shown.compared is None or shown.compared.of_selection != shown.results.measured.of_selection:
        return []
    return headline_differences(shown.compared)


def held_values(workspace: Workspace) -> dict[str, str]:
    """What the run held has for the headline figures, by what these are called."""
    return {one.called: percent(found.b) if one.in_percent else decimal(found.b) for one, found in _held(workspace)}


def other_values(workspace: Workspace) -> dict[str, float]:
    """The same as numbers, by key."""
    return {one.key: found.b for one, found in _held(workspace) if found.b is not None}
