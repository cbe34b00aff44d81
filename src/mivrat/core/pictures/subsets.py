"""Draws random subsets of an image set, repeatably."""

from __future__ import annotations

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
        raise InputError("a subset needs at least one image per class", where="images per class", mend="give 1 or more")
    rng = np.random.default_rng(seed)
    labels = np.array([-1 if one is None else one for one in image_set.labels])
    chosen, short = [], 0
    for k in sorted(set(labels[labels >= 0].tolist())):
        own = np.flatnonzero(labels == k)
        short += len(own) < each
        chosen.append(rng.permutation(own)[:each])
    if not chosen:
        raise InputError("no image has a label", where=image_set.name, mend="draw a subset without regard to class")
    note = f"; {short} {'class has' if short == 1 else 'classes have'} fewer" if short else ""
    return _subset(image_set, np.sort(np.concatenate(chosen)), f"{each} per class, seed {seed}{note}")


def draw(image_set: ImageSet, number: int, seed: int) -> ImageSet:
    """So many images drawn at random without regard to class; all of them where there are no more. Raises InputError for none."""
    if number < 1:
        raise InputError("a subset needs at least one image", where="images", mend="give 1 or more")
    chosen = pick(len(image_set.items), number, seed)
    return _subset(image_set, np.array(chosen), f"{len(chosen)} images, seed {seed}")


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
