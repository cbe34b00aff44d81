"""Checks of labels: missing or unknown ones, classes with few images or none, imbalance."""

from __future__ import annotations

import numpy as np

from mivrat.core.base.text import in_sentence, plural
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult
from mivrat.core.figures.intervals import proportion
from mivrat.core.pictures.classes import natural_key

FEW = 30
LOPSIDED = 10.0


def check_labels(inputs: Inputs) -> CheckResult:
    """Images without a label, and labels that no class goes by."""
    items = inputs.image_set.items
    unknown: dict[str, list[int]] = {}
    missing = []
    for i, item in enumerate(items):
        if item.label is None and item.said and item.said not in inputs.aside:
            unknown.setdefault(item.said, []).append(i)
        elif item.label is None:
            missing.append(i)
    figures = {
        "images": len(items),
        "without_label": len(missing),
        "unknown_labels": {label: len(found) for label, found in sorted(unknown.items())},
    }
    if unknown:
        concerned = [i for label in sorted(unknown) for i in unknown[label]]
        sentence = (
            f"{plural(len(concerned), 'image')} with a label that is not in the class list: {in_sentence(sorted(unknown, key=natural_key))}. "
            "Pair them with classes by hand, or put them aside, under Prepare."
        )
        return CheckResult("labels", "stop", sentence, figures, tuple(concerned))
    if len(missing) == len(items):
        sentence = "No image has a label: there will be predictions, but no figures."
        return CheckResult("labels", "look", sentence, figures, tuple(missing))
    if missing:
        sentence = f"{plural(len(missing), 'image')} of {len(items)} without a label: not in any figure."
        return CheckResult("labels", "look", sentence, figures, tuple(missing))
    return CheckResult(
        "labels", "fine", f"All {plural(len(items), 'image')} have a label from the class list.", figures
    )


def check_class_sizes(inputs: Inputs) -> CheckResult:
    """Classes without images, and classes with too few for a figure of their own."""
    labels = inputs.labels
    counts = np.bincount(labels[labels >= 0], minlength=len(inputs.classes))
    if not counts.sum():
        return CheckResult("class-sizes", "open", "No image has a label.")
    empty = [inputs.classes[k] for k in np.flatnonzero(counts == 0)]
    small = np.flatnonzero((counts > 0) & (counts < FEW))
    figures = {
        "images": {name: int(n) for name, n in zip(inputs.classes, counts, strict=True)},
        "empty": empty,
        "fewer_than_30": [inputs.classes[k] for k in small],
    }
    parts = []
    if empty:
        parts.append(f"{plural(len(empty), 'class', 'classes')} without images: {in_sentence(empty)}.")
    if len(small):
        least = int(counts[small].min())
        width = _width(least)
        fewest = in_sentence([inputs.classes[k] for k in small[np.argsort(counts[small], kind="stable")]])
        parts.append(
            f"{plural(len(small), 'class', 'classes')} with fewer than {FEW} images: {fewest}. With {plural(least, 'image')}, "
            f"the interval of a recall near 80 % is {100 * width:.0f} points wide."
        )
    if not parts:
        least = int(counts.min())
        sentence = (
            f"Every class has at least {least} images; the interval of a recall near 80 % is at most "
            f"{100 * _width(least):.0f} points wide."
        )
        return CheckResult("class-sizes", "fine", sentence, figures)
    concerned = tuple(int(i) for i in np.flatnonzero(np.isin(labels, small)))
    return CheckResult("class-sizes", "look", " ".join(parts), figures, concerned)


def _width(images: int) -> float:
    """The width of the 95 % interval of a recall near 80 % on so many images."""
    found = proportion(round(0.8 * images), images)
    assert found.low is not None
    assert found.high is not None
    return found.high - found.low


def check_balance(inputs: Inputs) -> CheckResult:
    """Classes of very different sizes, which overall accuracy hides."""
    labels = inputs.labels
    counts = np.bincount(labels[labels >= 0], minlength=len(inputs.classes))
    present = counts[counts > 0]
    if len(present) < 2:
        return CheckResult("balance", "open", "Fewer than two classes have images.")
    ratio = float(present.max() / present.min())
    most, least = (
        in_sentence([inputs.classes[int(counts.argmax())]]),
        in_sentence([inputs.classes[int(np.where(counts > 0, counts, counts.max() + 1).argmin())]]),
    )
    figures = {"largest": int(present.max()), "smallest": int(present.min()), "ratio": ratio}
    sentence = f"The largest class ({most}, {present.max()}) has {ratio:.1f} times the images of the smallest ({least}, {present.min()})."
    if ratio == 1:
        sentence = f"Every class that has images has as many as the others: {present.max()}."
    if ratio >= LOPSIDED:
        sentence += " Read balanced accuracy beside accuracy, or draw an equal-sized subset."
    return CheckResult("balance", "look" if ratio >= LOPSIDED else "fine", sentence, figures)
