"""What is held against the run shown: another run, laid on the same images or beside them as another set."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mivrat.core.answers.other import Other, align
from mivrat.core.comparing.claims import ComparisonClaim
from mivrat.core.comparing.comparison import Comparison, Names, OnSameImages, OnTwoSets
from mivrat.core.comparing.groups import GroupDifference
from mivrat.core.comparing.matching import match_classes, match_contents
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.metrics import METRICS, Metric, metric
from mivrat.core.figures.selective import Selective
from mivrat.core.figures.summary import Figures
from mivrat.core.running.snapshot import Snapshot


@dataclass(frozen=True)
class RunPair:
    """The run held against the one shown, b against a: exactly one of ``on_images`` and ``on_sets`` is there."""

    a: Snapshot
    b: Snapshot
    names: Names
    on_images: OnSameImages | None = None
    on_sets: OnTwoSets | None = None

    @property
    def other(self) -> Other | None:
        """Its answers laid on the images shown, where they are the same."""
        return self.on_images.other if self.on_images is not None else None


@dataclass(frozen=True)
class Compared:
    """What the run shown and the one held against it come to, over all images or the selection (``among``). ``told_of_all`` says why
    it is of all images though the selection was asked for. ``b_figures`` and ``b_selective`` are those of the run held, over the same
    images (of two sets, over its own)."""

    held: RunPair
    found: Comparison
    claims: tuple[ComparisonClaim, ...]
    groups: tuple[tuple[str, tuple[GroupDifference, ...]], ...] = ()
    of_selection: bool = False
    told_of_all: str = ""
    b_figures: Figures | None = None
    b_selective: Selective | None = None


def headline_differences(compared: Compared) -> list[tuple[Metric, Difference]]:
    """The difference of every figure that is compared."""
    either = compared.found.either
    found = [(metric(f"top{k}"), one) for k, one in either.top_k.items()]
    return found + [(one, either.means[one.key]) for one in METRICS if one.key in either.means]


def names_of(a: Snapshot, b: Snapshot) -> Names:
    """What both are called: by what sets them apart, the model, the image set, or both."""
    model_a, model_b = a.record.info.model, b.record.info.model
    set_a, set_b = a.record.info.image_set, b.record.info.image_set
    if a.record.set_key == b.record.set_key:
        return Names(model_a, model_b)
    if a.record.model_key == b.record.model_key:
        return Names(set_a, set_b)
    return Names(f"{model_a} on {set_a}", f"{model_b} on {set_b}")


def hold(a: Snapshot, b: Snapshot, names: Names) -> RunPair:
    """Hold run b against run a; takes a moment for large runs.

    Under another model images are the same where their content is; under the same model another list is another set, though some
    pictures may stand in both.
    """
    one, other = a.record, b.record
    classes, places = match_classes(one.classes, other.classes)
    know = None
    if one.classes != other.classes:
        know = np.zeros(len(classes), bool)
        know[places] = True
        know[len(one.classes) :] = False
    if one.set_key == other.set_key:
        at = np.arange(len(a.judged.labels))
    else:
        at = match_contents(one.image_set.items, one.answers.contents, other.image_set.items, other.answers.contents)
    same = int((at >= 0).sum())
    if one.set_key == other.set_key or (one.model_key != other.model_key and same):
        laid = align(a.judged, b.judged, at, places)
        elsewhere = b.judged.evaluated.copy()
        elsewhere[at[at >= 0]] = False
        return RunPair(a, b, names, OnSameImages(names, classes, laid, int(elsewhere.sum()), know))
    return RunPair(a, b, names, on_sets=OnTwoSets(names, classes, a.judged, b.judged, same))
