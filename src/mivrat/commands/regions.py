"""Where a region lies, as it is told on the command line; and which images a model calls a class."""

from __future__ import annotations

import argparse
import string
from pathlib import Path

import numpy as np

from mivrat.core.answers.scoring import score_images
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import json_value, read_text
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.region_masking.lookalikes import ColourRule, sampled_colour, sampled_patch
from mivrat.core.region_masking.one_image import prepared
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape, mask_of, shape_from_json


def called_class(maker: MapMaker, image_set: ImageSet, among: list[int], predicted: int) -> list[int]:
    """Those of some images that the model calls a class; what cannot be read is left out."""

    found: list[int] = []
    files = image_set.files()
    for batch in score_images(files, among, maker.model, copies=False):
        called = maker.called(batch.rows)
        found += [int(i) for i, k in zip(batch.scored, called, strict=True) if int(k) == predicted]
    return sorted(found)


def one_region(args: argparse.Namespace) -> None:
    """InputError where not exactly one region is told."""
    if sum(given is not None for given in (args.region, args.shapes, args.hottest, args.colour, args.like)) != 1:
        raise InputError(
            "say what the region is",
            where="--region, --shapes, --hottest, --colour or --like",
            hint="give one of them, such as --hottest 0.1",
        )


def region_from(args: argparse.Namespace, heat: MapMaker) -> RegionPlan:
    """What to hide; InputError where it is not told well."""
    if args.hottest is not None:
        if not 0 < args.hottest < 1:
            raise InputError("is not a share of the area", where="--hottest", hint="give a number between 0 and 1")
        layer = heat.layer(args.layer).tensor
        return RegionPlan("hottest", share=args.hottest, layer=layer, heat_model=heat.model.content)
    if args.colour is not None:
        return RegionPlan("colour", colour=_colour(args, heat.model.recipe))
    if args.like is not None:
        pixels, marked = _patch(args.like, "--like", heat.model.recipe)
        if not -1 <= args.alike <= 1:
            raise InputError("is not a cosine", where="--alike", hint="give a number between -1 and 1")
        if not isinstance(heat, HeatmapMaker):
            raise InputError(heat.model.kind.lacks("Places like a marked patch need"), where=heat.model.path)
        rule = sampled_patch(heat, to_tensor(pixels, heat.model.recipe), marked, args.layer, args.alike)
        return RegionPlan("likeness", patch=rule)
    if args.shapes is not None:
        return RegionPlan("fixed", listed_shapes(args.shapes))
    return RegionPlan("fixed", (_rectangle(args.region, "--region"),))


def listed_shapes(path: Path) -> tuple[Shape, ...]:
    """The shapes that a JSON file lists; InputError where it lists none."""
    listed = json_value(read_text(path, "the list of shapes", "name a JSON file"), path, "give a JSON list of shapes")
    if not isinstance(listed, list) or not listed:
        raise InputError("is not a list of shapes", where=path, hint="give a JSON list of shapes")
    return tuple(shape_from_json(one) for one in listed)


def _rectangle(text: str, where: str) -> Shape:
    try:
        left, top, right, bottom = (float(part) for part in text.split(","))
    except ValueError:
        left = top = right = bottom = 0.0
    if not (0 <= left < right <= 1 and 0 <= top < bottom <= 1):
        raise InputError(
            "is not a rectangle", where=where, hint="give left, top, right and bottom as shares, such as 0,0.7,0.3,1"
        )
    return Shape("rectangle", ((left, top), (right, bottom)))


def _patch(text: str, where: str, recipe: Recipe) -> tuple[Pixels, Mask]:
    """The prepared pixels of an image, and which of them are marked."""
    file, _, corners = text.rpartition(":")
    shape = _rectangle(corners, where)
    try:
        pixels = prepared(Path(file), recipe)
    except UnreadablePicture as error:
        raise InputError(f"the image cannot be read: {error}", where=file, hint="name an image file") from error
    return pixels, mask_of([shape], *pixels.shape[:2])


def _colour(args: argparse.Namespace, recipe: Recipe) -> ColourRule:
    if not (np.isfinite(args.tolerance) and args.tolerance > 0):
        raise InputError("is not a distance between colours", where="--tolerance", hint="give a number above 0")
    named = args.colour.removeprefix("#")
    if len(named) == 6 and all(one in string.hexdigits for one in named):
        pixels = np.array([[list(bytes.fromhex(named))]], np.uint8)
        return sampled_colour(pixels, "RGB", np.ones((1, 1), bool), args.tolerance)
    if ":" not in args.colour:
        raise InputError(
            "is not a colour",
            where="--colour",
            hint="give six hexadecimal digits such as 6a2cc8, or a patch of an image",
        )
    pixels, marked = _patch(args.colour, "--colour", recipe)
    return sampled_colour(pixels, recipe.picture.mode, marked, args.tolerance)
