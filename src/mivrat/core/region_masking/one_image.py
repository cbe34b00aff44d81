"""The cover test of one image: hide a region, or as a control the same area elsewhere or what is hot in another image, and score
again."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.ranking import label_ranks
from mivrat.core.heatmaps.hottest import Mask, hottest_part
from mivrat.core.heatmaps.maps import Map, MapMaker, Target
from mivrat.core.heatmaps.methods import Method
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.region_masking.regions import Shape, mask_of

if TYPE_CHECKING:
    from scipy import ndimage
else:
    ndimage = LazyModule("scipy.ndimage")

How = Literal["blur", "mean", "patch"]
HOWS: tuple[How, ...] = ("blur", "mean", "patch")
# Blur: the width of the bell as a share of the side. Control: so many places are tried, the one that overlaps least is taken.
BLUR, TRIES = 1 / 12, 40

# The region of one prepared image, from its position, its pixels, its tensor, and the class its target is; or why it has none.
Region = Callable[[int, Pixels, NDArray[np.generic], int], Mask | str]
# The second control's region of one prepared image, from its position, its pixels and its region; None: there is none.
SecondRegion = Callable[[int, Pixels, Mask], Mask | None]
NOT_DRAWN = "no region was drawn for it"


@dataclass(frozen=True)
class Covered:
    """One image's answers: predictions, p(target) and the target's rank as it is, with the region hidden, with the control
    hidden, and where there is a second control, with that hidden; ``area`` is the share of the image that was hidden, ``donor``
    the image a patch came from (-1: none). ``problem`` tells why it was not covered."""

    image: int
    target: int
    predicted: tuple[int, ...]
    p: tuple[float, ...]
    area: float
    rank: tuple[int, ...] = (0, 0, 0)
    problem: str = ""
    donor: int = -1


def drawn(shapes: Sequence[Shape]) -> Region:
    """The same shapes at the same place in every image."""
    return lambda image, pixels, tensor, target: mask_of(shapes, *pixels.shape[:2])


def drawn_each(shapes: Mapping[int, Sequence[Shape]]) -> Region:
    """Shapes of its own for each image; one without is not covered."""
    return lambda image, pixels, tensor, target: (
        mask_of(shapes[image], *pixels.shape[:2]) if shapes.get(image) else NOT_DRAWN
    )


def hottest(
    maker: MapMaker, share: float, layer: str | None = None, method: Method = "gradient", own: bool = False
) -> Region:
    """Each image's own hottest part: the share of its area where the map for the target is highest.

    ``own``: for what the maker's model predicts, whatever the model covered does. A map without any evidence gives an empty
    region.
    """
    chosen = maker.layer_for(method, layer)

    def region(image: int, pixels: Pixels, tensor: NDArray[np.generic], target: int) -> Mask:
        layers = [chosen] if chosen is not None else []
        if own:
            target = int(maker.probabilities(tensor[None])[0].argmax())
        heat = maker.laid_maps(tensor[None], [Target(target)], layers, method)[0][0]
        return hottest_part(heat, share, *pixels.shape[:2])

    return region


class HotElsewhere:
    """The second control: the part that is hottest in another image of a selection, as large as the region, at the same place in
    this one.

    It asks whether a region matters more than the places where the model usually looks: were the heat placed at random among
    these, the region of one image would be as good as that of another. The other image is chosen by the content of this one.
    """

    def __init__(
        self,
        heat: MapMaker,
        files: Mapping[int, Path],
        recipe: Recipe,
        layer: str | None,
        method: Method,
        target: int | None,
        seed: int,
    ) -> None:
        """``target`` None: each image's map is for what the heat's model predicts."""
        self._heat, self._files, self._recipe, self._method = heat, files, recipe, method
        self._chosen, self._target, self._seed = heat.layer_for(method, layer), target, seed
        self._sorted = sorted(files, key=lambda i: (str(files[i]), i))
        self._map = lru_cache(4096)(self._map_of)

    def _map_of(self, image: int) -> Map | None:
        try:
            tensor = to_tensor(prepared(self._files[image], self._recipe), self._recipe)
        except UnreadablePicture:
            return None
        if self._heat.model.misfit(tensor.shape):
            return None
        target = self._target if self._target is not None else int(self._heat.probabilities(tensor[None])[0].argmax())
        found = self._heat.laid_maps(
            tensor[None], [Target(target)], [self._chosen] if self._chosen else [], self._method
        )
        return found[0][0] if found[0][0].max() > 0 else None

    def __call__(self, image: int, pixels: Pixels, mask: Mask) -> Mask | None:
        others = [i for i in self._sorted if i != image]
        rng = seeded(self._seed, pixels, "second control")
        for _ in range(TRIES if others and mask.any() else 0):
            heat = self._map(others[int(rng.integers(len(others)))])
            if heat is not None:
                return hottest_part(heat, float(mask.mean()), *mask.shape)
        return None


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
    soft = ndimage.gaussian_filter(pixels.astype(np.float32), (sigma, sigma, 0))
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


@dataclass(frozen=True)
class Hidden:
    """One image covered: its answers, its pixels as it is, with the region hidden, and with the controls hidden, and the region
    (None: it has none)."""

    answers: Covered
    pixels: tuple[Pixels, ...]
    mask: Mask | None


def seeded(seed: int, pixels: Pixels, purpose: str = "control") -> np.random.Generator:
    """A generator that a picture's content tells, whatever its name and place in a list."""
    digest = hashlib.sha256(np.ascontiguousarray(pixels).tobytes() + str((purpose, pixels.shape)).encode()).digest()
    return np.random.default_rng((seed, *np.frombuffer(digest[:16], np.uint32).tolist()))


