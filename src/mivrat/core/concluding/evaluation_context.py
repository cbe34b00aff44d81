"""What criteria and findings are held against: one run as judged, with all that checking them again takes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.concluding.requirements import REFERENCE, reference_text
from mivrat.core.figures.differences import shares_by_class
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.summary import Figures
from mivrat.core.figures.uncertainty import Intervals
from mivrat.core.heatmaps.maps import MapMaker
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.image_names import ImageName, ImageNames
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.pictures.properties import BY_NAME
from mivrat.core.pictures.recipe import Recipe, canonical
from mivrat.core.running.slow_figures import SlowFigures, in_fixed_order, intervals_over
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ranges import InRange
from mivrat.core.study.image_sets import StudyImage
from mivrat.core.study.records import RunRecord
from mivrat.core.study.reviews import Reviews


def model_hash(sha256: str, recipe: Recipe) -> str:
    """What a model with its recipe is, as one hash: the same file with another recipe is another model."""
    return hashlib.sha256(f"{sha256}\n{canonical(recipe)}".encode()).hexdigest()


def reference_of(record: RunRecord) -> str:
    """How a requirement names a run's model."""
    return reference_text(record.info.model, model_hash(record.model_sha256, record.recipe))


@dataclass
class EvaluationContext:
    """A run, what was decided of its images, where heatmaps come from, where a model file with some content lies, and the run of
    the model that a reference names on the same images, and an image in whatever set of the study; these None where there is none. ``deep``: its slow figures, where they
    have been worked out; ``strains`` tells what is known of the model's answers to distorted photos, ``measured``
    what is known of the images as numbers."""

    snapshot: Snapshot
    reviews: Reviews = field(default_factory=Reviews)
    makers: MakerPool = field(default_factory=MakerPool)
    model_at: Callable[[str], Path | None] = lambda content: None
    other: Callable[[str], Snapshot | None] = lambda reference: None
    elsewhere: Callable[[ImageName], StudyImage | None] = lambda name: None
    deep: SlowFigures | None = None
    strains: Callable[[], Mapping[tuple[bytes, str], tuple[int, float]]] = dict
    measured: Callable[[], Measures] = Measures

    @property
    def classes(self) -> list[str]:
        return self.snapshot.record.classes

    @cached_property
    def model(self) -> str:
        """What the model is, by content, with its recipe."""
        return model_hash(self.snapshot.record.model_sha256, self.snapshot.record.recipe)

    @cached_property
    def reference(self) -> str:
        """How a requirement names this run's model."""
        return reference_of(self.snapshot.record)

    def is_model(self, reference: str) -> bool:
        """Whether a reference names this run's model."""
        return reference.rpartition("#")[2] == self.model[:REFERENCE]

    @cached_property
    def images(self) -> str:
        """Which pictures the run is of, with their labels: a hash of content, whatever they are called and wherever they lie."""
        contents, labels = self.snapshot.record.answers.contents, self.snapshot.judged.labels
        lines = sorted(f"{content.hex()} {int(labels[i])}" for i, content in contents.items())
        return hashlib.sha256("\n".join([*lines, *self.classes]).encode("utf-8", "surrogateescape")).hexdigest()

    @cached_property
    def measures(self) -> Measures:
        """What is known of the images as numbers."""
        return self.measured()

    @cached_property
    def names(self) -> ImageNames:
        return self.snapshot.record.names

    @cached_property
    def intervals(self) -> Intervals | None:
        """The intervals of figures that are no shares."""
        if self.deep is not None:
            return self.deep.intervals
        judged = self.snapshot.judged
        use = in_fixed_order(judged, np.flatnonzero(judged.evaluated))
        return intervals_over(judged, use, judged.outcomes(use))

    @cached_property
    def ranked(self) -> Figures:
        """The figures with those that take a sort for each class."""
        return self.snapshot.judged.figures(list(self.snapshot.figures.top_k))

    def of_groups(self, groups: Sequence[tuple[str, str]]) -> NDArray[np.bool_]:
        """The images that stand in each of some groups (column, value). InputError where there is no such column or group."""
        items = self.snapshot.record.image_set.items
        found = np.ones(len(items), bool)
        for column, value in groups:
            if not any(column in item.columns for item in items):
                known = ", ".join(items[0].columns) if items and items[0].columns else "none"
                raise InputError(
                    f"the image set has no column {column!r}; its columns: {known}", hint="name one of these"
                )
            names = np.array(group_names(column_of(items, column)), object)
            mask = names == value
            if not mask.any():
                raise InputError(f"no image has {column} = {value!r}", hint="name a group that the image set has")
            found &= mask
        return found

    def of_ranges(self, ranges: Sequence[tuple[str, float, float]]) -> NDArray[np.bool_]:
        """The images with a number in each of some ranges (name, low, high). InputError where nothing of that name is a number of them."""
        found = np.ones(len(self.snapshot.judged.labels), bool)
        for name, low, high in ranges:
            if not self.measures.has(name):
                measured = name in BY_NAME
                raise InputError(
                    f"{name} was not measured in these photos"
                    if measured
                    else f"nothing called {name!r} is a number of these images",
                    hint="measure the photos under Examine, In common"
                    if measured
                    else "name a property of photos, or a column of numbers",
                )
            found &= InRange(name, frozenset({(low, high)}), self.measures).mask(self.snapshot.judged)
        return found

    def of_family(self, family: str) -> list[int]:
        """The classes of a family. InputError where there is none of that name."""
        families = self.snapshot.record.families
        found = [k for k, name in families.items() if name == family]
        if not found:
            known = ", ".join(dict.fromkeys(families.values())) or "none"
            raise InputError(f"families do not include {family!r}; the families: {known}", hint="name one of these")
        return found

    @cached_property
    def standing(self) -> RunSummary:
        """How it does as a whole."""
        judged = self.snapshot.judged
        use = np.flatnonzero(judged.evaluated)
        labels, right = judged.labels[use], judged.right[use]
        unit = judged.units.of(use) if judged.units is not None else None
        shares = shares_by_class(right, labels, judged.classes, unit)
        known = np.isfinite(shares.value)
        kinds = len(np.unique(judged.predicted[use]))
        if not known.any():
            return RunSummary(judged.share(judged.right, use), None, None, None, kinds, 0)
        value, low, high = (getattr(shares, one)[known] for one in ("value", "low", "high"))
        low, high = np.where(np.isfinite(low), low, 0.0), np.where(np.isfinite(high), high, 1.0)
        mean = float(value.mean())
        down, up = (float(np.sqrt(np.square(one).sum()) / known.sum()) for one in (value - low, high - value))
        top1 = judged.share(judged.right, use)
        return RunSummary(top1, mean, max(0.0, mean - down), min(1.0, mean + up), kinds, int(known.sum()))

    @contextmanager
    def maker(self) -> Iterator[MapMaker]:
        """The heatmap maker of the run's model. InputError where there can be none."""
        with self.makers.acquire(self.snapshot.record) as found:
            yield found

    @contextmanager
    def heat_of(self, content: str) -> Iterator[MapMaker]:
        """The heatmap maker of the model file with this content. InputError where it is not to be found."""
        record = self.snapshot.record
        if content in ("", record.model_sha256):
            with self.maker() as found:
                yield found
            return
        path = self.model_at(content)
        if path is None or not path.is_file():
            raise InputError("the model that the heat was taken from is not to be found", hint="bring its file back")
        with self.makers.acquire(replace(record, model_path=path, model_sha256=content), kind_known=False) as found:
            yield found


@dataclass(frozen=True)
class RunSummary:
    """How a run does as a whole: accuracy, balanced accuracy with its interval (half-widths of the classes squared and added, Zou and
    Donner 2008), how many classes it predicts at all, and how many are labelled."""

    top1: Proportion
    balanced: float | None
    low: float | None
    high: float | None
    predicted_classes: int
    labelled_classes: int
