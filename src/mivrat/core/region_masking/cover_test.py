"""Cover tests over many images of a run: what is to be done, doing it with progress and stop, and what came of it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judging import units_in
from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.base.numbers import percent
from mivrat.core.figures.covered import CoverResult, cover_result
from mivrat.core.figures.units import Units
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker, kept_maker_of
from mivrat.core.heatmaps.methods import METHODS, Method
from mivrat.core.models.model import Model
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.image_names import ImageNames, image_name
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.region_masking.lookalikes import ColourRule, PatchRule, colour_from_json, patch_from_json
from mivrat.core.region_masking.one_image import (
    ANSWERS,
    HOWS,
    Covered,
    Donors,
    HotElsewhere,
    How,
    Region,
    cover,
    drawn,
    drawn_each,
    hottest,
)
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


@dataclass(frozen=True)
class CoverPlan:
    """Everything that doing a cover test again takes: the images (positions in the set), what is hidden, how, and whose
    probability is watched (``predicted`` or a class name); ``selection`` says in words what the images are."""

    images: tuple[int, ...]
    region: RegionPlan
    hide: How = "blur"
    target: str = "predicted"
    seed: int = 0
    selection: str = ""

    def as_text(self, names: ImageNames) -> str:
        """As a study keeps it, the images by name."""
        region = self.region.as_json()
        if self.region.place == "each":
            region["shapes"] = [[names[i], [s.as_json() for s in some]] for i, some in self.region.each.items()]
        told = {"selection": self.selection, "region": region, "hide": self.hide, "target": self.target}
        return json.dumps({**told, "seed": self.seed, "images": [names[i] for i in self.images]})

    def in_words(self) -> str:
        how = {"blur": "blurred", "mean": "in the mean colour", "patch": "replaced from an image of another label"}[
            self.hide
        ]
        return f"{self.region.in_words()}, {how}"


def plan_from_text(text: str, names: ImageNames) -> CoverPlan:
    """A plan as ``as_text`` gives it, for the images of a list; those it does not hold are left out. InputError where it is no
    plan, or is of none of these images."""
    try:
        data = json.loads(text)
        given = data["region"]
        if given["place"] == "fixed":
            region = RegionPlan("fixed", tuple(shape_from_json(one) for one in given["shapes"]))
        elif given["place"] == "each":
            drawn_on = [(names.position(image_name(one)), some) for one, some in given["shapes"]]
            each = {i: tuple(shape_from_json(s) for s in some) for i, some in drawn_on if i is not None}
            region = RegionPlan("each", each=each)
        elif given["place"] == "colour":
            region = RegionPlan("colour", colour=colour_from_json(given))
        elif given["place"] == "likeness":
            region = RegionPlan("likeness", patch=patch_from_json(given))
        else:
            method, layer, share = given["method"], given["layer"], float(given["share"])
            if method not in METHODS or not 0 < share < 1:
                raise ValueError("no such map")
            region = RegionPlan("hottest", share=share, method=method, layer=layer, heat_model=str(given["heat_model"]))
        if data["hide"] not in HOWS:
            raise ValueError("no such way of hiding")
        images = names.positions(map(image_name, data["images"]))
        plan = CoverPlan(images, region, data["hide"], str(data["target"]), int(data["seed"]), str(data["selection"]))
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as error:
        raise InputError("a kept cover test cannot be read", where="study", hint="remove it and repeat it") from error
    if not images and data["images"]:
        raise InputError("a kept cover test is of images that the set does not list", where="study", hint="repeat it")
    return plan


def region_of(whole: CoverPlan, heat: MapMaker, mode: str = "RGB") -> Region:
    """The region as the cover test of one image takes it; ``heat`` makes the maps that hottest parts are taken from, or the
    features of places; ``mode`` is the order of channels in prepared pixels.

    Where the predicted class is watched, hottest parts are those for what the heat's own model predicts: done again on another
    model the test then hides the same places.
    """
    plan = whole.region
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
    return hottest(heat, plan.share, layer, plan.method, own=whole.target == "predicted")


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


def second_of(
    plan: CoverPlan, files: Mapping[int, Path], recipe: Recipe, heat: MapMaker, target: int | None
) -> HotElsewhere | None:
    """The second control; None where the model gives no maps without further answers (its heat is then not known)."""
    region = plan.region
    if len(files) < 2 or not any(one.heatmap for one in heat.layers):
        return None
    method, layer = (region.method, region.layer) if region.place == "hottest" else ("gradient", None)
    layer = layer if layer in {one.tensor for one in heat.layers if one.heatmap} else None
    return HotElsewhere(heat, files, recipe, layer, method, target, plan.seed)


@dataclass(frozen=True)
class CoverTest:
    """A plan and what came of it, image by image and on the whole."""

    plan: CoverPlan
    found: tuple[Covered, ...]
    result: CoverResult

    @property
    def left_out(self) -> int:
        """Images that could not be read or had no region."""
        return sum(bool(one.problem) for one in self.found)

    @property
    def mean_area(self) -> float | None:
        areas = [one.area for one in self.found if not one.problem]
        return float(np.mean(areas)) if areas else None


def result_of(
    found: Sequence[Covered], labels: Mapping[int, int] | Sequence[int], units: Units | None = None
) -> CoverResult:
    """The result over the images that were covered; ``labels`` by position, -1 for none, ``units`` of the whole set where
    images belong together."""
    read = [one for one in found if not one.problem]
    truth = np.array([labels[one.image] for one in read], np.int64)
    predicted = np.array([_four(one.predicted, -1) for one in read], np.int64).reshape(-1, 4)
    p = np.array([_four(one.p, np.nan) for one in read], float).reshape(-1, 4)
    unit = units.of(np.array([one.image for one in read], np.int64)) if units is not None and read else None
    drops = p[:, :1] - p[:, 1:]
    return cover_result(
        truth,
        predicted[:, 0],
        predicted[:, 1],
        predicted[:, 2],
        drops[:, 0],
        drops[:, 1],
        unit,
        predicted[:, 3],
        drops[:, 2],
    )


def _four(values: Sequence[float], missing: float) -> list[float]:
    """Values as it is, with the region hidden, and with both controls; ``missing`` where there is no second one."""
    return [*values, missing][:4]


def labels_of(image_set: ImageSet) -> dict[int, int]:
    """The labels of a set by position, -1 for none."""
    return dict(enumerate(image_set.labels.tolist()))


def donors_of(plan: CoverPlan, image_set: ImageSet) -> Donors | None:
    """The images of a set, as patches may be taken from them; None where the plan takes none."""
    if plan.hide != "patch":
        return None
    return Donors(dict(enumerate(image_set.files())), labels_of(image_set))


def how_done(plan: CoverPlan, model: str, model_sha256: str, image_set: ImageSet) -> dict[str, Any]:
    """What was done, as it stands in files: all that doing it again takes, the images by their paths."""
    return {
        "model": model,
        "model_sha256": model_sha256,
        "images": image_set.name,
        "together": image_set.unit_column or None,
        "selection": plan.selection,
        "region": plan.region.as_json(),
        "target": plan.target,
        "hide": plan.hide,
        "seed": plan.seed,
    }


@dataclass(frozen=True)
class CoverWork:
    """Covers a block of a plan's images. ``files`` are those that patches and heat may come from, ``labels`` theirs, by position;
    ``kind`` is that of the scores."""

    plan: CoverPlan
    target: int | None
    files: Mapping[int, Path]
    labels: Mapping[int, int]
    kind: Kind | None

    def do(self, model: Model, files: Mapping[int, Path], threads: int) -> list[Covered]:
        """What came of each image of the block. InputError where only the block's images have come here, not those that go with them."""
        if any(self.files[i] != file for i, file in files.items()):
            raise InputError(
                "covering takes patches and heat from other images, and a worker does not see those",
                where=next(iter(self.files.values())).parent,
                hint="put the images where all workers find them under one path",
            )
        maker = kept_maker_of(model, self.kind)
        return list(self.covered(maker, maker, list(files), self.files))

    def covered(
        self, maker: MapMaker, heat: MapMaker, images: Sequence[int], files: Mapping[int, Path]
    ) -> Iterator[Covered]:
        """The same one by one, by makers that are there already."""
        plan, recipe = self.plan, maker.model.recipe
        donors = Donors(files, self.labels) if plan.hide == "patch" else None
        region = region_of(plan, heat, recipe.picture.mode)
        second = second_of(plan, {i: files[i] for i in plan.images}, recipe, heat, self.target)
        return cover(maker, files, images, region, plan.hide, self.target, plan.seed, donors, second)


