"""Writes metrics.json, predictions.csv and mistakes.csv in their stable formats."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, PENDING, SCORED, UNREADABLE, KindSource
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import escaped, safe_cell
from mivrat.core.figures.decision import Costs
from mivrat.core.figures.families import family_accuracy
from mivrat.core.figures.groups import Group
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.ranked import RANKED, mean_of
from mivrat.core.figures.summary import Figures
from mivrat.core.figures.temperature import Temperature
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.running.slow_figures import SlowFigures

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

MOST_COLUMNS = 50


@dataclass(frozen=True)
class ResultNotes:
    """How the figures are to be read: the kind of scores and who told it (recipe, table, guess); the column by which images
    belong together and its number of units; accuracy within family where that is over units."""

    kind: Kind
    kind_source: KindSource
    unit_column: str = ""
    units: int | None = None
    family: Proportion | None = None


def notes_of(judged: EvaluatedRun, kind_source: KindSource, families: Mapping[int, str] | None = None) -> ResultNotes:
    """How the figures of these answers are to be read."""
    if judged.units is None:
        return ResultNotes(judged.kind, kind_source)
    units = len(np.unique(judged.units.number[judged.evaluated]))
    return ResultNotes(
        judged.kind, kind_source, judged.units.column, units, judged.within_family(families) if families else None
    )


def _number(value: float | None) -> float | None:
    return None if value is None or not math.isfinite(value) else float(value)


def share_as_json(share: Proportion) -> dict[str, float | None]:
    """A share with the ends of its interval, as every file of results has it."""
    return {"value": share.value, "low": share.low, "high": share.high}


def _temperature(found: Temperature | None) -> dict[str, float | bool | None] | None:
    if found is None:
        return None
    names = ("value", "identifiable", "log_loss_before", "log_loss_after", "ece_before", "ece_after")
    return {name: getattr(found, name) for name in names}


def _group(one: Group) -> dict[str, Any]:
    return {
        "name": one.name,
        "images": one.accuracy.total,
        "right": one.accuracy.hits,
        "accuracy": share_as_json(one.accuracy),
        "mean_confidence": one.confidence,
        "signed_gap": one.gap,
        "p_below_rest": one.p,
    }


def _costs(costs: Costs, threshold: float) -> dict[str, Any]:
    return {
        "costs": {
            "threshold": threshold,
            "mean_cost": costs.at(threshold),
            "best_threshold": min(1.0, costs.best),
            "best_mean_cost": costs.at(costs.best),
        }
    }


def _ranked_ends(figures: Figures, k: int) -> dict[str, Any]:
    """The intervals of what a class's column of scores gives."""
    ends = {f"{name}_interval": figures.ranked_ends(name, k) for name in RANKED}
    return {name: {"low": one[0], "high": one[1]} if one else {"low": None, "high": None} for name, one in ends.items()}


def _slow(deep: SlowFigures, column: str, groups: Sequence[Group]) -> dict[str, Any]:
    """What metrics.json says of the figures that are no counts: their intervals, and why there are none, selective prediction, groups."""
    found: dict[str, Any] = {"aurc": deep.selective.aurc}
    if deep.intervals is not None:
        found["intervals"] = {
            "method": "jackknife and score intervals" + (", over whole units" if deep.intervals.column else ""),
            "missing": deep.intervals.missing,
            **{name: asdict(interval) for name, interval in deep.intervals.of.items()},
        }
    if column:
        found["groups"] = {"column": column, "by": [_group(one) for one in groups]}
    return found


@dataclass(frozen=True)
class RunResults:
    """What is written of a run: its answers as judged for ``image_set``, and the figures (None of a run that was stopped).

    ``reasons`` say why an image is in no figure, by position; ``families`` are class index -> name; ``column`` and ``groups``
    the figures by group; ``costs`` those of each threshold; ``kind_source`` who settled the kind of scores.
    """

    judged: EvaluatedRun
    image_set: ImageSet
    classes: Sequence[str]
    figures: Figures | None = None
    reasons: Mapping[int, str] = field(default_factory=dict)
    families: Mapping[int, str] = field(default_factory=dict)
    deep: SlowFigures | None = None
    column: str = ""
    groups: Sequence[Group] = ()
    costs: Costs | None = None
    threshold: float | None = None
    kind_source: KindSource = "guess"


