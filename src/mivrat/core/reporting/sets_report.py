"""Writes prediction sets: sets.json in its stable format with the threshold, and sets.csv with the set of each image."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.numbers import decimal, percent, with_bounds
from mivrat.core.base.text import count, escaped, plural, safe_cell
from mivrat.core.figures.prediction_sets import Threshold
from mivrat.core.reporting.results import share_as_json
from mivrat.core.running.set_valued import CoverageOf, PredictionSets, members
from mivrat.core.study.records import RunRecord

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

# So many images' sets are put into words at a time.
_AT_ONCE = 10_000


def threshold_as_json(limit: Threshold) -> float | list[float | None] | None:
    """A threshold: one number, or one for each class; null where a class is always in the set."""
    found = [None if math.isinf(one) else float(one) for one in limit.of_class]
    return found if limit.by_class else found[0]


def as_json(
    found: PredictionSets,
    record: RunRecord,
    groups: Sequence[CoverageOf] = (),
    group: str = "",
    on: dict[str, Any] | None = None,
) -> dict[str, Any]:
    """The content of sets.json; ``on`` is what the same threshold comes to on another set, likewise."""
    return {
        "format": "mivrat-sets/1",
        "level": found.plan.level,
        "score": found.plan.kind,
        "by_class": found.plan.by_class,
        "threshold": threshold_as_json(found.threshold),
        "class_list": list(record.classes),
        "images": found.images,
        "evaluated": found.coverage.total,
        "out_of_fold": found.own,
        "intervals": {"together": record.image_set.unit_column or None},
        "coverage": share_as_json(found.coverage),
        "mean_size": found.mean_size,
        "one_class": found.one_class,
        "empty": found.empty,
        "sizes": [
            {"size": size, "images": images, "evaluated": evaluated, "covered": covered}
            for size, images, evaluated, covered in found.by_size()
        ],
        "classes": [_coverage(one) for one in found.classes],
        **({"group_by": group, "groups": [_coverage(one) for one in groups]} if group else {}),
        "on": on,
    }


def _coverage(one: CoverageOf) -> dict[str, Any]:
    return {
        "name": one.name,
        "n": one.coverage.total,
        "coverage": share_as_json(one.coverage),
        "p_holm": one.p_holm,
    }


def as_csv(found: PredictionSets, record: RunRecord, judged: EvaluatedRun) -> str:
    """Image by image: label, prediction, the set at the threshold from all images as a JSON list, its size, and whether it holds the
    label out of fold (empty: no label)."""
    classes, listed = record.classes, len(judged.labels)
    told: list[str | None] = []
    sizes: list[int | None] = []
    for start in range(0, listed, _AT_ONCE):
        some = np.arange(start, min(listed, start + _AT_ONCE))
        for one, answered in zip(members(judged, found, some), (found.sizes[some] >= 0).tolist(), strict=True):
            told.append(json.dumps([classes[k] for k in one], ensure_ascii=False) if answered else None)
            sizes.append(len(one) if answered else None)

    def named(indices: np.ndarray) -> list[str | None]:
        return [safe_cell(classes[i]) if i >= 0 else None for i in indices.tolist()]

    covered = [c if e else None for c, e in zip(found.covers.tolist(), found.evaluated.tolist(), strict=True)]
    table = pl.DataFrame(
        {
            "path": [safe_cell(escaped(record.image_set.told_path(i))) for i in range(listed)],
            "label": pl.Series(named(judged.labels), dtype=pl.String),
            "predicted": pl.Series(named(judged.predicted), dtype=pl.String),
            "set": pl.Series(told, dtype=pl.String),
            "size": pl.Series(sizes, dtype=pl.Int64),
            "label_in_set": pl.Series(covered, dtype=pl.Boolean),
        }
    )
    return table.write_csv()


def write_sets(
    folder: Path, told: dict[str, Any], found: PredictionSets, record: RunRecord, judged: EvaluatedRun
) -> list[Path]:
    """Write both files, and return their paths."""
    written = [folder / "sets.json", folder / "sets.csv"]
    write_whole(written[0], json.dumps(told, indent=1, ensure_ascii=False) + "\n")
    write_whole(written[1], as_csv(found, record, judged))
    return written


def in_sentences(found: PredictionSets) -> list[str]:
    """Coverage, sizes, and where it falls short."""
    plan, limit = found.plan, found.threshold
    of = "class by class" if plan.by_class else "over all classes"
    held = "out of fold" if found.own else "at the threshold given"
    at_least = percent(plan.level, None)
    told = [
        f"{at_least} wanted: coverage {with_bounds(found.coverage)} {held}, N = {count(found.coverage.total)} ({plan.kind}, {of})"
        if found.coverage.total
        else "no labelled image: coverage is not known here"
    ]
    if found.coverage.high is not None and found.coverage.high < plan.level:
        told.append("the sets hold the label less often than wanted, beyond chance")
    if found.mean_size is not None:
        told.append(
            f"sets of {decimal(found.mean_size, 2)} classes on average; {percent(found.one_class)} with one class, "
            f"{percent(found.empty)} with none, N = {count(found.images)}"
        )
    always = int(np.isinf(limit.of_class).sum())
    if always:
        told.append(
            f"{plural(always, 'class has', 'classes have')} too few labelled images for this level, and {'is' if always == 1 else 'are'} in every set"
        )
    for one in found.classes:
        if one.short:
            told.append(f"  {one.name}: falls short, {with_bounds(one.coverage)}, N = {count(one.coverage.total)}")
    return told
