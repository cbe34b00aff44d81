"""Which way the pictures of one set differ from those of another: darker or brighter, flatter, bluer, blurrier."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.figures.significance import holm
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture

# A property differs where a picture of the one set has the higher value so often, and that beyond chance.
OFTEN, CHANCE = 0.7, 0.001
# The long side pictures are brought down to before their sharpness is measured, so that size is not taken for sharpness.
SIDE = 256
# What is measured, with the words for less and for more of it.
PROPERTIES = (
    ("mean luminance", "darker", "brighter"),
    ("contrast", "lower in contrast", "higher in contrast"),
    ("blue less red", "redder", "bluer"),
    ("sharpness", "blurrier", "sharper"),
)


@dataclass(frozen=True)
class Shift:
    """A property in which two sets differ: the ``word`` for the first against the second, and both medians."""

    name: str
    word: str
    median: float
    other: float

    def sentence(self) -> str:
        return f"{self.word} (median {self.name} {self.median:.2f} against {self.other:.2f})"


def properties_of(pixels: Pixels) -> NDArray[np.float64]:
    """The PROPERTIES of one picture (height x width x 3, red green blue): mean luminance in linear light (IEC 61966-2-1, 0 to 1);
    standard deviation of luminance over its mean (RMS contrast, Peli 1990); mean blue less mean red (−1 to 1); log10 of the variance of
    the Laplacian of luminance (Pech-Pacheco 2000) over that of luminance itself, so that less light is not taken for less sharpness."""
    values = pixels.astype(np.float64) / 255
    linear = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
    luminance = linear @ np.array([0.2126, 0.7152, 0.0722])
    ratio = SIDE / max(luminance.shape)
    if ratio < 1:
        size = max(1, round(luminance.shape[1] * ratio)), max(1, round(luminance.shape[0] * ratio))
        small = np.asarray(Image.fromarray(luminance.astype(np.float32)).resize(size, Image.Resampling.BOX), np.float64)
    else:
        small = luminance
    whole = np.pad(small, 1, mode="edge")
    laplacian = whole[:-2, 1:-1] + whole[2:, 1:-1] + whole[1:-1, :-2] + whole[1:-1, 2:] - 4 * small
    tint = values[..., 2].mean() - values[..., 0].mean()
    mean, variance = float(luminance.mean()), float(small.var())
    sharpness = np.log10(max(float(laplacian.var()), 1e-12) / max(variance, 1e-12))
    return np.array([mean, float(luminance.std()) / max(mean, 1e-6), tint, sharpness])


def properties_of_files(files: Sequence[Path]) -> NDArray[np.float64]:
    """The PROPERTIES of each picture that can be read (pictures x 4)."""
    found = []
    for file in files:
        try:
            found.append(properties_of(read_picture(file, "RGB")))
        except UnreadablePicture:
            continue
    return np.array(found).reshape(-1, len(PROPERTIES))


def shifts(some: NDArray[np.float64], others: NDArray[np.float64]) -> list[Shift]:
    """In what pictures differ from others: Mann-Whitney's test for each property with Holm's correction, and a picture of the one set
    above one of the other in at least seven of ten pairs."""
    if not len(some) or not len(others):
        return []
    from scipy.stats import mannwhitneyu

    found = [mannwhitneyu(some[:, i], others[:, i]) for i in range(len(PROPERTIES))]
    p = holm([float(one.pvalue) for one in found])
    above = [float(one.statistic) / (len(some) * len(others)) for one in found]
    return [
        Shift(name, more if share > 0.5 else less, float(np.median(some[:, i])), float(np.median(others[:, i])))
        for i, ((name, less, more), share) in enumerate(zip(PROPERTIES, above, strict=True))
        if p[i] < CHANCE and max(share, 1 - share) >= OFTEN
    ]
