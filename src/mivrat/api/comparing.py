"""One run held against another: differences with their intervals, what may be claimed, and where both differ."""

from __future__ import annotations

import copy
import hashlib
from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from mivrat.api.figure import Figure, as_table, of_difference
from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.comparing.claims import MARGIN
from mivrat.core.comparing.groups import by_group
from mivrat.core.comparing.holding import Compared, headline_differences
from mivrat.core.comparing.of_runs import compare_runs
from mivrat.core.concluding.requirements import RequirementOutcome, parse_difference
from mivrat.core.figures.groups import group_names
from mivrat.core.pictures.image_sets import column_of, paths_of
from mivrat.core.running.snapshot import Snapshot

if TYPE_CHECKING:
    import polars as pl

    from mivrat.api.run import Run
else:
    pl = LazyModule("polars")


class Comparison:
    """Run b held against run a; every difference is b less a. ``same_images`` tells whether both are of the same images.

    Differences are attributes, as figures are of a run: ``found.top1``, ``found.macro_f1``, ``found.log_loss``.
    """

    def __init__(self, compared: Compared) -> None:
        self._compared = compared

    @property
    def same_images(self) -> bool:
        """Whether both runs are of the same images, image by image; else of two sets."""
        return self._compared.found.paired is not None

    @property
    def n(self) -> int:
        """The images that differences are of; of two sets those of both together."""
        return self._compared.found.total

    @cached_property
    def figures(self) -> dict[str, Figure]:
        """Every difference, by key."""
        found = self._compared.found
        units = found.paired.units if found.paired is not None else None
        return {
            one.key: of_difference(one, difference, self.n, units, "it is undefined for one of the runs")
            for one, difference in headline_differences(self._compared)
        }

    def __getattr__(self, key: str) -> Figure:
        if key.startswith("_") or key not in self.figures:
            raise AttributeError(
                f"a comparison has no figure {key!r}"
                + ("" if key[:1] == "_" else f"; it has {', '.join(self.figures)}")
            )
        return self.figures[key]

    def __dir__(self) -> list[str]:
        return sorted({*super().__dir__(), *self.figures})

    @cached_property
    def claims(self) -> list[str]:
        """What may be claimed, and what may not, in sentences."""
        return [one.text for one in self._compared.claims]

    @cached_property
    def counts(self) -> dict[str, int]:
        """Of the same images: how many are right under both, fixed, broken, and wrong under both (and with the same answer)."""
        found = self._compared.found.paired
        if found is None:
            raise InputError("is of two sets of images", where="counts", hint="compare two runs on the same images")
        four = found.four
        names = ("both_right", "fixed", "broken", "both_wrong", "same_wrong")
        return {name: getattr(four, name) for name in names}

    @cached_property
    def classes(self) -> pl.DataFrame:
        """A row for each class: the difference in recall and in precision with their intervals, and p of that in recall, corrected over
        the classes."""
        found, rows = self._compared.found, []
        for name, one in zip(found.classes, found.lines, strict=True):
            row: dict[str, Any] = {"class": name}
            for key, difference in (("recall", one.recall), ("precision", one.precision)):
                row |= {
                    f"{key}_a": difference.a,
                    f"{key}_b": difference.b,
                    key: difference.value,
                    f"{key}_low": difference.low,
                    f"{key}_high": difference.high,
                }
            rows.append(row | {"p": one.p_holm})
        return pl.DataFrame(rows, infer_schema_length=None)

    def by(self, column: str) -> pl.DataFrame:
        """The difference in accuracy by the groups of a column of run a's images, the surest change first."""
        held = self._compared.held
        if held.other is None:
            raise InputError("is of two sets of images", where="by", hint="compare two runs on the same images")
        names = group_names(column_of(held.a.record.image_set.items, column))
        return pl.DataFrame(
            [
                {
                    column: one.name,
                    "images": one.total,
                    "fixed": one.fixed,
                    "broken": one.broken,
                    "accuracy": one.top1.value,
                    "low": one.top1.low,
                    "high": one.top1.high,
                    "p": one.p_holm,
                }
                for one in by_group(names, held.other)
            ],
            infer_schema_length=None,
        )

    @cached_property
    def changed(self) -> pl.DataFrame:
        """The images that only one run has right: path, label, both predictions, and whether they are fixed or broken."""
        other = self._compared.held.other
        if other is None:
            raise InputError("is of two sets of images", where="changed", hint="compare two runs on the same images")
        judged, found = other.judged, self._compared.found
        fixed, broken = other.mask("fixed"), other.mask("broken")
        at = np.flatnonzero(fixed | broken)
        images = self._compared.held.a.record.image_set
        return pl.DataFrame(
            {
                "path": [images.told_path(i) for i in at.tolist()],
                "label": [found.classes[k] for k in judged.labels[at].tolist()],
                "predicted_a": [found.classes[k] for k in judged.predicted[at].tolist()],
                "predicted_b": [found.classes[k] for k in other.predicted[at].tolist()],
                "outcome": ["fixed" if one else "broken" for one in fixed[at].tolist()],
            }
        )

    def require(self, text: str) -> RequirementOutcome:
        """A criterion on a difference, such as ``low(top1) >= -0.01``, as ``compare --require`` takes it."""
        return parse_difference(text, self._compared.found.classes).against_difference(self._compared.found)

    def __repr__(self) -> str:
        names = self._compared.found.names
        return f"<Comparison of {names.b} with {names.a}: {self.top1}>"

    def _repr_html_(self) -> str:
        names = self._compared.found.names
        return as_table(list(self.figures.values()), f"{names.b} compared with {names.a}", self.claims)


