"""The cover test of one image: hide a region, or as a control the same area elsewhere, and score again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter

from mivrat.core.evidence.maps import HeatmapMaker, Target
from mivrat.core.models.scores import guess_kind, to_probabilities
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor

How = Literal["blur", "mean", "patch"]
HOWS: tuple[How, ...] = ("blur", "mean", "patch")
Mask = NDArray[np.bool_]
# Blur: the width of the bell as a share of the side. Control: so many places are tried, the one that overlaps least is taken.
BLUR, TRIES = 1 / 12, 40

# The region of one prepared image, from its pixels, its tensor, and the class its target is.
Region = Callable[[Pixels, NDArray[np.generic], int], Mask]


@dataclass(frozen=True)
class Covered:
    """One image's answers: predictions and p(target) as it is, with the region hidden, and with the control hidden;
    ``area`` is the share of the image that was hidden. ``problem`` tells why the file could not be read."""

    image: int
    target: int
    predicted: tuple[int, int, int]
    p: tuple[float, float, float]
    area: float
    problem: str = ""


def rectangle(left: float, top: float, right: float, bottom: float) -> Region:
    """A fixed rectangle, in shares of what the network receives."""

    def region(pixels: Pixels, tensor: NDArray[np.generic], target: int) -> Mask:
        height, width = pixels.shape[:2]
        found = np.zeros((height, width), bool)
        found[round(top * height) : round(bottom * height), round(left * width) : round(right * width)] = True
        return found

    return region


def hottest(maker: HeatmapMaker, share: float, layer: str | None = None) -> Region:
    """Each image's own hottest part: the share of its area where the gradient-weighted map for the target is highest.

    A map without any evidence gives an empty region.
    """
    chosen = maker.layer(layer)

    def region(pixels: Pixels, tensor: NDArray[np.generic], target: int) -> Mask:
        heat = maker.maps(tensor[None], [Target(target)], [chosen])[0][0]
        height, width = pixels.shape[:2]
        if not heat.max() > 0:
            return np.zeros((height, width), bool)
        large = np.asarray(Image.fromarray(heat).resize((width, height), Image.Resampling.BILINEAR))
        wanted = max(1, round(share * large.size))
        found = np.zeros(large.size, bool)
        found[np.argsort(-large.ravel(), kind="stable")[:wanted]] = True
        return found.reshape(large.shape)

    return region


def hide(pixels: Pixels, mask: Mask, how: How, other: Pixels | None = None) -> Pixels:
    """The pixels (height x width x channels) with a region blurred, in the mean colour of the rest, or from another image."""
    if how == "patch":
        if other is None:
            raise ValueError("a patch needs another image")
        return np.where(mask[..., None], other, pixels)
    if how == "mean":
        rest = pixels[~mask] if not mask.all() else pixels.reshape(-1, pixels.shape[2])
        return np.where(mask[..., None], np.round(rest.mean(axis=0)).astype(np.uint8), pixels)
    sigma = max(pixels.shape[:2]) * BLUR
    soft = gaussian_filter(pixels.astype(np.float32), (sigma, sigma, 0))
    return np.where(mask[..., None], np.round(soft).astype(np.uint8), pixels)


def elsewhere(mask: Mask, rng: np.random.Generator) -> Mask:
    """The same region moved (round the edges) to where it overlaps itself least, of some random places."""
    best, least = mask, mask.sum() + 1
    for _ in range(TRIES):
        moved = np.roll(mask, (int(rng.integers(mask.shape[0])), int(rng.integers(mask.shape[1]))), (0, 1))
        overlap = int((moved & mask).sum())
        if overlap < least:
            best, least = moved, overlap
        if not overlap:
            break
    return best


def cover(
    maker: HeatmapMaker,
    files: Sequence[Path],
    images: Sequence[int],
    region: Region,
    how: How = "blur",
    target: int | None = None,
    seed: int = 0,
) -> Iterator[Covered]:
    """Cover ``files[i]`` for each i in ``images``, yielding what came of it one by one; repeatable with the same seed.

    ``target`` None stands for each image's predicted class. A patch comes from the image before (for the first: the last).
    """
    recipe = maker.model.recipe
    for at, image in enumerate(images):
        rng = np.random.default_rng((seed, image))
        try:
            pixels, _ = fitted_pixels(
                read_picture(files[image], recipe.picture.mode, recipe.picture.exif_rotate), recipe
            )
            other = None
            if how == "patch":
                path = files[images[at - 1]]
                other, _ = fitted_pixels(read_picture(path, recipe.picture.mode, recipe.picture.exif_rotate), recipe)
                other = _sized(other, pixels)
        except UnreadablePicture as error:
            yield Covered(image, -1, (-1, -1, -1), (np.nan, np.nan, np.nan), 0.0, str(error))
            continue
        tensor = to_tensor(pixels, recipe)
        whole = _probabilities(maker, tensor[None])[0]
        about = int(whole.argmax()) if target is None else target
        mask = region(pixels, tensor, about)
        control = elsewhere(mask, rng)
        hidden = [hide(pixels, one, how, other) if one.any() else pixels for one in (mask, control)]
        p = _probabilities(maker, np.stack([to_tensor(one, recipe) for one in hidden]))
        yield Covered(
            image,
            about,
            (int(whole.argmax()), int(p[0].argmax()), int(p[1].argmax())),
            (float(whole[about]), float(p[0, about]), float(p[1, about])),
            float(mask.mean()),
        )


def _sized(other: Pixels, like: Pixels) -> Pixels:
    if other.shape == like.shape:
        return other
    size = like.shape[1], like.shape[0]
    grey = other.shape[2] == 1
    made = np.asarray(Image.fromarray(other[..., 0] if grey else other).resize(size, Image.Resampling.BILINEAR))
    return made[..., None] if grey else made


def _probabilities(maker: HeatmapMaker, batch: NDArray[np.generic]) -> NDArray[np.float64]:
    rows, said = maker.model.scores(batch), maker.model.recipe.scores.kind
    return to_probabilities(rows, guess_kind(rows) if said == "auto" else said)
