"""How much of the pictures a recipe cuts away, from a sample of them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from mivrat.core.base.numbers import percent
from mivrat.core.pictures.decode import UnreadablePicture, picture_size, read_file
from mivrat.core.pictures.prepare import geometry
from mivrat.core.pictures.recipe import Recipe

SAMPLE = 40
# A centre crop of 4:3 pictures takes a quarter; what is cut away beyond that is worth a word.
MUCH = 0.3


def share_cut_away(files: Sequence[Path], recipe: Recipe) -> float | None:
    """The mean share of a picture that the network does not get to see, over up to 40 pictures spread over ``files``; None
    where none of them can be read."""
    shares = []
    for file in files[:: max(1, len(files) // SAMPLE)][:SAMPLE]:
        try:
            height, width = picture_size(read_file(file), recipe.picture.exif_rotate)
        except UnreadablePicture:
            continue
        top, left, bottom, right = geometry(height, width, recipe).seen()
        shares.append(1 - (bottom - top) * (right - left) / (height * width))
    return float(np.mean(shares)) if shares else None


def cropping_remark(files: Sequence[Path], recipe: Recipe, is_guess: bool) -> str:
    """A warning, in words, where a guessed recipe cuts away much of the pictures; empty where it does not."""
    share = share_cut_away(files, recipe) if is_guess else None
    if share is None or share < MUCH:
        return ""
    return (
        f"the guessed recipe crops away {percent(share, 0)} of these pictures: give the recipe the model was trained with, or look at "
        "what the network receives (Prepare, Recipe)"
    )
