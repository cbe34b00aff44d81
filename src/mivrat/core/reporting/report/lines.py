"""The figures of a report as lines: headline, confidence, classes, commonest mistakes and groups, each with its interval."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from mivrat.core.base.numbers import decimal, percent, span
from mivrat.core.base.text import count, plural
from mivrat.core.checks.result import in_words
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.formatting import difference_told, share_told
from mivrat.core.figures.groups import Group
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.metrics import METRICS, metric
from mivrat.core.figures.ranked import mean_of
from mivrat.core.figures.uncertainty import FEW_UNITS, NAMES, Intervals
from mivrat.core.running.slow_figures import SlowFigures

# So many of the commonest mistakes are listed.
MOST_PAIRS = 20


@dataclass(frozen=True)
class FigureLine:
    """A figure: its name, what it comes to, its interval, what it is of, and how it was worked out."""

    name: str
    value: str
    interval: str
    of: str
    how: str


@dataclass(frozen=True)
class ClassLine:
    """A class: its name, labelled and predicted images, recall, precision and F1 in words, and recall as it is drawn."""

    name: str
    support: int
    predicted: int
    recall: str
    recall_interval: str
    precision: str
    precision_interval: str
    f1: str
    drawn: tuple[float | None, float | None, float | None]


@dataclass(frozen=True)
class PairLine:
    """A common mistake: label, prediction, how many images, and their share of those with that label."""

    label: str
    predicted: str
    images: int
    share: str
    interval: str


@dataclass(frozen=True)
class GroupLine:
    """A group: its name, images, the share right with its interval, and how it stands against the rest."""

    name: str
    images: str
    right: str
    interval: str
    against_rest: str


def _how(share: Proportion) -> str:
    if share.units is None:
        return "Wilson score"
    if share.low is None:
        return f"none: {plural(share.units, 'unit')} are too few"
    few = "; that few units say little" if share.units < FEW_UNITS else ""
    return f"over {plural(share.units, 'unit')} (Wilson, Student's t){few}"


def _how_made(intervals: Intervals | None, key: str) -> str:
    told = intervals.how(key) if intervals is not None else "No interval is computed."
    told = told.removeprefix("Interval: ").removesuffix("; 95 %.").rstrip(".")
    return told if told.startswith("Wilson") else f"{told[:1].lower()}{told[1:]}"


def headline_lines(ground: EvaluationContext, deep: SlowFigures | None) -> tuple[FigureLine, ...]:
    figures = ground.snapshot.figures
    if not figures.total:
        return ()
    found = [
        FigureLine(f"Top-{k} accuracy", *share_told(share), f"N = {count(share.total)}", _how(share))
        for k, share in figures.top_k.items()
    ]
    families = ground.snapshot.record.families
    if families:
        share = ground.snapshot.judged.within_family(families)
        found.append(
            FigureLine(metric("family_accuracy").name, *share_told(share), f"N = {count(share.total)}", _how(share))
        )
    found += _as_corrected(ground)
    intervals = deep.intervals if deep is not None else None
    values: list[tuple[str, str, float | None, bool]] = []
    for record in METRICS:
        if record.in_report and record.read is not None and record.needs != "confidence":
            value = record.read(figures)
            assert not isinstance(value, Proportion)
            values.append((record.key, record.name, value, record.in_percent))
    if deep is not None and deep.ranked is not None:
        values += [
            ("macro_auroc", "Macro AUROC", mean_of(deep.ranked.auroc), False),
            ("macro_average_precision", "Macro average precision", mean_of(deep.ranked.average_precision), False),
        ]
    for key, name, value, in_percent in values:
        interval = intervals.of.get(key) if intervals is not None else None
        shown = percent if in_percent else decimal
        ends = span(interval.low, interval.high, *(() if in_percent else (1, 3))) if interval is not None else ""
        how = _how_made(intervals, key) if key in NAMES else "no interval is computed"
        found.append(FigureLine(name, shown(value), ends, f"N = {count(figures.total)}", how))
    return tuple(found)


def _as_corrected(ground: EvaluationContext) -> list[FigureLine]:
    """The accuracy by the labels that were proposed instead of wrong ones; nothing where none was."""
    proposed, judged = ground.reviews.proposed(), ground.snapshot.judged
    if not proposed:
        return []
    again = judged.relabelled(proposed)
    share = again.share(again.right, again.evaluated)
    how = f"{_how(share)}; only suspected labels were looked at, so it leans towards the model"
    name = f"Top-1 accuracy with {plural(len(proposed), 'label')} corrected"
    return [FigureLine(name, *share_told(share), f"N = {count(share.total)}", how)]


def class_line(name: str, one: Any) -> ClassLine:
    recall, recall_ends = share_told(one.recall)
    precision, precision_ends = share_told(one.precision)
    drawn = (one.recall.value, one.recall.low, one.recall.high)
    return ClassLine(
        name, one.support, one.predicted, recall, recall_ends, precision, precision_ends, percent(one.f1), drawn
    )


def pair_lines(ground: EvaluationContext) -> tuple[PairLine, ...]:
    """The commonest mistakes, each with the share of its label's images that are taken so."""
    judged, classes = ground.snapshot.judged, ground.classes
    matrix = ground.snapshot.figures.matrix.copy()
    np.fill_diagonal(matrix, 0)
    order = np.argsort(-matrix, axis=None, kind="stable")[:MOST_PAIRS]
    found = []
    for a, b in zip(*np.unravel_index(order, matrix.shape), strict=True):
        if matrix[a, b]:
            share = judged.share(judged.predicted == b, judged.evaluated & (judged.labels == a))
            found.append(PairLine(classes[a], classes[b], int(matrix[a, b]), *share_told(share)))
    return tuple(found)


