"""Writes comparison.json and flips.csv in their stable formats."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from mivrat.core.answers.other import ONE_ONLY
from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import escaped, safe_cell
from mivrat.core.comparing.claims import ComparisonClaim
from mivrat.core.comparing.comparison import Comparison, OnSameImages
from mivrat.core.comparing.estimates import Estimates, HowUnlike
from mivrat.core.comparing.groups import GroupDifference
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.paired import OUTCOMES, Paired
from mivrat.core.figures.several import Several
from mivrat.core.figures.two_sets import TwoSets
from mivrat.core.pictures.image_sets import ImageSet

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


@dataclass(frozen=True)
class ComparisonResults:
    """What is written of a comparison: the figures, what may be claimed, and what further was asked for. ``on_images`` is there for
    the same images, with ``image_set`` of a; ``of_runs`` names the runs of ``several``."""

    found: Comparison
    claims: Sequence[ComparisonClaim] = ()
    on_images: OnSameImages | None = None
    image_set: ImageSet | None = None
    groups: Sequence[GroupDifference] = ()
    column: str = ""
    several: Several | None = None
    of_runs: Sequence[str] = field(default_factory=list)
    unlike: HowUnlike | None = None
    estimates: Estimates | None = None


def _difference(one: Difference, **more: Any) -> dict[str, Any]:
    told = {"a": one.a, "b": one.b, "difference": {"value": one.value, "low": one.low, "high": one.high}}
    return {**told, **({"p": one.p} if one.p is not None else {}), **more}


def comparison(results: ComparisonResults) -> dict[str, Any]:
    """The content of comparison.json."""
    found = results.found
    data: dict[str, Any] = {
        "format": "mivrat-comparison/2",
        "paired": found.paired is not None,
        "a": {"name": found.names.a},
        "b": {"name": found.names.b},
        "intervals": {"together": found.unit_column or None, "units": found.paired.units if found.paired else None},
    }
    either = found.either
    if found.paired is not None:
        four, shared = found.paired.four, found.shared
        data["counts"] = {
            "both": shared.both,
            "only_a": shared.only_a,
            "only_b": shared.only_b,
            "other_class": shared.other_class,
            "both_right": four.both_right,
            "fixed": four.fixed,
            "broken": four.broken,
            "both_wrong": four.both_wrong,
            "same_wrong": four.same_wrong,
        }
        data["apart"] = found.apart
    elif found.sets is not None:
        data["images"] = {"a": found.sets.total_a, "b": found.sets.total_b, "in_both": found.shared.in_both}
    data |= {f"top{k}": _difference(one) for k, one in either.top_k.items()}
    data |= {name: _difference(one) for name, one in either.means.items()}
    data["classes"] = [
        {"name": name, "recall": _difference(one.recall, p_holm=one.p_holm), "precision": _difference(one.precision)}
        for name, one in zip(found.classes, found.lines, strict=True)
    ]
    data["confusion"] = {"a": either.matrix_a.tolist(), "b": either.matrix_b.tolist()}
    data |= _pairs(found, found.paired, found.sets)
    if results.unlike is not None:
        data |= _unlike(results.unlike)
    if results.estimates is not None:
        data["estimates"] = results.estimates.as_data(found.classes)
    if results.column:
        data["groups"] = {"column": results.column, "by": [_group(one) for one in results.groups]}
    if results.several is not None:
        data["runs"] = _several(results.several, results.of_runs)
    data["claims"] = [{"text": one.text, "holds": one.holds} for one in results.claims]
    return data


def _unlike(found: HowUnlike) -> dict[str, Any]:
    told = {"unlike": found.whole, "unlike_within_classes": found.within_classes}
    return {
        name: {"mmd": one.mmd, "p": one.p, "images": list(one.used)} for name, one in told.items() if one is not None
    }


def _pairs(found: Comparison, paired: Paired | None, sets: TwoSets | None) -> dict[str, Any]:
    names = found.classes
    if paired is not None:
        listed = [
            {"label": names[one.label], "predicted": names[one.predicted], "a": one.a, "b": one.b}
            for one in paired.pairs
        ]
        return {"pairs": listed}
    assert sets is not None
    if not (sets.total_a and sets.total_b):
        return {}  # without labels on both sides nothing is known of a drop, and it is not 0
    drop = sets.drop
    listed = [
        {"label": names[one.label], "predicted": names[one.predicted], "a": one.a, "b": one.b, "within": one.part}
        for one in drop.pairs
    ]
    parts = [
        {"name": name, "class_mix": one.class_mix, "within": one.within}
        for name, one in zip(names, drop.classes, strict=True)
    ]
    ends = {f"{name}_interval": {"low": low, "high": high} for name, (low, high) in (drop.intervals or {}).items()}
    split = {"total": drop.total, "class_mix": drop.class_mix, "within": drop.within, **ends, "classes": parts}
    return {"pairs": listed, "drop": split}


def _group(one: GroupDifference) -> dict[str, Any]:
    return {
        "name": one.name,
        "images": one.total,
        "fixed": one.fixed,
        "broken": one.broken,
        "top1": _difference(one.top1, p_holm=one.p_holm),
    }


def _several(found: Several, names: Sequence[str]) -> dict[str, Any]:
    return {
        "images": found.total,
        "cochran_q": found.q,
        "p": found.p,
        "best_first": [
            {
                "name": names[i],
                "top1": {
                    "value": found.accuracy[i].value,
                    "low": found.accuracy[i].low,
                    "high": found.accuracy[i].high,
                },
            }
            for i in found.order
        ],
        "pairs": [
            {"better": names[one.better], "worse": names[one.worse], **_difference(one.difference, p_holm=one.p_holm)}
            for one in found.pairs
        ],
        "optimism_of_the_best": found.optimism,
    }


def flips(on_images: OnSameImages, image_set: ImageSet) -> pl.DataFrame:
    """Both answers to every labelled image that both have answered, with the outcome."""
    other = on_images.other
    at = np.flatnonzero(other.both)
    return _table(on_images, image_set, at).with_columns(
        pl.Series("outcome", [OUTCOMES[code] for code in other.codes[at].tolist()], pl.String)
    )


def one_sided(on_images: OnSameImages, image_set: ImageSet) -> pl.DataFrame:
    """The images that only one of both has answered."""
    other = on_images.other
    at = np.flatnonzero(other.mask(ONE_ONLY))
    return _table(on_images, image_set, at).with_columns(
        pl.Series("answered_by", ["a" if other.answered_here[i] else "b" for i in at.tolist()], pl.String)
    )


def _table(on_images: OnSameImages, image_set: ImageSet, at: np.ndarray) -> pl.DataFrame:
    other, judged = on_images.other, on_images.other.judged
    names = [safe_cell(name) for name in on_images.classes]

    def named(indices: np.ndarray) -> list[str | None]:
        return [names[k] if k >= 0 else None for k in indices.tolist()]

    def known(values: np.ndarray) -> list[float | None]:
        return [None if np.isnan(value) else value for value in values.tolist()]

    columns: dict[str, list[Any]] = {
        "path": [safe_cell(escaped(image_set.told_path(i))) for i in at.tolist()],
        "label": named(judged.labels[at]),
        "a": named(judged.predicted[at]),
        "b": named(other.predicted[at]),
        "confidence_a": known(judged.confidence[at]),
        "confidence_b": known(other.confidence[at]),
    }
    kinds = {name: pl.Float64 if name.startswith("confidence") else pl.String for name in columns}
    return pl.DataFrame(columns, schema=kinds)


def write_comparison(folder: Path, results: ComparisonResults) -> list[Path]:
    """Write the files into a folder and return their paths; of two sets there is no flips.csv."""
    text = json.dumps(comparison(results), indent=1, ensure_ascii=False, allow_nan=False) + "\n"
    files = {"comparison.json": text, "flips.csv": "", "answered_by_one.csv": ""}
    if results.on_images is not None and results.image_set is not None:
        files["flips.csv"] = flips(results.on_images, results.image_set).write_csv(line_terminator="\n")
        alone = one_sided(results.on_images, results.image_set)
        files["answered_by_one.csv"] = alone.write_csv(line_terminator="\n") if len(alone) else ""
    for name, content in files.items():
        if content:
            write_whole(folder / name, content)
        else:
            (folder / name).unlink(missing_ok=True)
    return [folder / name for name, content in files.items() if content]
