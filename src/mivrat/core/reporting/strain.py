"""Writes a strain test: strain.json in its stable format, and strain.csv image by image."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.base.text import count, escaped, safe_cell
from mivrat.core.checks.result import in_words
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.pictures.distorting.kinds import BY_KEY
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.reporting.results import share_as_json
from mivrat.core.straining.curves import StrainCurve, StrainFigures, StrainLevel, accuracy_by_group, first_flips
from mivrat.core.straining.sweep import Sweep

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


def as_json(found: StrainFigures, sweep: Sweep, classes: Sequence[str], group: str = "") -> dict[str, Any]:
    """The content of strain.json. Shares lie in [0, 1]; every difference is strained less untouched. With the groups of a column, where one
    is named."""
    judged = sweep.judged
    return {
        "format": "mivrat-strain/1",
        "images": found.images,
        "selection": sweep.plan.selection,
        "seed": sweep.plan.seed,
        "intervals": {"together": judged.units.column if judged.units is not None else None},
        "margin": found.margin,
        "untouched": {
            **share_as_json(found.untouched),
            "images": found.untouched.total,
            "confidence": found.confidence,
        },
        "classes": list(classes),
        "untouched_by_class": [{"right": right, "images": images} for right, images in found.by_class],
        "kinds": [_kind(curve) for curve in found.curves],
        **({"group_by": group, "groups": _groups(sweep, group)} if group else {}),
    }


def _groups(sweep: Sweep, column: str) -> list[dict[str, Any]]:
    images = np.array(sweep.plan.images, np.int64)
    values = column_of(sweep.image_set.items, column)
    names = group_names([values[i] for i in sweep.plan.images])
    found = accuracy_by_group(sweep.judged, images, names, sweep.predicted)
    return [
        {
            "group": name,
            "untouched": {**share_as_json(before), "images": before.total},
            "levels": [
                {"distortion": one.spelled, **share_as_json(accuracy), "images": accuracy.total}
                for one, accuracy in zip(sweep.plan.strains, shares, strict=True)
            ],
        }
        for name, (before, *shares) in found.items()
    ]


def _kind(curve: StrainCurve) -> dict[str, Any]:
    return {
        "kind": curve.kind,
        **({"with": dict(curve.given)} if curve.given else {}),
        "unit": BY_KEY[curve.kind].unit,
        "breaks_at": curve.breaks_at,
        "breaks_below": curve.breaks_below,
        "retained": curve.retained,
        "levels": [_level(one) for one in curve.levels],
    }


def _level(one: StrainLevel) -> dict[str, Any]:
    return {
        "level": one.strain.level,
        "images": one.accuracy.total,
        "top1": share_as_json(one.accuracy),
        "difference": {"value": one.difference.value, "low": one.difference.low, "high": one.difference.high},
        "fixed": one.fixed,
        "broken": one.broken,
        "changed": one.changed.value,
        "changed_interval": {"low": one.changed.low, "high": one.changed.high},
        "confidence": one.confidence,
        "p": one.difference.p,
        "p_holm": one.p_holm,
        "by_class": [{"right": right, "images": images} for right, images in one.by_class],
    }


def as_csv(sweep: Sweep, classes: Sequence[str]) -> str:
    """Image by image: label, untouched prediction, how early it flips (share of the way through a kind's levels; empty: never), and the
    prediction under each distortion (empty: none)."""
    images = np.array(sweep.plan.images, np.int64)
    judged = sweep.judged
    flips = first_flips(judged.predicted[images], sweep.plan.strains, sweep.predicted)

    def named(indices: np.ndarray) -> list[str | None]:
        return [safe_cell(classes[i]) if i >= 0 else None for i in indices.tolist()]

    columns: dict[str, list[Any]] = {
        "path": [escaped(sweep.image_set.told_path(i)) for i in sweep.plan.images],
        "label": named(judged.labels[images]),
        "untouched": named(judged.predicted[images]),
        "flips_at": [round(one, 4) if np.isfinite(one) else None for one in flips.tolist()],
        "problem": [sweep.problems.get(i) for i in sweep.plan.images],
    }
    for one, predicted in zip(sweep.plan.strains, sweep.predicted, strict=True):
        columns[one.spelled] = named(predicted)
    return pl.DataFrame(columns, infer_schema_length=None).write_csv()


def write_strain(
    folder: Path, found: StrainFigures, sweep: Sweep, classes: Sequence[str], group: str = ""
) -> list[Path]:
    """Write both files, and return their paths."""
    written = [folder / "strain.json", folder / "strain.csv"]
    write_whole(written[0], json.dumps(as_json(found, sweep, classes, group), indent=1, ensure_ascii=False) + "\n")
    write_whole(written[1], as_csv(sweep, classes))
    return written


def in_sentences(found: StrainFigures) -> list[str]:
    """The untouched accuracy, and for each kind its levels and where it breaks."""
    told = [f"untouched: {_with_bounds(found.untouched)}, N = {count(found.untouched.total)}"]
    for curve in found.curves:
        unit = BY_KEY[curve.kind].unit
        told.append(f"{curve.spelled} ({unit}): {_where(curve)}")
        for one in curve.levels:
            changed = percent(one.changed.value) if one.changed.value is not None else "none"
            p = f", p {in_words(one.p_holm)}" if one.difference.p is not None else ""
            told.append(
                f"  {one.strain.level:g}: {_with_bounds(one.accuracy)}, N = {count(one.accuracy.total)}; {changed} changed{p}"
            )
    return told


def _with_bounds(one: Proportion) -> str:
    if one.value is None:
        return "no labelled image"
    return percent(one.value) + (f" ({bounds(one)})" if one.low is not None else " (no interval)")


def _where(curve: StrainCurve) -> str:
    """Where a kind breaks, in words."""
    kept = f"; {percent(curve.retained)} of the accuracy retained on average" if curve.retained is not None else ""
    if curve.breaks:
        return f"breaks at {_and(curve.breaks)}{kept}"
    return (f"lower at {_and(curve.lowered)}, but not from there on" if curve.lowered else "not shown to break") + kept


def _and(levels: Sequence[float]) -> str:
    return " and ".join(f"{one:g}" for one in levels)