def calibration_lines(ground: EvaluationContext, deep: SlowFigures | None) -> tuple[FigureLine, ...]:
    figures = ground.snapshot.figures
    found, intervals = figures.calibration, deep.intervals if deep is not None else None
    if found.ece is None:
        return ()
    interval = intervals.of.get("ece") if intervals is not None else None
    ends = span(interval.low, interval.high) if interval is not None else ""
    of = f"N = {count(figures.total)}"
    how = _how_made(intervals, "ece")
    lines = [FigureLine(f"{metric('ece').name}, {len(found.bins)} bins", percent(found.ece), ends, of, how)]
    if deep is not None and deep.chance is not None:
        told = f"{percent(deep.chance.median)}, up to {percent(deep.chance.high)}"
        lines.append(
            FigureLine(
                "… of a perfectly calibrated model at this N",
                told,
                "",
                of,
                "labels drawn from the probabilities, 1,000 draws",
            )
        )
    ends_of = intervals.of.get("signed_gap") if intervals is not None else None
    gap, ends = difference_told(
        found.signed_gap, *((ends_of.low, ends_of.high) if ends_of is not None else (None, None))
    )
    how = f"{_how_made(intervals, 'signed_gap')}; above 0: overconfident"
    lines.append(FigureLine(f"{metric('signed_gap').name}, points", gap, ends, of, how))
    lines.append(FigureLine(metric("mce").name, percent(found.mce), "", of, ""))
    if deep is not None and deep.temperature is not None and deep.temperature.identifiable:
        t = deep.temperature
        lines.append(
            FigureLine(
                "Temperature that would fit",
                f"{t.value:.2f}",
                "",
                of,
                f"ECE out of fold {percent(t.ece_before)} → {percent(t.ece_after)}",
            )
        )
    return tuple(lines)


def group_line(one: Group) -> GroupLine:
    value, ends = share_told(one.accuracy)
    return GroupLine(one.name, count(one.accuracy.total), value, ends, f"p {in_words(one.p)}")
