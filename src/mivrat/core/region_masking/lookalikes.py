"""Regions that are found in each image by what they are: pixels of a sampled colour, or places like a marked patch."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.heatmaps.hottest import Mask, laid_over
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.pictures.decode import Pixels

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

# sRGB to XYZ (IEC 61966-2-1), rows divided by the white point D65.
_TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
_TO_XYZ = _TO_XYZ / _TO_XYZ.sum(axis=1, keepdims=True)
# Spots of a colour smaller than this share of the image are left out; what remains grows by this share of the shorter side,
# so that the soft edge of a spot is hidden too.
SMALLEST_SPOT, GROWN = 0.0005, 1 / 64
# Where a sample is marked: colours within so many units, places at least so like it.
TOLERANCE, LIKENESS = 18.0, 0.6
MOST_FEATURES = 10_000


def to_lab(pixels: Pixels, mode: str) -> NDArray[np.float64]:
    """CIE 1976 L*a*b* (h x w x 3, white point D65) of pixels (h x w x channels, uint8) in the order a recipe's mode gives."""
    colour = pixels.repeat(3, axis=2) if pixels.shape[2] == 1 else pixels
    colour = colour[..., ::-1] if mode == "BGR" else colour
    share = colour.astype(np.float64) / 255
    linear = np.where(share <= 0.04045, share / 12.92, ((share + 0.055) / 1.055) ** 2.4)
    xyz = linear @ _TO_XYZ.T
    root = np.where(xyz > (6 / 29) ** 3, np.cbrt(xyz), xyz / (3 * (6 / 29) ** 2) + 4 / 29)
    x, y, z = np.moveaxis(root, -1, 0)
    return np.stack([116 * y - 16, 500 * (x - y), 200 * (y - z)], axis=-1)


@dataclass(frozen=True)
class ColourRule:
    """Pixels whose colour is at most ``tolerance`` away from ``lab`` (Delta E of CIE 1976)."""

    lab: tuple[float, float, float]
    tolerance: float = TOLERANCE

    def mask(self, pixels: Pixels, mode: str) -> Mask:
        """Where an image has the colour, without specks and a little grown; empty where it does not have it."""
        distance = np.linalg.norm(to_lab(pixels, mode) - np.array(self.lab), axis=-1)
        spots, number = ndimage.label(distance <= self.tolerance)
        if not number:
            return np.zeros(distance.shape, bool)
        sizes = np.bincount(spots.ravel())
        large = sizes >= max(2, SMALLEST_SPOT * distance.size)
        large[0] = False
        found: Mask = large[spots]
        steps = max(1, round(GROWN * min(distance.shape)))
        return np.asarray(ndimage.binary_dilation(found, iterations=steps)) if found.any() else found

    def as_json(self) -> dict[str, Any]:
        return {"lab": list(self.lab), "tolerance": self.tolerance}


@dataclass(frozen=True)
class PatchRule:
    """Places whose features at ``layer`` of the model with the hash ``model`` are like those of a marked patch: the cosine between
    both, each less the mean over the image the patch was marked on (``usual``), is at least ``likeness``."""

    model: str
    layer: str
    features: tuple[float, ...]
    usual: tuple[float, ...]
    likeness: float = LIKENESS

    def mask(self, maker: HeatmapMaker, tensor: NDArray[Any], height: int, width: int) -> Mask:
        """Where a prepared image is like the patch; InputError where the layer is not of the patch's model."""
        (layer,) = maker.layers_for(tensor[None], [maker.layer(self.layer)])
        features = maker.activations(tensor[None], layer)[0].astype(np.float64)
        wanted, usual = np.array(self.features), np.array(self.usual)
        if len(features) != len(wanted):
            raise InputError(
                f"the marked patch has {len(wanted)} features, the layer {len(features)}",
                where=self.layer,
                hint="mark the patch again under this model",
            )
        here, there = features - usual[:, None, None], wanted - usual
        lengths = np.linalg.norm(here, axis=0) * np.linalg.norm(there)
        alike = np.einsum("cij,c->ij", here, there) / np.where(lengths > 0, lengths, 1.0)
        laid = (
            layer.placement.laid((alike + 1).astype(np.float32)) - 1
        )  # where the layer does not look nothing is alike
        return np.asarray(laid_over(laid, height, width) >= self.likeness)

    def as_json(self) -> dict[str, Any]:
        listed = {"features": list(self.features), "usual": list(self.usual)}
        return {"model": self.model, "layer": self.layer, **listed, "likeness": self.likeness}


def sampled_colour(pixels: Pixels, mode: str, marked: Mask, tolerance: float = TOLERANCE) -> ColourRule:
    """The median colour of the marked pixels. InputError where none is marked."""
    if not marked.any():
        raise InputError("nothing is marked", where="sample", hint="mark a larger patch")
    light, a, b = (round(float(value), 3) for value in np.median(to_lab(pixels, mode)[marked], axis=0))
    return ColourRule((light, a, b), tolerance)


def sampled_patch(
    maker: HeatmapMaker, tensor: NDArray[Any], marked: Mask, layer: str | None = None, likeness: float = LIKENESS
) -> PatchRule:
    """The mean features of the marked places of a prepared image; where it holds no place whole, those of the place under its
    middle. InputError where nothing is marked."""
    if not marked.any():
        raise InputError("nothing is marked", where="sample", hint="mark a larger patch")
    chosen = maker.layer(layer)
    features = maker.activations(tensor[None], chosen)[0].astype(np.float64)
    _, rows, columns = features.shape
    height, width = marked.shape
    inside = marked[_middles(rows, height)][:, _middles(columns, width)]
    if not inside.any():
        down, across = (int(one.mean()) for one in np.nonzero(marked))
        inside[min(down * rows // height, rows - 1), min(across * columns // width, columns - 1)] = True
    means = (features[:, inside].mean(axis=1), features.mean(axis=(1, 2)))
    wanted, usual = (tuple(float(f"{value:.6g}") for value in one) for one in means)
    return PatchRule(maker.model.content, chosen.tensor, wanted, usual, likeness)


def _middles(cells: int, pixels: int) -> NDArray[np.int64]:
    return ((np.arange(cells) + 0.5) * pixels / cells).astype(np.int64)


def colour_from_json(data: Any) -> ColourRule:
    """A rule as ``as_json`` gives it; ValueError, KeyError or TypeError where it is none."""
    light, a, b = (float(value) for value in data["lab"])
    rule = ColourRule((light, a, b), float(data["tolerance"]))
    if not np.isfinite([*rule.lab, rule.tolerance]).all() or rule.tolerance <= 0:
        raise ValueError("not a colour")
    return rule


def patch_from_json(data: Any) -> PatchRule:
    """A rule as ``as_json`` gives it; ValueError, KeyError or TypeError where it is none."""
    features, usual = (tuple(float(value) for value in data[name]) for name in ("features", "usual"))
    rule = PatchRule(str(data["model"]), str(data["layer"]), features, usual, float(data["likeness"]))
    if not 0 < len(features) == len(usual) <= MOST_FEATURES or not np.isfinite([*features, *usual]).all():
        raise ValueError("not the features of a patch")
    if not -1 <= rule.likeness <= 1:
        raise ValueError("not a likeness")
    return rule
