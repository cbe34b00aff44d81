"""Lists of images to label, and what the labels said: sample.json and sample.csv, written and read back; estimate.json."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from math import ceil
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError, cannot_be_written
from mivrat.core.base.files import is_same_file, put_new, write_whole
from mivrat.core.base.job import Meter, Progress, Written, current_stop
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.numbers import figure, percent, points, signed_span
from mivrat.core.base.tables import read_columns
from mivrat.core.base.text import count, escaped, safe_cell
from mivrat.core.concluding.labelling import LabelSample, SampleRow, WantedFigure, wanted_figure
from mivrat.core.figures.label_sample import Estimated
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.decode import copy_ending, to_copy
from mivrat.core.study.records import RunRecord

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

# The folder of copies, in that of the list.
COPIES = "to-label"
ASSUMES = (
    "every listed image was labelled, without seeing what the model answers",
    "the listed images were drawn from the pool by chance within each stratum; the model's confidence decided only where labels go",
    "the figure is wanted for this pool",
)


def sample_json(found: LabelSample, classes: Sequence[str]) -> dict[str, Any]:
    """The content of sample.json."""
    return {
        "format": "mivrat-sample/1",
        "figure": found.wanted.text,
        "class_list": list(classes),
        "pool": found.pool,
        "counted_as_zero": found.same,
        "seed": found.seed,
        "wanted": {"labels": len(found.listed), "half_width": found.asked_half_width},
        "expected_half_width": found.half_width,
        "strata": [
            {"name": one.name, "pool": one.pool, "labels": one.labels, "expected_sd": one.expected_sd}
            for one in found.strata
        ],
        "simple_random_would_need": found.simple_random,
        "assumes": list(ASSUMES),
    }


def sample_csv(
    found: LabelSample,
    record: RunRecord,
    judged: EvaluatedRun,
    against: EvaluatedRun | None,
    labels: Mapping[int, int],
    *,
    copies: bool = False,
) -> str:
    """The listed images in random order; ``label`` is empty but where it is known already. With ``copies`` the name of each one's copy."""
    classes, contents = record.classes, record.answers.contents

    def named(indices: np.ndarray) -> list[str]:
        return [safe_cell(classes[i]) for i in indices.tolist()]

    listed = found.listed
    columns: dict[str, Any] = {
        "path": [safe_cell(escaped(record.image_set.told_path(int(i)))) for i in listed],
        "content": [contents.get(int(i), b"").hex() for i in listed],
        "stratum": (found.stratum + 1).tolist(),
        "inclusion": [round(float(one), 9) for one in found.inclusion],
        "predicted": named(judged.predicted[listed]),
        "confidence": [round(float(one), 6) for one in judged.confidence[listed]],
    }
    if found.wanted.figure == "difference" and against is not None:
        columns["other_predicted"] = named(against.predicted[listed])
    if copies:
        columns["copy"] = copy_names(found, record)
    columns["label"] = [safe_cell(classes[labels[int(i)]]) if int(i) in labels else "" for i in listed]
    return pl.DataFrame(columns, infer_schema_length=None).write_csv()


def copy_names(found: LabelSample, record: RunRecord) -> list[str]:
    """What the copies of the listed images are called: their number in the list, so that no name tells a class."""
    digits = len(str(len(found.listed)))
    items = record.image_set.items
    endings = [copy_ending(items[int(i)].path) for i in found.listed]
    return [f"{n:0{digits}d}{one if one.isascii() else ''}" for n, one in enumerate(endings, 1)]


class _Stratum(BaseModel):
    model_config = ConfigDict(strict=True)
    pool: Annotated[int, Field(ge=1)]
    labels: Annotated[int, Field(ge=0)]


class _Sample(BaseModel):
    model_config = ConfigDict(strict=True)
    format: Literal["mivrat-sample/1"]
    figure: str
    class_list: Annotated[list[str], Field(min_length=2)]
    pool: Annotated[int, Field(ge=1)]
    counted_as_zero: Annotated[int, Field(ge=0)]
    strata: Annotated[list[_Stratum], Field(min_length=1)]


@dataclass(frozen=True)
class ReadSample:
    """A list as it was written: what is wanted, the classes, the pool's images of each stratum, and the rows with their paths."""

    wanted: WantedFigure
    classes: list[str]
    pool: int
    same: int
    strata: list[int]
    paths: list[str]
    rows: list[SampleRow]
    labels: dict[int, int]


