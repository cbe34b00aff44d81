"""Where the region of a test lies: how it is told, kept, and found in each image."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker
from mivrat.core.heatmaps.methods import METHODS, Method
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.image_names import ImageNames, image_name
from mivrat.core.region_masking.lookalikes import ColourRule, PatchRule, colour_from_json, patch_from_json
from mivrat.core.region_masking.one_image import Region, drawn, drawn_each, hottest
from mivrat.core.region_masking.regions import Shape, shape_from_json

Place = Literal["fixed", "each", "hottest", "colour", "likeness"]


@dataclass(frozen=True)
class RegionPlan:
    """What is hidden: the same ``shapes`` in every image, shapes of its own in ``each`` image (by position), the hottest
    ``share`` of a map by ``method`` at ``layer`` (none: the default) of the model with the hash ``heat_model``, pixels of a
    ``colour``, or places like a marked ``patch``."""

    place: Place
    shapes: tuple[Shape, ...] = ()
    each: Mapping[int, tuple[Shape, ...]] = field(default_factory=dict)
    share: float = 0.1
    method: Method = "gradient"
    layer: str | None = None
    heat_model: str = ""
    colour: ColourRule | None = None
    patch: PatchRule | None = None

    @property
    def model(self) -> str:
        """The hash of the model whose heat or features tell the region; empty where none does."""
        return self.patch.model if self.patch is not None else self.heat_model

    def as_json(self) -> dict[str, Any]:
        """As it stands in files; images by their place in the list."""
        if self.place == "fixed":
            return {"place": "fixed", "shapes": [one.as_json() for one in self.shapes]}
        if self.place == "each":
            return {"place": "each", "shapes": {str(i): [s.as_json() for s in some] for i, some in self.each.items()}}
        if self.colour is not None:
            return {"place": "colour", **self.colour.as_json()}
        if self.patch is not None:
            return {"place": "likeness", **self.patch.as_json()}
        told = {"share": self.share, "method": self.method, "layer": self.layer, "heat_model": self.heat_model}
        return {"place": "hottest", **told}

    def in_words(self) -> str:
        if self.place == "hottest":
            return f"hottest {percent(self.share, None)} of each image"
        if self.place == "each":
            return f"regions drawn on {len(self.each)} images"
        if self.colour is not None:
            return f"pixels of the sampled colour (within {self.colour.tolerance:g} ΔE) in each image"
        if self.patch is not None:
            return f"places like the marked patch (at least {self.patch.likeness:.2f}) in each image"
        kinds = ", ".join(dict.fromkeys(one.kind for one in self.shapes)) or "no shape"
        return f"{kinds} at the same place in each image"

    def as_kept(self, names: ImageNames) -> dict[str, Any]:
        """As a study keeps it, the images by name."""
        told = self.as_json()
        if self.place == "each":
            told["shapes"] = [[names[i], [s.as_json() for s in some]] for i, some in self.each.items()]
        return told


def region_from_kept(given: Any, names: ImageNames) -> RegionPlan:
    """A region as ``as_kept`` gives it, for the images of a list; KeyError, TypeError, ValueError or AttributeError where it is none."""
    if given["place"] == "fixed":
        return RegionPlan("fixed", tuple(shape_from_json(one) for one in given["shapes"]))
    if given["place"] == "each":
        drawn_on = [(names.position(image_name(one)), some) for one, some in given["shapes"]]
        each = {i: tuple(shape_from_json(s) for s in some) for i, some in drawn_on if i is not None}
        return RegionPlan("each", each=each)
    if given["place"] == "colour":
        return RegionPlan("colour", colour=colour_from_json(given))
    if given["place"] == "likeness":
        return RegionPlan("likeness", patch=patch_from_json(given))
    method, layer, share = given["method"], given["layer"], float(given["share"])
    if method not in METHODS or not 0 < share < 1:
        raise ValueError("no such map")
    return RegionPlan("hottest", share=share, method=method, layer=layer, heat_model=str(given["heat_model"]))


def region_of(plan: RegionPlan, heat: MapMaker, mode: str = "RGB", *, own: bool = True) -> Region:
    """The region as the test of one image takes it; ``heat`` makes the maps that hottest parts are taken from, or the features of
    places; ``mode`` is the order of channels in prepared pixels.

    ``own``: hottest parts are those for what the heat's own model predicts, not for the target asked for. Done again on another
    model the test then takes the same places.
    """
    if plan.place == "fixed":
        return drawn(plan.shapes)
    if plan.place == "each":
        return drawn_each(plan.each)
    if plan.colour is not None:
        return _of_colour(plan.colour, mode)
    if plan.patch is not None:
        return _of_patch(plan.patch, heat)
    known = {one.tensor for one in heat.layers if one.heatmap}
    layer = plan.layer if plan.layer in known else None
    return hottest(heat, plan.share, layer, plan.method, own=own)


def _of_colour(rule: ColourRule, mode: str) -> Region:
    def region(image: int, pixels: Pixels, tensor: NDArray[np.generic], target: int) -> Mask | str:
        mask = rule.mask(pixels, mode)
        return mask if mask.any() else "nothing in it has the sampled colour"

    return region


def _of_patch(rule: PatchRule, heat: MapMaker) -> Region:
    if not isinstance(heat, HeatmapMaker):
        raise InputError(heat.model.kind.lacks("Places like a marked patch need"), where=heat.model.path)
    if heat.model.content != rule.model:
        raise InputError(
            "the patch was marked under another model, which is missing",
            where=heat.model.path,
            hint="mark the patch again under this model",
        )
    maker = heat

    def region(image: int, pixels: Pixels, tensor: NDArray[np.generic], target: int) -> Mask | str:
        mask = rule.mask(maker, tensor, *pixels.shape[:2])
        return mask if mask.any() else "nothing in it is like the marked patch"

    return region