def metrics(found: RunResults) -> dict[str, Any]:
    """The content of metrics.json, of results with figures.

    AUROC and average precision are averaged over the classes where they are defined; accuracy within family is there where
    there are families, figures by group where there is a column.
    """
    figures, counts, classes, deep = found.figures, found.judged.counts(), found.classes, found.deep
    assert figures is not None
    families, costs, threshold = found.families, found.costs, found.threshold
    averages, calibration = figures.averages, figures.calibration
    further = _slow(deep, found.column, found.groups) if deep else {}
    told = notes_of(found.judged, found.kind_source, families)
    return {
        "format": "mivrat-metrics/1",
        "scores": {"kind": told.kind, "told_by": told.kind_source},
        "intervals": {"together": told.unit_column or None, "units": told.units, **further.pop("intervals", {})},
        "counts": {
            "listed": counts.listed,
            "evaluated": counts.evaluated,
            "unreadable": counts.unreadable,
            "unlabelled": counts.unlabelled,
            "failed": counts.failed,
            "ties": figures.ties,
        },
        "top_k": {str(k): share_as_json(share) for k, share in figures.top_k.items()},
        **(
            {"family_accuracy": share_as_json(told.family or family_accuracy(figures.matrix, families))}
            if families
            else {}
        ),
        **averages,
        "log_loss": figures.log_loss.value if figures.log_loss else None,
        "log_loss_clipped": figures.log_loss.clipped if figures.log_loss else 0,
        "brier": figures.brier,
        "macro_auroc": mean_of(figures.auroc),
        "macro_average_precision": mean_of(figures.average_precision),
        "undefined_precision": figures.undefined_precision,
        "classes": [
            {
                "name": name,
                "support": c.support,
                "predicted": c.predicted,
                "true_positive": c.true_positive,
                "precision": share_as_json(c.precision),
                "recall": share_as_json(c.recall),
                "specificity": share_as_json(c.specificity),
                "f1": c.f1,
                "f1_interval": {"low": c.f1_share.low, "high": c.f1_share.high},
                "auroc": figures.auroc[i],
                "average_precision": figures.average_precision[i],
                **(_ranked_ends(figures, i) if figures.spread else {}),
            }
            for i, (name, c) in enumerate(zip(classes, figures.classes, strict=True))
        ],
        "confusion": figures.matrix.tolist(),
        "calibration": {
            "bins": len(calibration.bins),
            "ece": calibration.ece,
            "mce": calibration.mce,
            "adaptive_ece": deep.adaptive.ece if deep else None,
            "classwise_ece": figures.classwise_ece,
            "signed_gap": calibration.signed_gap,
            "ece_if_calibrated": asdict(deep.chance) if deep and deep.chance else None,
            "reliability": [
                {
                    "low": b.low,
                    "high": b.high,
                    "count": b.count,
                    "confidence": _number(b.confidence),
                    "accuracy": b.accuracy.value,
                }
                for b in calibration.bins
            ],
            "temperature": _temperature(deep.temperature) if deep else None,
        },
        **further,
        **({"threshold": threshold} if threshold is not None else {}),
        **(_costs(costs, 0.5 if threshold is None else threshold) if costs else {}),
    }


# So many numbers are looked at a time where the highest of many classes are picked.
_PIECE = 4_000_000