def compare(run_a: Run, run_b: Run, *, margin: float = MARGIN, same_rows: bool = False, seed: int = 0) -> Comparison:
    """Hold run b against run a: on the same images where they are the same by content (or by path, of runs from arrays), else as two sets.

    ``margin``: the loss that claims weigh. ``same_rows``: of runs from arrays without paths, row i is the same image in both; without
    it they are refused, since a loop that shuffles would make nonsense of it. InputError where they cannot be compared.
    """
    for one in (run_a, run_b):
        one.refuse_some("comparisons")
    if same_rows:
        _refuse_other_rows(run_a, run_b)
    elif "row" in (run_a.known_by, run_b.known_by):
        raise InputError(
            "nothing says which image is which: a run from arrays has no paths",
            where="compare",
            hint="give from_scores the paths of the images, or pass same_rows=True if row i is the same image in both",
        )
    a, b = (_snapshot(one, run_a, run_b, same_rows) for one in (run_a, run_b))
    found = compare_runs(a, b, margin, seed)
    assert found is not None, "nothing here is asked to stop"
    return Comparison(found)


def _refuse_other_rows(a: Run, b: Run) -> None:
    labels = a.judged.labels, b.judged.labels
    if a.class_names != b.class_names or labels[0].shape != labels[1].shape or (labels[0] != labels[1]).any():
        raise InputError(
            "the rows of both runs have different labels, so they are not of the same images",
            where="same_rows",
            hint="give from_scores the paths of the images",
        )


def _snapshot(one: Run, run_a: Run, run_b: Run, same_rows: bool) -> Snapshot:
    """A run as it is compared: by content where both know the bytes of their images, else by path; by row where that is said."""
    snapshot = one.snapshot
    by_path = not same_rows and "path" in (run_a.known_by, run_b.known_by)
    if not same_rows and not by_path:
        return snapshot
    record = snapshot.record
    answers = copy.copy(record.answers)
    names: Sequence[str] = (
        [f"row {i}" for i in range(len(one.judged.labels))] if same_rows else paths_of(record.image_set.items)
    )
    answers.contents = {
        i: hashlib.sha256(f"path {name}".encode("utf-8", "surrogateescape")).digest() for i, name in enumerate(names)
    }
    content = record.model_sha256
    if run_a.record.model_sha256 == run_b.record.model_sha256:  # the same numbers under another name are still two runs
        content = f"{content} {'a' if one is run_a else 'b'}"
    return replace(snapshot, record=replace(record, answers=answers, model_sha256=content))
