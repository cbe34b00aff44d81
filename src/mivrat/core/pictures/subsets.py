"""Draws random subsets of an image set, repeatably."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_sets import ImageSet


def draw_per_class(image_set: ImageSet, each: int, seed: int) -> ImageSet:
    """So many images of every class, drawn at random; a class with fewer gives all it has, which ``drawn`` then tells. Raises
    InputError for no image per class, and where no image has a label.

    Unlabelled images are left out. The same seed draws the same images from the same list.
    """
    if each < 1:
        raise InputError("a subset needs at least one image per class", where="images per class", hint="give 1 or more")
    rng = np.random.default_rng(seed)
    labels = image_set.labels
    chosen, short = [], 0
    for k in sorted(set(labels[labels >= 0].tolist())):
        own = np.flatnonzero(labels == k)
        short += len(own) < each
        chosen.append(rng.permutation(own)[:each])
    if not chosen:
        raise InputError("no image has a label", where=image_set.name, hint="draw a subset without regard to class")
    note = f"; {short} {'class has' if short == 1 else 'classes have'} fewer" if short else ""
    return _subset(image_set, np.sort(np.concatenate(chosen)), f"{each} per class, seed {seed}{note}")


def draw(image_set: ImageSet, number: int, seed: int) -> ImageSet:
    """So many images drawn at random without regard to class; all of them where there are no more. Raises InputError for none."""
    if number < 1:
        raise InputError("a subset needs at least one image", where="images", hint="give 1 or more")
    chosen = pick(len(image_set.items), number, seed)
    return _subset(image_set, np.array(chosen), f"{len(chosen)} images, seed {seed}")


def draw_halves(image_set: ImageSet, seed: int) -> tuple[ImageSet, ImageSet]:
    """Two halves drawn at random within each class, or of whole units where images belong together: what is found on the one can
    be confirmed on the other. Raises InputError where there are no two units."""
    rng = np.random.default_rng(seed)
    column = image_set.unit_column
    units: dict[str, list[int]] = {}
    for i, item in enumerate(image_set.items):
        name = item.columns.get(column, "") if column else ""
        units.setdefault(name or f"\n{i}", []).append(i)
    # Class by class, so that each half gets as many of each; units of several classes go by their first image.
    labels = image_set.labels.tolist()
    listed = sorted(units.values())
    order = sorted((listed[i] for i in rng.permutation(len(listed))), key=lambda own: labels[own[0]])
    if len(order) < 2:
        raise InputError("two halves need at least two images (or units)", where=image_set.name, hint="add images")
    parts: tuple[list[int], list[int]] = ([], [])
    sizes = np.zeros((2, max(labels, default=-1) + 2), int)
    for own in order:
        k = labels[own[0]]
        to = int((sizes[1, k], len(parts[1])) < (sizes[0, k], len(parts[0])))
        parts[to].extend(own)
        sizes[to, k] += len(own)
    halves = [
        _subset(image_set, np.array(sorted(part)), f"half {k} of 2, seed {seed}") for k, part in enumerate(parts, 1)
    ]
    return halves[0], halves[1]


def other_half(drawn: str) -> str:
    """How the other half says that it was drawn; empty for what is not a half."""
    found = re.match(r"half ([12]) of 2, ", drawn)
    return f"half {3 - int(found[1])} of 2, {drawn[found.end() :]}" if found else ""


def pick(total: int, number: int, seed: int) -> list[int]:
    """Positions of so many images drawn at random from ``total``, in order; all of them where there are no more."""
    return [int(i) for i in np.sort(np.random.default_rng(seed).permutation(total)[:number])]


def _subset(image_set: ImageSet, chosen: np.ndarray, drawn: str) -> ImageSet:
    return replace(
        image_set,
        name=f"{image_set.name} ({drawn.split(';')[0]})",
        items=[image_set.items[int(i)] for i in chosen],
        drawn=f"{drawn}, of {len(image_set.items)} in {image_set.name}",
    )