class Donors:
    """Images that patches are taken from: of another label than the image they go to, chosen by its content and the seed.

    ``labels`` by position, -1 for none. To an image without a label a patch comes from one that the model calls something
    else.
    """

    def __init__(self, files: Mapping[int, Path], labels: Mapping[int, int]) -> None:
        self._files, self._labels = files, labels
        # In the order of their names, so that the order of a list does not matter.
        self._sorted = sorted(files, key=lambda i: (str(files[i]), i))
        self._of: dict[int, list[int]] = {}

    def _candidates(self, label: int) -> list[int]:
        if label not in self._of:
            labels = self._labels
            others = [i for i in self._sorted if label < 0 or labels.get(i, -1) not in (-1, label)]
            self._of[label] = others
        return self._of[label]

    def patch_for(self, maker: MapMaker, image: int, pixels: Pixels, seed: int) -> tuple[int, Pixels] | None:
        """The donor of a prepared image and its pixels; None where there is no other one."""
        recipe, label = maker.model.recipe, self._labels.get(image, -1)
        candidates, rng = self._candidates(label), seeded(seed, pixels, "patch")
        called = -1 if label >= 0 else int(maker.probabilities(to_tensor(pixels, recipe)[None])[0].argmax())
        for _ in range(TRIES if candidates else 0):
            donor = candidates[int(rng.integers(len(candidates)))]
            try:
                other = prepared(self._files[donor], recipe)
            except UnreadablePicture:
                continue
            if label < 0:
                if donor == image:
                    continue
                if int(maker.probabilities(to_tensor(other, recipe)[None])[0].argmax()) == called:
                    continue
            return donor, other
        return None


# So many answers covering one image takes: as it is, with the region hidden, with the same area elsewhere hidden. The second
# control takes one more.
ANSWERS = 3


def prepared(file: Path, recipe: Recipe) -> Pixels:
    """A picture file as the network's size, before value scaling. Raises UnreadablePicture."""
    return fitted_pixels(
        read_picture(file, recipe.picture.mode, recipe.picture.exif_rotate, recipe.picture.window), recipe
    )[0]


def cover(
    maker: MapMaker,
    files: Mapping[int, Path] | Sequence[Path],
    images: Sequence[int],
    region: Region,
    how: How = "blur",
    target: int | None = None,
    seed: int = 0,
    donors: Donors | None = None,
    second: SecondRegion | None = None,
) -> Iterator[Covered]:
    """Cover ``files[i]`` for each i in ``images``, yielding what came of it one by one; repeatable with the same seed, in
    whatever order images are listed.

    ``target`` None stands for each image's predicted class. A patch comes from one of the ``donors``, of another label.
    """
    for image in images:
        try:
            pixels = prepared(files[image], maker.model.recipe)
        except UnreadablePicture as error:
            yield _not_covered(image, str(error))
            continue
        yield cover_one(maker, image, pixels, region, how, target, seed, donors, second).answers


def cover_one(
    maker: MapMaker,
    image: int,
    pixels: Pixels,
    region: Region,
    how: How = "blur",
    target: int | None = None,
    seed: int = 0,
    donors: Donors | None = None,
    second: SecondRegion | None = None,
) -> Hidden:
    """Cover one prepared image (pixels as the network's size, before value scaling), with a patch from a donor where that is
    wanted."""
    recipe = maker.model.recipe
    tensor = to_tensor(pixels, recipe)
    if problem := maker.model.misfit(tensor.shape):
        return _left_alone(image, pixels, problem)
    donor, other = -1, None
    if how == "patch":
        found = donors.patch_for(maker, image, pixels, seed) if donors is not None else None
        if found is None:
            return _left_alone(image, pixels, "no image of another label is available to take a patch from")
        donor, other = found[0], sized(found[1], pixels)
    before, first = maker.ranked(tensor[None])
    whole = before[0]
    about = int(first[0].argmax()) if target is None else target
    mask = region(image, pixels, tensor, about)
    if isinstance(mask, str):
        return _left_alone(image, pixels, mask)
    masks = [mask, elsewhere(mask, seeded(seed, pixels))]
    hot = second(image, pixels, mask) if second is not None else None
    masks += [hot] if hot is not None else []
    hidden = [hide(pixels, one, how, other) if one.any() else pixels for one in masks]
    p, scores = maker.ranked(np.stack([to_tensor(one, recipe) for one in hidden]))
    rows, about_each = np.stack([first[0], *scores]), np.full(1 + len(masks), about)
    answers = Covered(
        image,
        about,
        tuple(int(row.argmax()) for row in rows),
        (float(whole[about]), *(float(row[about]) for row in p)),
        float(mask.mean()),
        tuple(label_ranks(rows, about_each).tolist()),
        donor=donor,
    )
    return Hidden(answers, (pixels, *hidden), mask)


def _left_alone(image: int, pixels: Pixels, problem: str) -> Hidden:
    return Hidden(_not_covered(image, problem), (pixels,) * 3, None)


def _not_covered(image: int, problem: str) -> Covered:
    return Covered(image, -1, (-1, -1, -1), (np.nan, np.nan, np.nan), 0.0, problem=problem)


def sized(other: Pixels, like: Pixels) -> Pixels:
    if other.shape == like.shape:
        return other
    size = like.shape[1], like.shape[0]
    grey = other.shape[2] == 1
    made = np.asarray(Image.fromarray(other[..., 0] if grey else other).resize(size, Image.Resampling.BILINEAR))
    return made[..., None] if grey else made
