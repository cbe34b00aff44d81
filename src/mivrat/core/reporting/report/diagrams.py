"""The diagrams of a report, drawn by Matplotlib as SVG in our own look; the same figures always give the same drawing."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from typing import Any

import matplotlib
import numpy as np
from matplotlib import font_manager
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle
from numpy.typing import NDArray

from mivrat.core.base.text import clipped
from mivrat.core.figures.calibration import ReliabilityBin, beyond_chance, chance_bands
from mivrat.core.reporting.report.content import MOST_CLASSES, Report
from mivrat.core.reporting.typeface import FONTS

INK, SOFT, LINE, ACCENT, WRONG, LOOK, SECOND, SHEET = (
    "#1d2b3a",
    "#5a6470",
    "#d9d3c7",
    "#1f7a72",
    "#be4a33",
    "#8a6410",
    "#6b4c7a",
    "#ffffff",
)
# The same by purpose in the dark: a drawing names its colours once, and the page picks the theme.
DARK = {
    INK: "#e9e4da",
    SOFT: "#a9aba9",
    LINE: "#46525a",
    ACCENT: "#5fbfb3",
    WRONG: "#ee8467",
    LOOK: "#ddb04c",
    SECOND: "#bc9ccb",
    SHEET: "#1f2a32",
}
# Letters are drawn as outlines: a picture in a page cannot bring its typeface along, and some viewers cut letters of a PDF's drawings.
_STYLE: Any = {
    "svg.fonttype": "path",
    "svg.hashsalt": "mivrat",
    "font.family": ["Inter", "DejaVu Sans"],
    "font.size": 9,
    "text.color": INK,
    "axes.labelcolor": SOFT,
    "axes.edgecolor": LINE,
    "xtick.color": SOFT,
    "ytick.color": INK,
    "axes.linewidth": 0.8,
    "text.parse_math": False,
}
LONGEST_NAME = 26
# More classes than this are not numbered in the matrix's cells.
MOST_NUMBERED = 20


@cache
def _fonts() -> None:
    for path in sorted(FONTS.glob("*.otf")):
        font_manager.fontManager.addfont(str(path))


@contextmanager
def _drawn(width: float, height: float) -> Iterator[tuple[Figure, io.StringIO]]:
    _fonts()
    out = io.StringIO()
    with matplotlib.rc_context(_STYLE):
        figure = Figure(figsize=(width, height), layout="constrained")
        figure.patch.set_alpha(0)
        yield figure, out
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None}, transparent=True)


def _plain(axes: Axes) -> None:
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)


def recall_by_class(report: Report) -> str:
    """Recall of each class as a point on its interval; a dashed line where all of them together stand."""
    lines = [one for one in report.classes if one.drawn[0] is not None][:MOST_CLASSES]
    lines.sort(key=lambda one: -(one.drawn[0] or 0.0))
    mean = report_mean(report)
    with _drawn(4.1, max(1.6, 0.55 + 0.24 * len(lines))) as (figure, out):
        axes = figure.subplots()
        _plain(axes)
        for y, one in enumerate(lines):
            value, low, high = one.drawn
            assert value is not None
            worst = (
                value is not None
                and high is not None
                and report_mean(report) is not None
                and high < (report_mean(report) or 0.0)
            )
            axes.plot([0, 1], [y, y], color=LINE, linewidth=0.7, zorder=1)
            if low is not None and high is not None:
                axes.plot([low, high], [y, y], color=INK, linewidth=1.8, zorder=2, solid_capstyle="butt")
            axes.plot([value], [y], "D" if worst else "o", color=WRONG if worst else ACCENT, markersize=5, zorder=3)
        if mean is not None:
            axes.axvline(mean, color=SOFT, linewidth=0.8, linestyle=(0, (3, 3)), zorder=0)
        axes.set_yticks(range(len(lines)), [clipped(one.name, LONGEST_NAME) for one in lines])
        axes.set_xlim(-0.02, 1.02)
        axes.set_ylim(-0.7, len(lines) - 0.3)
        axes.set_xticks(np.linspace(0, 1, 6), [f"{v}" for v in range(0, 101, 20)])
        axes.set_xlabel("recall, %")
    return out.getvalue()


def report_mean(report: Report) -> float | None:
    """The share right of all images, from the classes' counts."""
    matrix = np.array(report.matrix)
    return float(np.trace(matrix) / matrix.sum()) if matrix.size and matrix.sum() else None