def read_sample(folder: Path) -> ReadSample:
    """The list in a folder. InputError where its files are missing, or not what was written."""
    told, listed = folder / "sample.json", folder / "sample.csv"
    hint = "name the folder that mivrat sample has written, with its files as they were"
    try:
        data = _Sample.model_validate_json(told.read_bytes())
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", where=told, hint=hint) from error
    except ValidationError as error:
        raise InputError(
            f"is not a list of images to label ({error.errors()[0]['msg']})", where=told, hint=hint
        ) from error
    if not listed.is_file():
        raise InputError("is not there", where=listed, hint=hint)
    table = read_columns(listed)
    needed = {"path", "stratum", "predicted"} | ({"other_predicted"} if data.figure.startswith("difference") else set())
    if missing := sorted(needed - set(table.columns)):
        raise InputError(f"has no column {', '.join(missing)}", where=listed, hint=hint)
    matcher = ClassMatcher(data.class_list)

    def classes_of(name: str) -> list[int]:
        found = [matcher.index(plain_cell(text or "")) for text in table[name].to_list()]
        if None in found:
            raise InputError(f"line {found.index(None) + 2}: {name} is not in the class list", where=listed, hint=hint)
        return [one for one in found if one is not None]

    try:
        strata = [int(one) - 1 for one in table["stratum"].to_list()]
    except (TypeError, ValueError) as error:
        raise InputError("a stratum is no number", where=listed, hint=hint) from error
    number = len(data.strata)
    drawn = np.bincount([one for one in strata if 0 <= one < number], minlength=number).tolist()
    if any(not 0 <= one < number for one in strata) or drawn != [one.labels for one in data.strata]:
        raise InputError("does not list as many images of each stratum as sample.json says", where=listed, hint=hint)
    predicted = classes_of("predicted")
    other = classes_of("other_predicted") if "other_predicted" in needed else [-1] * len(predicted)
    rows = [SampleRow(*one) for one in zip(strata, predicted, other, strict=True)]
    paths = [plain_cell(text or "") for text in table["path"].to_list()]
    found = ReadSample(
        wanted_figure(data.figure, data.class_list),
        data.class_list,
        data.pool,
        data.counted_as_zero,
        [one.pool for one in data.strata],
        paths,
        rows,
        {},
    )
    texts = table["label"].to_list() if "label" in table.columns else []
    return replace_labels(found, dict(enumerate(_labels_of(texts, matcher, listed))))


def replace_labels(sample: ReadSample, labels: Mapping[int, int | None]) -> ReadSample:
    """The same with these labels beside those it has."""
    known = {i: k for i, k in labels.items() if k is not None}
    return replace(sample, labels={**sample.labels, **known})


def plain_cell(text: str) -> str:
    """What ``safe_cell`` has made safe, as it was."""
    return text[1:] if text[:1] == "'" and text[1:2] in ("=", "+", "-", "@", "\t", "\r", "\n") else text


def _labels_of(texts: Sequence[str | None], matcher: ClassMatcher, where: Path) -> list[int | None]:
    found: list[int | None] = []
    for line, text in enumerate(texts, 2):
        plain = plain_cell((text or "").strip())
        index = matcher.index(plain) if plain else None
        if plain and index is None:
            raise InputError(
                f"line {line}: label {plain!r} is not in the class list",
                where=where,
                hint=f"write one of: {', '.join(matcher.classes[:20])}",
            )
        found.append(index)
    return found


def labels_by_path(source: Path, classes: Sequence[str]) -> dict[str, int]:
    """Labels from a table with the columns path and label, by path; lines without a label left out. InputError where it has not both, a
    label is no class, or one path has two labels."""
    table = read_columns(source)
    if missing := [name for name in ("path", "label") if name not in table.columns]:
        raise InputError(
            f"has no column {' and no column '.join(missing)}",
            where=source,
            hint="a table of labels has path and label",
        )
    found: dict[str, int] = {}
    texts = [None if one is None else str(one) for one in table["label"].to_list()]
    for path, label in zip(table["path"].to_list(), _labels_of(texts, ClassMatcher(classes), source), strict=True):
        name = plain_cell(str(path or ""))
        if label is None:
            continue
        if found.setdefault(name, label) != label:
            raise InputError(f"{name} has two labels", where=source, hint="leave one of them")
    return found


def read_labelled(folder: Path, table: Path | None) -> ReadSample:
    """The list in a folder with the labels of a table, else with those in its own column. InputError as for both."""
    listed = read_sample(folder)
    if table is None:
        return listed
    by_path = labels_by_path(table, listed.classes)
    return replace_labels(listed, {i: by_path.get(path) for i, path in enumerate(listed.paths)})


def estimate_json(sample: ReadSample, found: Estimated) -> dict[str, Any]:
    """The content of estimate.json."""
    return {
        "format": "mivrat-estimate/1",
        "figure": sample.wanted.text,
        "pool": sample.pool,
        "labelled": len(sample.rows),
        "value": found.value,
        "low": found.low,
        "high": found.high,
        "plain_mean": found.plain,
        "simple_random_would_need": simple_random_for(sample, found),
        "assumes": list(ASSUMES),
    }