def predictions_frame(
    judged: EvaluatedRun,
    image_set: ImageSet,
    classes: Sequence[str],
    chosen: Sequence[int] | NDArray[np.integer],
    cell: Callable[[str], str] = safe_cell,
) -> pl.DataFrame:
    """The table of these images, column by column; what is not known is null. ``cell`` makes a name safe for where it is going."""
    at = np.asarray(chosen, np.int64)
    names, scored = [cell(name) for name in classes], judged.state[at] == SCORED

    def named(indices: NDArray[np.integer]) -> list[str | None]:
        return [names[k] if k >= 0 else None for k in indices.tolist()]

    def known(values: NDArray[Any], where: NDArray[np.bool_]) -> list[Any]:
        return [value if here else None for value, here in zip(values.tolist(), where.tolist(), strict=True)]

    confidence, ranked = judged.confidence[at], scored & (judged.labels[at] >= 0) & judged.has_scores
    columns: dict[str, list[Any] | NDArray[Any]] = {
        "path": [cell(escaped(image_set.told_path(i))) for i in at.tolist()],
        "label": named(judged.labels[at]),
        "predicted": named(np.where(scored, judged.predicted[at], -1)),
        "confidence": known(confidence, scored & ~np.isnan(confidence)),
        "rank": known(judged.rank[at], ranked),
    }
    shown = scored & judged.has_scores
    if len(classes) <= MOST_COLUMNS:
        p = judged.probabilities(at)
        columns |= {f"p:{name}": known(p[:, k], shown) for k, name in enumerate(classes)}
    else:
        best, highest = _ten_highest(judged, at[shown])
        for place in range(10):
            called, value = np.full(len(at), -1), np.full(len(at), np.nan)
            called[shown], value[shown] = best[:, place], highest[:, place]
            columns |= {f"top{place + 1}": named(called), f"p{place + 1}": known(value, shown)}
    kinds = {
        name: pl.Int64
        if name == "rank"
        else pl.String
        if name in ("path", "label", "predicted") or name[:3] == "top"
        else pl.Float64
        for name in columns
    }
    return pl.DataFrame(columns, schema=kinds)


def _table(judged: EvaluatedRun, image_set: ImageSet, classes: Sequence[str], chosen: Sequence[int]) -> str:
    return predictions_frame(judged, image_set, classes, chosen).write_csv(line_terminator="\n")


def _ten_highest(judged: EvaluatedRun, images: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The ten classes with the highest scores, in order, with their probabilities (both images x 10)."""
    best, highest = np.zeros((len(images), 10), np.int64), np.zeros((len(images), 10))
    step = max(1, _PIECE // judged.classes)
    for first in range(0, len(images), step):
        some = slice(first, first + step)
        best[some] = judged.highest(images[some], 10)
        highest[some] = np.take_along_axis(judged.probabilities(images[some]), best[some], axis=1)
    return best, highest


def write_results(folder: Path, found: RunResults) -> list[Path]:
    """Write the result files into ``folder`` and return their paths.

    predictions.csv lists every readable image answered for (a failed one with empty cells), mistakes.csv the wrong ones, most confident first,
    not_evaluated.csv the unreadable and failed ones with the reason, where there are any. Without figures (a stopped run) there is no metrics.json.
    """
    judged, image_set = found.judged, found.image_set
    answered = [int(i) for i in np.flatnonzero((judged.state != PENDING) & (judged.state != UNREADABLE))]
    wrong = np.flatnonzero(judged.wrong)
    wrong = wrong[np.argsort(-judged.confidence[wrong], kind="stable")]
    files = {
        "predictions.csv": _table(judged, image_set, found.classes, answered),
        "mistakes.csv": _table(judged, image_set, found.classes, [int(i) for i in wrong]),
        "not_evaluated.csv": _not_evaluated(found),
        "metrics.json": "",
    }
    if found.figures is not None:
        files["metrics.json"] = json.dumps(metrics(found), indent=1, ensure_ascii=False, allow_nan=False) + "\n"
    for name, text in files.items():
        if text:
            write_whole(folder / name, text)
        else:
            (folder / name).unlink(missing_ok=True)
    return [folder / name for name, text in files.items() if text]


def _not_evaluated(found: RunResults) -> str:
    """The images in no figure, each with its reason; empty where there are none."""
    problems = [(found.image_set.told_path(i), found.reasons[i]) for i in sorted(found.reasons)]
    problems += [
        (found.image_set.told_path(i), "the scores hold NaN or infinity")
        for i in np.flatnonzero(found.judged.state == FAILED).tolist()
        if i not in found.reasons
    ]
    if not problems:
        return ""
    cells = [(safe_cell(escaped(path)), safe_cell(reason)) for path, reason in problems]
    return pl.DataFrame(cells, schema=["path", "reason"], orient="row").write_csv(line_terminator="\n")