def reliability(report: Report) -> str:
    """The reliability diagram of a report."""
    return reliability_of(report.reliability)


def reliability_of(all_bins: Sequence[ReliabilityBin]) -> str:
    """Accuracy against confidence, bin by bin with intervals, above the number of images in each bin; behind it what chance allows a
    calibrated model, and beyond that a diamond on a broad bar from where it should stand."""
    bins = [one for one in all_bins if one.count]
    with _drawn(3.3, 2.7) as (figure, out):
        upper, lower = figure.subplots(2, 1, height_ratios=[3, 1], sharex=True)
        for one, least, most, side in zip(bins, *chance_bands(bins), beyond_chance(bins), strict=True):
            share, confidence = one.accuracy, one.confidence
            if confidence is None or share.value is None:
                continue
            if not np.isnan(least):
                upper.fill_between([one.low, one.high], least, most, color=LINE, alpha=0.55, linewidth=0, zorder=0)
            ink = {-1: WRONG, 0: ACCENT, 1: LOOK}[int(side)]
            if side:
                upper.plot(
                    [confidence] * 2,
                    [confidence, share.value],
                    color=ink,
                    alpha=0.45,
                    linewidth=3.5,
                    solid_capstyle="butt",
                    zorder=2,
                )
            if share.low is not None and share.high is not None:
                upper.plot(
                    [confidence] * 2, [share.low, share.high], color=INK, linewidth=0.9, solid_capstyle="butt", zorder=3
                )
            upper.plot([confidence], [share.value], "D" if side else "o", color=ink, markersize=4.5, zorder=4)
        upper.plot([0, 1], [0, 1], color=SOFT, linewidth=0.8, linestyle=(0, (3, 3)), zorder=1)
        upper.text(0.02, 0.97, "underconfident", color=SOFT, fontsize=7, va="top")
        upper.text(1.0, 0.03, "overconfident", color=SOFT, fontsize=7, ha="right")
        lower.bar(
            [(one.low + one.high) / 2 for one in bins],
            [one.count for one in bins],
            width=0.9 * (bins[0].high - bins[0].low) if bins else 0.05,
            color=ACCENT,
        )
        for axes in (upper, lower):
            _plain(axes)
            axes.spines["left"].set_visible(True)
            axes.tick_params(axis="y", colors=SOFT)
            axes.set_xlim(0, 1.02)
        upper.set_ylim(0, 1.03)
        upper.set_ylabel("accuracy, %")
        upper.set_yticks(np.linspace(0, 1, 6), [f"{v}" for v in range(0, 101, 20)])
        lower.set_xticks(np.linspace(0, 1, 6), [f"{v}" for v in range(0, 101, 20)])
        lower.set_xlabel("confidence, %")
        lower.set_ylabel("images")
    return out.getvalue()


def confusion(report: Report) -> str:
    """The confusion matrix of a report."""
    return confusion_of(np.array(report.matrix, float), report.class_names)