def simple_random_for(sample: ReadSample, found: Estimated) -> int | None:
    """How many labels of a simple random sample would tell as much; None where that cannot be said."""
    if found.effective is None:
        return None
    worth = found.effective
    if sample.wanted.figure == "recall":
        of = sample.wanted.class_index
        weights = np.array(sample.strata) / np.maximum(
            1, np.bincount([one.stratum for one in sample.rows], minlength=len(sample.strata))
        )
        seen = sum(float(weights[one.stratum]) for i, one in enumerate(sample.rows) if sample.labels.get(i) == of)
        worth = worth * sample.pool / max(1e-9, seen)
    if sample.wanted.figure == "difference":
        differing = sample.pool - sample.same
        worth = worth * sample.pool / max(1, differing)
    return min(sample.pool, ceil(worth / (1 + worth / sample.pool)))


def write_sample(folder: Path, told: dict[str, Any], table: str) -> list[Path]:
    """Write both files, and return their paths."""
    written = [folder / "sample.json", folder / "sample.csv"]
    write_whole(written[0], json.dumps(told, indent=1, ensure_ascii=False) + "\n")
    write_whole(written[1], table)
    return written


def copy_listed(found: LabelSample, record: RunRecord, folder: Path) -> Iterator[Progress | Written]:
    """Copy the listed images into a folder, under the names of ``copy_names``; nothing is overwritten, and what an earlier try has put
    there is left. Yields progress, and at last what was written; ends early when stopped. InputError where the folder cannot be written,
    or holds another file of that name."""
    meter, done, made = Meter(len(found.listed)), 0, 0
    yield meter.at(0)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, i in zip(copy_names(found, record), found.listed.tolist(), strict=True):
            if current_stop().stopped:
                break
            copied, target = to_copy(record.image_set.file(i)), folder / name
            if copied is not None:
                made += 1
                if not is_same_file(copied[0], target):
                    put_new(copied[0], target)
            done += 1
            yield meter.at(done)
    except FileExistsError as error:
        raise InputError(
            f"holds another file called {Path(str(error.args[0])).name}",
            where=folder,
            hint="choose an empty folder",
        ) from error
    except OSError as error:
        raise cannot_be_written(error, folder) from error
    yield Written(made, folder, done - made)


def drawn_sample(
    found: LabelSample, classes: Sequence[str], judged: EvaluatedRun, against: EvaluatedRun | None
) -> ReadSample:
    """A list as it would be read back, straight from what was drawn; without labels."""
    other = against.predicted if found.wanted.figure == "difference" and against is not None else None
    rows = [
        SampleRow(int(h), int(judged.predicted[i]), int(other[i]) if other is not None else -1)
        for h, i in zip(found.stratum.tolist(), found.listed.tolist(), strict=True)
    ]
    sizes = [one.pool for one in found.strata]
    return ReadSample(found.wanted, list(classes), found.pool, found.same, sizes, [""] * len(rows), rows, {})


def sample_sentences(found: LabelSample) -> list[str]:
    """What is to be labelled, what it promises, and where labels go."""
    instead = "more than a million" if found.simple_random is None else f"about {count(found.simple_random)}"
    promise = f"{100 * found.half_width:.1f} points"
    told = [
        f"{count(len(found.listed))} labels for {found.wanted.text} over a pool of {count(found.pool)}: expected to within {promise} (95 %); "
        f"a simple random sample would need {instead}"
    ]
    if found.same:
        told.append(f"{count(found.same)} images are answered alike by both models, and need no label")
    told += [f"  {one.name}: {count(one.labels)} of {count(one.pool)}" for one in found.strata]
    return told


def estimate_sentences(sample: ReadSample, found: Estimated) -> list[str]:
    """The estimate beside what the plain mean of these labels would say, and what it saved."""
    if found.value is None:
        return [f"{sample.wanted.text}: nothing can be said; no labelled image counts for it"]
    if sample.wanted.figure == "difference":
        told = f"{points(found.value)} points ({signed_span(found.low, found.high)})"
        plain = f"{points(found.plain)} points"
    else:
        told = figure(found.value, found.low, found.high, in_percent=True)
        plain = percent(found.plain)
    lines = [
        f"{sample.wanted.name}: {told}, from {count(len(sample.rows))} labels over a pool of {count(sample.pool)}",
        f"the plain mean of these labels, {plain}, is not valid: images that the model doubts are over-represented among them",
    ]
    if len(sample.rows) == sum(sample.strata):
        lines[1] = "every image that counts has a label: nothing is estimated"
    elif len(sample.strata) == 1:
        lines[1] = "every image was as likely to be listed, so that the plain mean of these labels says the same"
    instead = simple_random_for(sample, found)
    if instead is not None:
        better = "saved" if instead > len(sample.rows) else "not saved"
        lines.append(
            f"a simple random sample would have needed about {count(instead)} labels for this interval: {better}"
        )
    return lines