# So many images go elsewhere at a time.
IN_BLOCK = 16


def run_cover_test(
    classes: Sequence[str],
    image_set: ImageSet,
    plan: CoverPlan,
    maker: MapMaker,
    heat: MapMaker,
    where: Where | None = None,
) -> Iterator[Progress | CoverTest]:
    """Cover the plan's images one by one, yielding progress and in the end the test; of a stopped one what was done, if any. ``where``
    it is done, if not here; it is then the covered model's own heat."""
    target = None if plan.target == "predicted" else classes.index(plan.target)
    needed = range(len(image_set.items)) if plan.hide == "patch" else plan.images
    files = {i: image_set.file(i).absolute() for i in needed}
    labels = labels_of(image_set)
    meter, found = Meter(len(plan.images)), list[Covered]()
    remote = remote_of(maker.model)
    if remote is not None:
        remote.may_send(len(plan.images), ANSWERS * len(plan.images))
    before = remote.tally.sent if remote is not None else 0
    yield meter.at(0)

    def covered() -> Iterator[Covered]:
        work = CoverWork(plan, target, files, labels if plan.hide == "patch" else {}, maker.kind)
        for one in work.covered(maker, heat, plan.images, files):
            yield one
            if where is not None and maker.kind is not None:  # the rest goes there
                break
        else:
            return
        there, todo = replace(work, kind=maker.kind), plan.images[len(found) :]
        for block in where.work(image_set.files(), todo, maker.model, lambda _: there, in_block=IN_BLOCK):
            yield from block

    with suppress(Stopped):
        for one in covered():
            found.append(one)
            yield meter.at(len(found), f"{remote.tally.sent - before} requests" if remote is not None else "")
            if current_stop().stopped:
                break
    if found:
        yield CoverTest(plan, tuple(found), result_of(found, labels, units_in(image_set)))
