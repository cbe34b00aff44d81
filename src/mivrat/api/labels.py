"""Which images to have labelled, and what the labels then say of the whole pool."""

from __future__ import annotations

import io
import json
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mivrat.api.figure import Figure
from mivrat.api.inputs import Place
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.concluding.labelling import LabelSample, draw_labels, estimate_from_labels, wanted_figure
from mivrat.core.figures.label_sample import Estimated
from mivrat.core.reporting.label_lists import (
    ReadSample,
    estimate_json,
    estimate_sentences,
    read_labelled,
    sample_csv,
    sample_json,
    sample_sentences,
    write_sample,
)

if TYPE_CHECKING:
    import polars as pl

    from mivrat.api.run import Run
else:
    pl = LazyModule("polars")


class LabelList:
    """The images to have labelled: ``frame`` with an empty column ``label``, ``half_width`` as expected of the interval, and how many
    labels a simple random sample would need (``simple_random``; None: more than can be told)."""

    def __init__(self, found: LabelSample, run: Run, against: Run | None) -> None:
        self._found, self._run, self._against = found, run, against

    @property
    def half_width(self) -> float:
        """The half-width to expect of the interval."""
        return self._found.half_width

    @property
    def simple_random(self) -> int | None:
        """How many labels a simple random sample would need for as narrow an interval."""
        return self._found.simple_random

    @property
    def _csv(self) -> str:
        against = self._against.judged if self._against is not None else None
        return sample_csv(self._found, self._run.record, self._run.judged, against, {})

    @cached_property
    def frame(self) -> pl.DataFrame:
        """The listed images in random order."""
        return pl.read_csv(io.StringIO(self._csv), infer_schema_length=None)

    def save(self, folder: Place) -> list[Path]:
        """Write ``sample.json`` and ``sample.csv``, which ``estimate`` reads once labels are filled in; returns their paths."""
        return write_sample(Path(folder), sample_json(self._found, self._run.class_names), self._csv)

    def __repr__(self) -> str:
        return f"<LabelList: {sample_sentences(self._found)[0]}>"


def sample(
    run: Run,
    figure: str = "top1",
    *,
    labels: int | None = None,
    half_width: float | None = None,
    against: Run | None = None,
    seed: int = 0,
) -> LabelList:
    """Choose images of a run to have labelled, for ``top1``, ``recall["x"]``, ``precision["x"]``, or ``difference(top1)`` to the run
    ``against``: so many ``labels``, or as many as a ``half_width`` takes. Labels that the images have are not looked at. InputError
    where nothing can be drawn."""
    if (labels is None) == (half_width is None):
        raise InputError("give one of labels and half_width", where="sample", hint="the other follows from it")
    wanted = wanted_figure(figure, run.class_names)
    if (wanted.figure == "difference") != (against is not None):
        raise InputError(
            "a difference needs another model", where="against", hint="name it with against, for difference(top1) alone"
        )
    for one in (run, against):
        if one is not None:
            one.refuse_some("label lists")
    if against is not None and against.record.set_key != run.record.set_key:
        raise InputError("both runs must be of one list of images", where="against", hint="score the same images")
    found = draw_labels(
        run.record,
        run.judged,
        wanted,
        labels=labels,
        half_width=half_width,
        seed=seed,
        against=against.judged if against is not None else None,
    )
    return LabelList(found, run, against)


class Estimate:
    """What the labels say: ``figure`` with its interval over the whole pool, and sentences about it."""

    def __init__(self, listed: ReadSample, found: Estimated) -> None:
        self._listed, self._found = listed, found

    @property
    def figure(self) -> Figure:
        """The figure over the pool, from the labelled images weighted by how likely each was to be listed."""
        wanted, found = self._listed.wanted, self._found
        return Figure(
            wanted.text,
            wanted.name,
            found.value,
            found.low,
            found.high,
            self._listed.pool,
            why="" if found.value is not None else "no labelled image counts for it",
            how=f"95 % interval from {len(self._listed.rows)} labels drawn by chance within strata",
            of_difference=wanted.figure == "difference",
        )

    @property
    def claims(self) -> list[str]:
        """The estimate beside what the plain mean of these labels would say, and what it saved."""
        return estimate_sentences(self._listed, self._found)

    def save(self, folder: Place) -> Path:
        """Write ``estimate.json``; returns its path."""
        path = Path(folder) / "estimate.json"
        told: dict[str, Any] = estimate_json(self._listed, self._found)
        write_whole(path, json.dumps(told, indent=1, ensure_ascii=False) + "\n")
        return path

    def __repr__(self) -> str:
        return f"<Estimate: {self.figure}>"


def estimate(folder: Place, labels: Place | None = None) -> Estimate:
    """What the labels of a list in a ``folder`` come to: those of its own column, or of a table with ``path`` and ``label``. InputError
    where an image has no label, or a label is no class."""
    listed = read_labelled(Path(folder), Path(labels) if labels is not None else None)
    found = estimate_from_labels(listed.wanted, listed.strata, listed.same, listed.rows, listed.labels)
    return Estimate(listed, found)
