"""Heatmaps of single pictures: which places of a picture an answer comes from."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.api.inputs import Classes, Place, RecipeLike, class_names, recipe_of
from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker, Target, maker_of, target_from_text
from mivrat.core.heatmaps.methods import METHODS, Method
from mivrat.core.models.kinds import kind_of, load_model
from mivrat.core.models.onnx_model import ONNX, OnnxModel
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.reporting.heat_files import HeatmapChoices, heat_of_image, name_of

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


@dataclass(frozen=True, eq=False)
class Heatmap:
    """A heatmap of one picture.

    ``map`` is the evidence as it is (float32, height x width of the layer, or of the picture for methods without one), not normalised;
    ``overlay`` the picture with the map laid over what the network sees of it, as a Pillow image. ``target`` is the class the evidence
    is for, ``predicted`` the one that the model calls, ``probabilities`` those of all classes (K). ``remarks`` say how far it can be
    relied on.
    """

    map: NDArray[np.float32]
    overlay: Image.Image
    target: str
    predicted: str
    probabilities: NDArray[np.float64]
    method: str
    layer: str | None
    remarks: tuple[str, ...] = ()

    @property
    def peak(self) -> float:
        """The largest value of the map, whatever its sign; 0 where there is no evidence at all."""
        return float(np.abs(self.map).max(initial=0.0))

    def _repr_png_(self) -> bytes:
        data = io.BytesIO()
        self.overlay.save(data, "PNG")
        return data.getvalue()

    def __repr__(self) -> str:
        from_layer = f", layer {self.layer}" if self.layer else ""
        return f"<Heatmap for {self.target}, {self.method}{from_layer}, {self.map.shape[0]} x {self.map.shape[1]}>"


def maker_for(model: Place, recipe: RecipeLike, classes: Sequence[str]) -> MapMaker:
    """What takes maps from the model in a file, or from a service; without ``classes`` the model tells how many it has."""
    path = Path(model)
    if not path.is_file():
        raise InputError("the model does not exist", where=path, hint="name an ONNX file or a service description")
    if kind_of(path) is ONNX:
        return HeatmapMaker(OnnxModel(path, recipe_of(recipe), len(classes) or None))
    return maker_of(load_model(path, classes, recipe_of(recipe)))


def heatmap(
    model: Place,
    image: Place,
    recipe: RecipeLike = None,
    target: str | int = "predicted",
    *,
    classes: Classes | None = None,
    method: Method = "gradient",
    layer: str | None = None,
    seed: int = 0,
) -> Heatmap:
    """A heatmap of one picture: the evidence for ``target`` (a class by name or index, or ``predicted``; ``"birch - alder"``: the one
    rather than the other). ``layer``: a tensor that ``layers`` lists, the last convolution without one. Raises InputError where
    something cannot be used."""
    if method not in METHODS:
        raise InputError(f"{method!r} is no method", where="method", hint=f"use one of {', '.join(METHODS)}")
    path = Path(image)
    if not path.is_file():
        raise InputError("the image file does not exist", where=path, hint="name an image file")
    names = class_names(classes) if classes is not None else []
    maker = maker_for(model, recipe, names)
    names = names or [str(i) for i in range(maker.model.class_count)]
    wanted = target_from_text(str(target), ClassMatcher(names).target)
    chosen = maker.layer_for(method, layer)
    choices = HeatmapChoices([chosen] if chosen is not None else [], (), [wanted], method, seed)
    found = heat_of_image(maker, path, choices)
    if isinstance(found, str):
        raise InputError(f"the picture cannot be read: {found}", where=path, hint="name another picture")
    of: Target = found.targets[0]
    return Heatmap(
        found.own,
        Image.fromarray(found.drawn),
        name_of(of, names),
        names[int(found.p.argmax())],
        found.p,
        method,
        chosen.tensor if chosen is not None else None,
        (*maker.model.remarks, *found.said),
    )


def layers(model: Place, recipe: RecipeLike = None) -> pl.DataFrame:
    """The layers a heatmap can be taken from, in the order of the network: tensor, what it is, shape, and whether there can be one."""
    maker = maker_for(model, recipe, ())
    found = maker.layers or [maker.layer(None)]
    return pl.DataFrame(
        {
            "tensor": [one.tensor for one in found],
            "what": [one.plain for one in found],
            "shape": [list(one.shape) for one in found],
            "heatmap": [bool(one.heatmap) for one in found],
            "default": [bool(one.default) for one in found],
            "why_not": [one.reason or None for one in found],
        },
        schema_overrides={"shape": pl.List(pl.Int64), "why_not": pl.String},
    )
