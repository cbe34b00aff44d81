"""Lists of selected images to hand over, as CSV or Parquet: all that is known of them, labels to be corrected, more to collect, predictions."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, PENDING, UNREADABLE
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Stopped
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import escaped, safe_cell
from mivrat.core.pictures.properties import NAMES
from mivrat.core.running.set_valued import SetPlan, at_last, members, own_sets
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ordering import BY_PROPERTY
from mivrat.core.study.records import RunRecord
from mivrat.core.study.reviews import Reviews

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


@dataclass(frozen=True)
class Source:
    """Where exported images came from; ``selection`` is in words."""

    study: str
    model: str
    image_set: str
    selection: str
    day: date

    def lines(self) -> list[str]:
        return [
            f"study: {self.study}",
            f"model: {self.model}",
            f"image set: {self.image_set}",
            f"selection: {self.selection}",
            f"date: {self.day.isoformat()}",
        ]


@dataclass(frozen=True)
class ExportedImages:
    """The images to export, in order, with the run they are of."""

    source: Source
    record: RunRecord
    judged: EvaluatedRun
    reviews: Reviews
    images: Sequence[int]
    measures: Measures = field(default_factory=Measures)

    def unanswered(self) -> str:
        """In words, how many of the images have no answer, and why; empty where all have one."""
        state = self.judged.state[np.asarray(self.images, np.int64)]
        found = [
            f"{number} {what}"
            for which, what in ((PENDING, "not scored yet"), (UNREADABLE, "unreadable"), (FAILED, "failed"))
            if (number := int((state == which).sum()))
        ]
        return f"without an answer: {', '.join(found)}" if found else ""

    def label_of(self, image: int) -> str:
        k = int(self.judged.labels[image])
        return self.record.classes[k] if k >= 0 else ""

    def predicted_of(self, image: int) -> str:
        k = int(self.judged.predicted[image])
        return self.record.classes[k] if k >= 0 else ""

    def confidence_of(self, image: int) -> str:
        value = float(self.judged.confidence[image])
        return "" if value != value else f"{value:.6f}"


# Columns of numbers, where a file tells numbers from words.
_NUMBERS = ("confidence", "probability", "p:", BY_PROPERTY)


@dataclass(frozen=True)
class ListTable:
    """A list to hand over: what it is, where it came from, its header and its lines."""

    what: str
    source: Source
    head: list[str]
    lines: list[list[str]]

    def as_csv(self, comments: bool = False) -> str:
        """Comma-separated values; ``comments``: under lines that say what it is and where it came from, which not every reader skips."""
        out = io.StringIO()
        for line in (self.what, *self.source.lines()) if comments else ():
            out.write(f"# {' '.join(line.split())}\n")
        csv.writer(out, lineterminator="\n").writerows(
            [[safe_cell(cell) for cell in line] for line in (self.head, *self.lines)]
        )
        return out.getvalue()

    def as_parquet(self) -> bytes:
        """The same as Parquet: confidence and probabilities as numbers, ranks as whole ones, everything else as text."""
        columns: dict[str, pl.Series] = {}
        for at, name in enumerate(self.head):
            cells = [line[at] for line in self.lines]
            kind = pl.Float64 if name.startswith(_NUMBERS) else pl.Int64 if name == "rank" else None
            made = pl.Series(cells, dtype=pl.String)
            unused = (
                name
                if name not in columns
                else next(f"{name} ({n})" for n in range(2, len(self.head) + 2) if f"{name} ({n})" not in columns)
            )
            columns[unused] = made if kind is None else made.replace("", None).cast(kind)
        out = io.BytesIO()
        pl.DataFrame(columns).write_parquet(out)
        return out.getvalue()

    def write(self, path: Path, comments: bool = False) -> None:
        """Write it as what the name ends with: Parquet, else CSV. InputError where it cannot be written."""
        write_whole(path, self.as_parquet() if path.suffix.lower() == ".parquet" else self.as_csv(comments))


def list_of_images(exported: ExportedImages) -> ListTable:
    """A list of the images: path, label, prediction, confidence, rank, causes, proposed label, note, columns, and what was measured in
    the photos."""
    items, reviews = exported.record.image_set.items, exported.reviews
    columns = list(items[0].columns) if items else []
    head = [
        "path",
        "label",
        "predicted",
        "confidence",
        "rank",
        "causes",
        "proposed_label",
        "note",
        "reviewed",
        *columns,
    ]
    measured = [(f"{BY_PROPERTY}{name}", exported.measures.of(name)) for name in NAMES if exported.measures.has(name)]
    lines = [[*head, *(name for name, _ in measured)]]
    for i in exported.images:
        review, rank = reviews[i], int(exported.judged.rank[i])
        lines.append(
            [
                escaped(items[i].path),
                exported.label_of(i),
                exported.predicted_of(i),
                exported.confidence_of(i),
                str(rank) if rank else "",
                "; ".join(reviews.names(i)),
                exported.record.classes[review.label] if review.label is not None else "",
                review.note,
                "yes" if review.reviewed else "",
                *(items[i].columns.get(name, "") for name in columns),
                *(f"{values[i]:.7g}" if np.isfinite(values[i]) else "" for _, values in measured),
            ]
        )
    unanswered = exported.unanswered()
    return ListTable(f"images selected{f' ({unanswered})' if unanswered else ''}", exported.source, lines[0], lines[1:])


def relabel_list(exported: ExportedImages) -> ListTable:
    """A list of those images for which another label is proposed. InputError where there is none."""
    items, proposed = exported.record.image_set.items, exported.reviews.proposed()
    some = [i for i in exported.images if i in proposed]
    if not some:
        raise InputError(
            "no other label is proposed for any of these images",
            hint="propose one in the close look, or under Examine, Labels",
        )
    lines = [["path", "label", "proposed_label", "predicted", "confidence", "note"]]
    for i in some:
        lines.append(
            [
                escaped(items[i].path),
                exported.label_of(i),
                exported.record.classes[proposed[i]],
                exported.predicted_of(i),
                exported.confidence_of(i),
                exported.reviews[i].note,
            ]
        )
    return ListTable("labels to be corrected", exported.source, lines[0], lines[1:])


def collect_list(exported: ExportedImages) -> ListTable:
    """A list of examples of what more should be collected of, under a count of what they are."""
    items, reviews = exported.record.image_set.items, exported.reviews
    columns = list(items[0].columns) if items else []
    lines = [["path", "class", "called", "causes", *columns]]
    for i in exported.images:
        label = reviews[i].label
        truth = exported.record.classes[label] if label is not None else exported.label_of(i)
        causes = "; ".join(reviews.names(i))
        lines.append(
            [
                escaped(items[i].path),
                truth,
                exported.predicted_of(i),
                causes,
                *(items[i].columns.get(c, "") for c in columns),
            ]
        )
    kinds: dict[str, int] = {}
    for line in lines[1:]:
        kinds[line[1] or "no label"] = kinds.get(line[1] or "no label", 0) + 1
    counted = ", ".join(f"{name} {n}" for name, n in sorted(kinds.items(), key=lambda one: (-one[1], one[0])))
    return ListTable(f"collect more images like these: {counted}", exported.source, lines[0], lines[1:])


def predictions_list(
    exported: ExportedImages, of: int | Literal["predicted", "every"] = "predicted", sets: SetPlan | None = None
) -> ListTable:
    """A list of what the model answers: id, predicted class and its probability; or the probability of one class; or that of every
    class; with ``sets`` also the prediction set of each image, as a JSON list, the most probable class first. The id is the path. Images
    without an answer stand in it with empty cells. InputError where the model, or its labels, cannot give that."""
    judged, classes, items = exported.judged, exported.record.classes, exported.record.image_set.items
    at = np.asarray(exported.images, np.int64)
    if of != "predicted" and not judged.has_scores:
        raise InputError("this model tells only what it predicts", hint="ask for the predicted class alone")
    head, columns = ["id", "predicted", "probability"], None
    if of == "every":
        head, columns = ["id", "predicted", *(f"p:{name}" for name in classes)], judged.probabilities(at)
    elif of != "predicted":
        head, columns = ["id", f"p:{classes[of]}"], judged.column(of, at)[:, None]
    lines = [head]
    for n, i in enumerate(at.tolist()):
        told = [] if columns is None else ["" if p != p else f"{p:.6f}" for p in columns[n].tolist()]
        called = [] if isinstance(of, int) else [exported.predicted_of(i)]
        sure = [exported.confidence_of(i)] if columns is None else []
        lines.append([escaped(items[i].path), *called, *sure, *told])
    if sets is not None:
        lines[0] = [*head, "set"]
        for cells, as_set in zip(lines[1:], _sets_of(exported, at, sets), strict=True):
            cells.append(as_set)
    unanswered = exported.unanswered()
    return ListTable(f"predictions{f' ({unanswered})' if unanswered else ''}", exported.source, lines[0], lines[1:])


def _sets_of(exported: ExportedImages, images: NDArray[np.int64], plan: SetPlan) -> list[str]:
    judged, classes = exported.judged, exported.record.classes
    found = at_last(own_sets(exported.record, judged, plan))
    if found is None:
        raise Stopped
    answered = (found.sizes[images] >= 0).tolist()
    return [
        json.dumps([classes[k] for k in one], ensure_ascii=False) if there else ""
        for one, there in zip(members(judged, found, images), answered, strict=True)
    ]
