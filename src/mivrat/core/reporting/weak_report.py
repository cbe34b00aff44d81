"""Writes what wrong images share: weak.json in its stable format, and the properties image by image as CSV and Parquet."""

from __future__ import annotations

import io
import json
import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.numbers import decimal, percent, span, with_bounds
from mivrat.core.base.text import count, escaped, safe_cell
from mivrat.core.checks.result import in_words
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.property_effects import PropertyEffect, Quarter
from mivrat.core.reporting.results import share_as_json
from mivrat.core.running.in_common import InCommon, WeakSpot, spot_words
from mivrat.core.selecting.measures import Measures
from mivrat.core.study.records import RunRecord

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


def as_json(found: InCommon, classes: Sequence[str], together: str) -> dict[str, Any]:
    """The content of weak.json; shares lie in [0, 1], ends of quarters are null where there is none."""
    return {
        "format": "mivrat-weak/1",
        "images": found.evaluated,
        "wrong": found.wrong,
        "unmeasured": found.unmeasured,
        "intervals": {"together": together or None},
        "problem": found.problem or None,
        "properties": [_property(one) for one in found.properties],
        "halves": {"searched": found.searched, "confirmed_on": found.held_out, "problem": found.spots_problem or None},
        "spots": [_spot(one, classes) for one in found.spots],
    }


def _property(one: PropertyEffect) -> dict[str, Any]:
    effect = one.effect
    return {
        "name": one.name,
        "higher_when_wrong": {"value": effect.value, "low": effect.low, "high": effect.high},
        "wrong": effect.wrong,
        "right": effect.right,
        "p": effect.p,
        "p_holm": one.p_holm,
        "problem": effect.problem or None,
        "quarters": [_quarter(each) for each in one.quarters],
    }


def _quarter(one: Quarter) -> dict[str, Any]:
    low, high = (None if math.isinf(end) else end for end in (one.low, one.high))
    return {"above": low, "up_to": high, **_share(one.accuracy)}


def _share(one: Proportion) -> dict[str, Any]:
    return {"n": one.total, "top1": share_as_json(one)}


def _spot(one: WeakSpot, classes: Sequence[str]) -> dict[str, Any]:
    return {
        "conditions": spot_words(one, classes),
        "found": _share(one.found),
        "confirmed": {**_share(one.confirmed), "p_holm": one.p_holm},
        "is_confirmed": one.is_confirmed,
        "share_of_mistakes": one.share_of_mistakes,
    }


def properties_table(record: RunRecord, judged: EvaluatedRun, measures: Measures) -> pl.DataFrame:
    """Path, label, prediction and whether it is right (null: not evaluated), and every number, image by image."""
    items, classes = record.image_set.items, record.classes

    def named(indices: np.ndarray) -> list[str | None]:
        return [classes[i] if i >= 0 else None for i in indices.tolist()]

    right = [bool(r) if e else None for r, e in zip(judged.right.tolist(), judged.evaluated.tolist(), strict=True)]
    columns: dict[str, Any] = {
        "path": [record.image_set.told_path(i) for i in range(len(items))],
        "label": named(judged.labels),
        "predicted": named(judged.predicted),
        "right": pl.Series(right, dtype=pl.Boolean),
    }
    for name in measures.names:
        taken = f"number {name}" if name in columns else name
        columns[taken] = pl.Series(measures.of(name)).fill_nan(None)
    return pl.DataFrame(columns)


def write_properties(folder: Path, table: pl.DataFrame) -> list[Path]:
    """Write the table as properties.csv, with cells that a spreadsheet would take for a formula escaped, and as properties.parquet."""
    texts = [name for name, kind in table.schema.items() if kind == pl.String]
    safe = table.with_columns(
        pl.Series(name, [None if text is None else safe_cell(escaped(text)) for text in table[name]], dtype=pl.String)
        for name in texts
    ).rename({name: safe_cell(escaped(name)) for name in table.columns})
    whole = io.BytesIO()
    table.write_parquet(whole)
    written = [folder / "properties.csv", folder / "properties.parquet"]
    write_whole(written[0], safe.write_csv())
    write_whole(written[1], whole.getvalue())
    return written


def write_weak(
    folder: Path, found: InCommon, record: RunRecord, judged: EvaluatedRun, measures: Measures
) -> list[Path]:
    """Write all files, and return their paths."""
    told = as_json(found, record.classes, record.image_set.unit_column)
    path = folder / "weak.json"
    write_whole(path, json.dumps(told, indent=1, ensure_ascii=False) + "\n")
    return [path, *write_properties(folder, properties_table(record, judged, measures))]


def in_sentences(found: InCommon, classes: Sequence[str]) -> list[str]:
    """What was found, in lines: properties that differ, then the spots."""
    if found.problem:
        return [found.problem]
    sure = [one for one in found.properties if one.p_holm is not None and one.p_holm < 0.05]
    told = [
        f"{count(found.wrong)} of {count(found.evaluated)} images wrong; {len(sure)} of {len(found.properties)} properties and "
        f"columns differ from right images of the same class beyond chance"
    ]
    for one in sure:
        value, ends = decimal(one.effect.value, 2), span(one.effect.low, one.effect.high, 1, 2)
        worst = one.worst
        at_worst = (
            ""
            if worst is None
            else f"; its worst quarter {with_bounds(worst.accuracy)}, N = {count(worst.accuracy.total)}"
        )
        told.append(
            f"  {one.name}: higher in the wrong image in {value} ({ends}) of pairs, p {in_words(one.p_holm or 0.0)}{at_worst}"
        )
    return told + spots_in_sentences(found, classes)


def spots_in_sentences(found: InCommon, classes: Sequence[str]) -> list[str]:
    """The weak spots that were confirmed, and how many were not."""
    if found.spots_problem:
        return [found.spots_problem]
    sure = [one for one in found.spots if one.is_confirmed]
    searched = f"searched on {count(found.searched)} images, confirmed on {count(found.held_out)} others"
    told = [
        f"{len(sure) or 'no'} weak spot{'' if len(sure) == 1 else 's'} confirmed ({len(found.spots)} carried over; {searched})"
    ]
    for one in sure:
        told.append(
            f"  {' and '.join(spot_words(one, classes))}: {with_bounds(one.found)}, N = {count(one.found.total)}, where it was found; "
            f"{with_bounds(one.confirmed)}, N = {count(one.confirmed.total)}, confirmed, p {in_words(one.p_holm)}; "
            f"{percent(one.share_of_mistakes)} of all mistakes"
        )
    return told