def confusion_of(matrix: NDArray[np.float64], class_names: Sequence[str]) -> str:
    """A confusion matrix (K x K): rows are labels, columns predictions; shades are shares of the row, mistakes in their own colour."""
    names = [clipped(one, LONGEST_NAME) for one in class_names]
    size = len(matrix)
    side = min(6.4, 1.6 + 0.42 * size) if size <= MOST_NUMBERED else 6.4
    with _drawn(side + 0.6, side) as (figure, out):
        axes = figure.subplots()
        share = matrix / np.maximum(1, matrix.sum(axis=1, keepdims=True))
        for a in range(size):
            for b in range(size):
                if matrix[a, b]:
                    axes.add_patch(
                        Rectangle(
                            (b - 0.47, a - 0.47),
                            0.94,
                            0.94,
                            color=ACCENT if a == b else WRONG,
                            alpha=0.12 + 0.88 * share[a, b],
                            linewidth=0,
                        )
                    )
                    if size <= MOST_NUMBERED:
                        axes.text(
                            b,
                            a,
                            f"{int(matrix[a, b])}",
                            ha="center",
                            va="center",
                            color=SHEET if share[a, b] > 0.5 else INK,
                            fontsize=8,
                        )
        axes.set_xlim(-0.6, size - 0.4)
        axes.set_ylim(size - 0.4, -0.6)
        small = 9 if size <= MOST_NUMBERED else 6
        axes.set_xticks(
            range(size),
            names,
            rotation=45 if size < 12 else 90,
            ha="right" if size < 12 else "center",
            fontsize=small,
            color=INK,
        )
        axes.set_yticks(range(size), names, fontsize=small)
        axes.set_xlabel("predicted")
        axes.set_ylabel("labelled")
        _plain(axes)
        axes.spines["bottom"].set_visible(False)
    return out.getvalue()


def training_curves(report: Report) -> str:
    """The curves of the training log: losses above, accuracies below; broken lines are of training, full ones of validation."""
    found = report.training
    assert found is not None
    kinds = [kind for kind in ("loss", "accuracy") if any(name.endswith(kind) for name in found.curves)]
    with _drawn(6.4, 0.5 + 1.7 * len(kinds)) as (figure, out):
        for axes, kind in zip(figure.subplots(len(kinds), 1, sharex=True, squeeze=False)[:, 0], kinds, strict=True):
            _plain(axes)
            axes.spines["left"].set_visible(True)
            axes.tick_params(axis="y", colors=SOFT)
            for name, values in found.curves.items():
                if name.endswith(kind):
                    known = np.isfinite(values)
                    held_out = name.startswith("validation")
                    style, ink = ("solid", ACCENT) if held_out else ((0, (4, 2)), SOFT)
                    scale = 100 if kind == "accuracy" else 1
                    axes.plot(found.step[known], scale * values[known], color=ink, linewidth=1.4, linestyle=style)
            for place, ink, said in ((found.best, INK, "best"), (found.gap_opens, WRONG, "gap opens")):
                if place is not None:
                    at = float(found.step[place])
                    axes.axvline(at, color=ink, linewidth=0.9, linestyle="solid" if said == "best" else (0, (1, 2)))
                    if kind == kinds[0]:
                        axes.annotate(
                            f"{said}: {at:g}",
                            (at, 1 if said == "best" else 0.86),
                            xycoords=("data", "axes fraction"),
                            xytext=(3, -2),
                            textcoords="offset points",
                            fontsize=7,
                            color=ink,
                            va="top",
                        )
            axes.set_ylabel("loss" if kind == "loss" else "accuracy, %")
        axes.set_xlabel("epoch or step")
    return out.getvalue()


def with_both_themes(svg: str) -> str:
    """A drawing whose colours follow the theme of the page it stands in: the dark ones where the reader prefers these."""
    names = {colour: f"--c{i}" for i, colour in enumerate(DARK)}
    for colour, name in names.items():
        svg = svg.replace(colour, f"var({name}, {colour})")
    light = "".join(f"{name}:{colour};" for colour, name in names.items())
    dark = "".join(f"{name}:{DARK[colour]};" for colour, name in names.items())
    style = f"<style>:root{{{light}}}@media (prefers-color-scheme:dark){{:root{{{dark}}}}}</style>"
    at = svg.index(">", svg.index("<svg")) + 1
    return svg[:at] + style + svg[at:]


def diagrams_of(report: Report, sections: Sequence[str]) -> dict[str, str]:
    """The drawings that a report has, by name."""
    made = {}
    if any(one.drawn[0] is not None for one in report.classes) and {"summary", "classes"} & set(sections):
        made["recall"] = recall_by_class(report)
    if report.calibration and {"summary", "calibration"} & set(sections):
        made["reliability"] = reliability(report)
    if report.matrix and "confusions" in sections:
        made["confusion"] = confusion(report)
    if report.training is not None and "training" in sections:
        made["training"] = training_curves(report)
    return made
