"""Cover tests over many images of a run: what is to be done, doing it with progress and stop, and what came of it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from mivrat.core.answers.judging import units_in
from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.figures.covered import CoverResult, cover_result
from mivrat.core.figures.units import Units
from mivrat.core.heatmaps.maps import MapMaker, kept_maker_of
from mivrat.core.models.model import Model
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_names import ImageNames, image_name
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.region_masking.one_image import (
    ANSWERS,
    HOWS,
    Covered,
    Donors,
    HotElsewhere,
    How,
    cover,
)
from mivrat.core.region_masking.region_plan import RegionPlan, region_from_kept, region_of


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
        region = self.region.as_kept(names)
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
        region = region_from_kept(data["region"], names)
        if data["hide"] not in HOWS:
            raise ValueError("no such way of hiding")
        images = names.positions(map(image_name, data["images"]))
        plan = CoverPlan(images, region, data["hide"], str(data["target"]), int(data["seed"]), str(data["selection"]))
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as error:
        raise InputError("a kept cover test cannot be read", where="study", hint="remove it and repeat it") from error
    if not images and data["images"]:
        raise InputError("a kept cover test is of images that the set does not list", where="study", hint="repeat it")
    return plan


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
        region = region_of(plan.region, heat, recipe.picture.mode, own=plan.target == "predicted")
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
