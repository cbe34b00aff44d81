"""The headline figures of both runs as lines of a table, each with its difference and the images it comes from."""

from __future__ import annotations

from functools import partial

import numpy as np

from mivrat.core.base.numbers import DASH, decimal, percent, signed, signed_span
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.holding import Compared, headline_differences
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.probability import losses, squared_errors
from mivrat.core.figures.uncertainty import LEAST, LEAST_FOR_ECE
from mivrat.core.selecting.selection import Condition, Outcome, Picked
from mivrat.ui.compare.lines import Drawn, TableCell, TableColumn, TableLine

FIGURES = (
    TableColumn("figure"),
    TableColumn("a", 63, True),
    TableColumn("b", 63, True),
    TableColumn("difference", 78, True),
    TableColumn("95 % interval", 130, True),
    TableColumn("", 74, gives_way=True),
)


def _how(key: str, one: Difference, compared: Compared) -> str:
    """How a difference's interval was made."""
    paired = compared.found.paired is not None
    over = f" over units of '{compared.found.unit_column}'" if compared.found.unit_column else ""
    if one.low is None:
        if one.value is None or not compared.found.either.with_intervals:
            return ""
        if key == "ece":
            return (
                f"No interval: fewer than {LEAST_FOR_ECE} images, too few units, or all images are answered the same."
            )
        return f"No interval: fewer than {LEAST} images, too few of some class, too few units, or all images are answered the same."
    if key.startswith("top"):
        test = "McNemar's exact test" if paired else "Fisher's exact test"
        p = f" {test}: p {in_words(one.p)}." if one.p is not None else ""
        return f"Interval: Newcombe 1998, {'paired data' if paired else 'two sets'}, method 10, 95 %{over}.{p}"
    if key == "balanced_accuracy":
        return f"Interval: those of the classes' recall combined (Zou and Donner 2008), 95 %{over}."
    which = "those of both runs, each less what chance adds to it, combined (Zou and Donner 2008)"
    if key != "ece" and paired:
        which = "a jackknife that leaves each image out of both at once"
        if key in ("log_loss", "brier"):
            which = "a score interval of the differences image by image, with its skewness (Johnson 1978)"
    elif key != "ece":
        which = "those of both sets combined (Zou and Donner 2008)"
    return f"Interval: {which}, 95 %{over}."


def figure_lines(compared: Compared) -> list[TableLine]:
    """A line for each headline figure."""
    lines = []
    for record, one in headline_differences(compared):
        key, name = record.key, record.called
        scale, places = (100.0, 1) if record.in_percent else (1.0, 3)
        shown = [percent(v) if record.in_percent else decimal(v) for v in (one.a, one.b)]
        better = one.beyond_chance * (-1 if record.lower_is_better else 1)
        told = {1: "better", -1: "worse", 0: "not significant"}[better] if one.low is not None else ""
        value = DASH if one.value is None else signed(scale * one.value, places)
        bounds = signed_span(one.low, one.high, scale, places)
        about = f"{name}: {shown[0]} and {shown[1]}, difference {value}{f' ({bounds})' if bounds else ''}{f', {told}' if told else ''}.\n{_how(key, one, compared)}"
        reach = (
            max(abs(one.value or 0.0), abs(one.low or 0.0), abs(one.high or 0.0), 0.02 if record.in_percent else 0.05)
            * 1.05
        )
        ink = {1: "accent", -1: "wrong", 0: ""}[better]
        lines.append(
            TableLine(
                (
                    TableCell(name),
                    TableCell(shown[0]),
                    TableCell(shown[1], ink="second"),
                    TableCell(value, ink=ink),
                    TableCell(bounds, ink="soft"),
                    TableCell(told, drawn=Drawn(one, reach=reach)),
                ),
                (),
                f"{about}\n{_WHAT.get(key.rstrip('0123456789'), '')}" if compared.held.other is not None else about,
                partial(moved, compared, key),
            )
        )
    return lines


_WHAT = {
    "top": "Click to see the images that are answered differently.",
    "log_loss": "Click to see the images that move it most.",
    "brier": "Click to see the images that move it most.",
    "ece": "Click to see the images whose confidence changes most.",
}
MOST_MOVED = 100


def moved(compared: Compared, key: str) -> tuple[Condition, ...]:
    """The images that a figure's difference comes from: those that are answered differently, or those that move a mean most; of two
    sets the wrong ones shown."""
    other, judged = compared.held.other, compared.held.a.judged
    if other is None:
        return (Outcome(frozenset({"wrong"})),)
    both = other.both
    if key in ("log_loss", "brier", "ece"):
        if key == "ece":
            change = other.confidence - judged.confidence
        elif key == "log_loss":
            change = losses(other.own) - losses(judged.own)
        else:
            change = squared_errors(other.own, other.squares) - squared_errors(judged.own, judged.squares)
        size = np.where(both, np.abs(np.nan_to_num(change)), 0.0)
        some = np.argsort(-size, kind="stable")[:MOST_MOVED]
        some = some[size[some] > 0]
        name = {"log_loss": "change of log loss", "brier": "change of Brier score", "ece": "change of confidence"}[key]
    else:
        k = int(key[3:]) if key.startswith("top") else 1
        within = [
            (one.rank >= 1) & (one.rank <= k) if k > 1 else one.predicted == judged.labels for one in (judged, other)
        ]
        some = np.flatnonzero(both & (within[0] != within[1]))
        name = f"change of top-{k}"
    return (Picked(name, tuple(some.tolist())),) if len(some) else ()
