"""Regions of pictures, hidden (cover test) or pasted onto others (transplant test), and what that does to answers."""

from __future__ import annotations

import io
import string
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from mivrat.api.explaining import maker_for
from mivrat.api.figure import Figure, as_table, of_share
from mivrat.api.inputs import Classes, Place, RecipeLike, class_names, image_set_of
from mivrat.api.work import Work
from mivrat.core.answers.scoring import score_images
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import json_value, read_text
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.metrics import Metric
from mivrat.core.figures.transplanted import TransplantResult
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_file
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.region_masking import cover_test
from mivrat.core.region_masking import transplant as transplanting
from mivrat.core.region_masking.lookalikes import LIKENESS, TOLERANCE, ColourRule, sampled_colour, sampled_patch
from mivrat.core.region_masking.one_image import How, prepared
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape, mask_of, shape_from_json
from mivrat.core.region_masking.transplant import DONORS, RECEIVERS, TransplantPlan, drawn_by_content, run_transplant
from mivrat.core.reporting import cover_report, transplant_report

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

Corners = tuple[float, float, float, float]
_CHANGED = Metric("changed", "Answers changed", "share of images whose prediction changes")
_BECAME = Metric(
    "became", "Answers that become the class", "share of receivers whose prediction becomes the donor's class"
)


@dataclass(frozen=True)
class Region:
    """Where a region lies, in each image. Made by ``rectangle``, ``shapes``, ``hottest``, ``colour`` or ``like``."""

    place: Literal["fixed", "hottest", "colour", "likeness"]
    drawn: tuple[Shape, ...] = ()
    share: float = 0.1
    layer: str | None = None
    sampled: str = ""
    sampled_at: Corners | None = None
    tolerance: float = TOLERANCE
    alike: float = LIKENESS

    @classmethod
    def rectangle(cls, left: float, top: float, right: float, bottom: float) -> Region:
        """The same rectangle in every image, its edges as shares (0 to 1) of what the network receives."""
        return cls("fixed", (_rectangle((left, top, right, bottom)),))

    @classmethod
    def shapes(cls, shapes: Place | Sequence[Mapping[str, Any]]) -> Region:
        """The same shapes in every image: a JSON file that lists them, or the list."""
        return cls("fixed", listed_shapes(shapes))

    @classmethod
    def hottest(cls, share: float = 0.1, layer: str | None = None) -> Region:
        """The hottest share of each image's area, by a heatmap at a layer (the default one without)."""
        if not 0 < share < 1:
            raise InputError("is not a share of the area", where="hottest", hint="give a number between 0 and 1")
        return cls("hottest", share=share, layer=layer)

    @classmethod
    def colour(cls, colour: str, at: Corners | None = None, tolerance: float = TOLERANCE) -> Region:
        """Pixels of a colour, ``6a2cc8``, or the one sampled from an image (``colour`` names it) in a rectangle ``at``; ``tolerance`` is
        how far they may be from it, in CIE 1976 Delta E."""
        if not (np.isfinite(tolerance) and tolerance > 0):
            raise InputError("is not a distance between colours", where="tolerance", hint="give a number above 0")
        if at is None and not _is_hex(colour):
            raise InputError(
                "is not a colour",
                where=f"colour {colour}",
                hint="give six hexadecimal digits such as 6a2cc8, or a patch of an image",
            )
        return cls("colour", sampled=colour, sampled_at=at, tolerance=tolerance)

    @classmethod
    def like(cls, image: Place, at: Corners, alike: float = LIKENESS, layer: str | None = None) -> Region:
        """Places like a rectangle ``at`` of an image, to the last layer: at least so much ``alike`` (cosine, -1 to 1)."""
        if not -1 <= alike <= 1:
            raise InputError("is not a cosine", where="alike", hint="give a number between -1 and 1")
        return cls("likeness", sampled=str(image), sampled_at=at, alike=alike, layer=layer)

    def plan(self, heat: MapMaker) -> RegionPlan:
        """The region as tests take it; ``heat`` gives the maps that hottest parts are taken from. InputError where it cannot."""
        recipe = heat.model.recipe
        if self.place == "hottest":
            layer = heat.layer(self.layer).tensor
            return RegionPlan("hottest", share=self.share, layer=layer, heat_model=heat.model.content)
        if self.place == "colour":
            return RegionPlan("colour", colour=self._colour(recipe))
        if self.place == "likeness":
            pixels, marked = self._patch(recipe)
            if not isinstance(heat, HeatmapMaker):
                raise InputError(heat.model.kind.lacks("Places like a marked patch need"), where=heat.model.path)
            rule = sampled_patch(heat, to_tensor(pixels, recipe), marked, self.layer, self.alike)
            return RegionPlan("likeness", patch=rule)
        return RegionPlan("fixed", self.drawn)

    def _colour(self, recipe: Recipe) -> ColourRule:
        if self.sampled_at is None:
            pixels = np.array([[list(bytes.fromhex(self.sampled.removeprefix("#")))]], np.uint8)
            return sampled_colour(pixels, "RGB", np.ones((1, 1), bool), self.tolerance)
        pixels, marked = self._patch(recipe)
        return sampled_colour(pixels, recipe.picture.mode, marked, self.tolerance)

    def _patch(self, recipe: Recipe) -> tuple[Pixels, Mask]:
        """The prepared pixels of the image sampled, and which of them are marked."""
        assert self.sampled_at is not None
        shape = _rectangle(self.sampled_at)
        try:
            pixels = prepared(Path(self.sampled), recipe)
        except UnreadablePicture as error:
            raise InputError(
                f"the image cannot be read: {error}", where=self.sampled, hint="name an image file"
            ) from error
        return pixels, mask_of([shape], *pixels.shape[:2])


def _is_hex(text: str) -> bool:
    named = text.removeprefix("#")
    return len(named) == 6 and all(one in string.hexdigits for one in named)


def _rectangle(corners: Corners) -> Shape:
    left, top, right, bottom = corners
    if not (0 <= left < right <= 1 and 0 <= top < bottom <= 1):
        raise InputError(
            "is not a rectangle",
            where=f"{left:g},{top:g},{right:g},{bottom:g}",
            hint="give left, top, right and bottom as shares, such as 0,0.7,0.3,1",
        )
    return Shape("rectangle", ((left, top), (right, bottom)))


def listed_shapes(shapes: Place | Sequence[Mapping[str, Any]]) -> tuple[Shape, ...]:
    """The shapes that a JSON file, or a list, names; InputError where there are none."""
    if isinstance(shapes, Sequence) and not isinstance(shapes, str):
        where: object = "shapes"
        listed: Any = list(shapes)
    else:
        where = path = Path(shapes)
        listed = json_value(
            read_text(path, "the list of shapes", "name a JSON file"), path, "give a JSON list of shapes"
        )
    if not isinstance(listed, list) or not listed:
        raise InputError("is not a list of shapes", where=where, hint="give a JSON list of shapes")
    return tuple(shape_from_json(one) for one in listed)


def called_class(maker: MapMaker, image_set: ImageSet, among: Sequence[int], predicted: int) -> list[int]:
    """Those of some images that the model calls a class; what cannot be read is left out."""
    found: list[int] = []
    files = image_set.files()
    for batch in score_images(files, list(among), maker.model, copies=False):
        called = maker.called(batch.rows)
        found += [int(i) for i, k in zip(batch.scored, called, strict=True) if int(k) == predicted]
    return sorted(found)


@dataclass(frozen=True, eq=False)
class CoverTest:
    """What hiding a region did: ``changed``, the share of answers that change, ``control`` the same where as much was hidden elsewhere,
    ``p`` of so uneven a split if the region were like any other place, ``frame`` image by image, ``claims`` in sentences."""

    test: cover_test.CoverTest
    image_set: ImageSet
    classes: list[str]

    @property
    def result(self) -> CoverResult:
        """All figures of the test."""
        return self.test.result

    @property
    def changed(self) -> Figure:
        """The share of images whose prediction changes when the region is hidden."""
        return of_share(_CHANGED, self.result.region.changed, "no image was covered")

    @property
    def control(self) -> Figure:
        """The same where as much was hidden elsewhere in the image."""
        return of_share(_CHANGED, self.result.control.changed, "no image was covered")

    @property
    def p(self) -> float:
        """The exact probability of so uneven a split between region and control, were the region like any other place."""
        return self.result.p

    @property
    def claims(self) -> list[str]:
        """How the region compares with each control."""
        return cover_report.conclusions(self.result)

    @cached_property
    def frame(self) -> pl.DataFrame:
        """A row for each image: its answers as it is, with the region hidden, with each control."""
        return _read_csv(cover_report.as_csv(self.test.found, self.image_set, self.classes))

    def _repr_html_(self) -> str:
        return as_table([self.changed, self.control], "Cover test: region hidden, then as much elsewhere", self.claims)


@dataclass(frozen=True, eq=False)
class TransplantTest:
    """What pasting a region did: ``became``, the share of receivers whose answer becomes the donor's class, ``control`` the same with
    another piece of the donor, ``frame`` image by image, ``claims`` in sentences."""

    test: transplanting.TransplantTest
    image_set: ImageSet
    classes: list[str]

    @property
    def result(self) -> TransplantResult:
        """All figures of what pasting did."""
        return self.test.enough

    @property
    def became(self) -> Figure:
        """The share of receivers whose prediction becomes the donor's class."""
        return of_share(_BECAME, self.result.piece.became, "nothing was pasted")

    @property
    def control(self) -> Figure:
        """The same with another piece of the donor, of the same form."""
        return of_share(_BECAME, self.result.control.became, "nothing was pasted")

    @property
    def claims(self) -> list[str]:
        """Whether the piece is enough, and whether it is needed."""
        return transplant_report.conclusions(self.test.enough, self.test.need)

    @cached_property
    def frame(self) -> pl.DataFrame:
        """A row for each receiver: its answers as it is, with the piece, with the control."""
        return _read_csv(transplant_report.as_csv(self.test.found, self.image_set, self.classes))

    def _repr_html_(self) -> str:
        return as_table([self.became, self.control], "Transplant test: the piece, then another one", self.claims)


def _read_csv(text: str) -> pl.DataFrame:
    return pl.read_csv(io.StringIO(text), infer_schema_length=None)


def cover(
    model: Place,
    images: Place | pl.DataFrame,
    classes: Classes,
    region: Region,
    recipe: RecipeLike = None,
    *,
    labelled: str | None = None,
    predicted: str | None = None,
    hide: How = "blur",
    target: str = "predicted",
    seed: int = 0,
    together: str | None = None,
    progress: Callable[[Progress], object] | None = None,
) -> CoverTest:
    """Hide a region of many images, score them again, and test what changed against as much hidden elsewhere.

    ``labelled`` and ``predicted`` choose the images by label and by what the model calls them; ``hide``: blur, mean (colour) or patch
    (of an image of another label); ``target``: whose probability is watched. InputError where there is nothing to cover.
    """

    def events() -> Iterator[Progress | CoverTest]:
        names = class_names(classes)
        image_set = image_set_of(images, names, together)
        maker = maker_for(model, recipe, names)
        chosen = chosen_images(maker, image_set, names, labelled, predicted)
        plan = cover_test.CoverPlan(
            tuple(chosen), region.plan(maker), hide, _class_or_predicted(target, names), seed, told(labelled, predicted)
        )
        for event in cover_test.run_cover_test(names, image_set, plan, maker, maker):
            yield event if isinstance(event, Progress) else CoverTest(event, image_set, names)

    return Work(events()).finish(progress)


def transplant(
    model: Place,
    images: Place | pl.DataFrame,
    classes: Classes,
    region: Region,
    recipe: RecipeLike = None,
    *,
    from_labelled: str | None = None,
    from_predicted: str | None = None,
    onto_labelled: str | None = None,
    onto_predicted: str | None = None,
    target: str = "predicted",
    at: tuple[float, float] | None = None,
    soft: bool = False,
    donors: int = DONORS,
    receivers: int = RECEIVERS,
    seed: int = 0,
    together: str | None = None,
    progress: Callable[[Progress], object] | None = None,
) -> TransplantTest:
    """Paste a region of some images onto others, score them again, and test how many answers it carries over.

    ``from_…`` choose the donors, ``onto_…`` the receivers; ``at``: where the piece's middle goes (across and down, as shares; where it was
    without); ``soft``: with a soft edge. InputError where there is nobody to give or to take.
    """

    def events() -> Iterator[Progress | TransplantTest]:
        names = class_names(classes)
        image_set = image_set_of(images, names, together)
        maker = maker_for(model, recipe, names)
        plan = transplant_plan(
            maker,
            image_set,
            names,
            region.plan(maker),
            (from_labelled, from_predicted),
            (onto_labelled, onto_predicted),
            target,
            at,
            soft,
            (donors, receivers),
            seed,
        )
        if plan is None:
            return
        for event in run_transplant(names, image_set, plan, maker, maker):
            yield event if isinstance(event, Progress) else TransplantTest(event, image_set, names)

    return Work(events()).finish(progress)


def _class_or_predicted(text: str, names: Sequence[str]) -> str:
    return text if text == "predicted" else names[ClassMatcher(names).target(text)]


def chosen_images(
    maker: MapMaker, image_set: ImageSet, names: Sequence[str], labelled: str | None, predicted: str | None
) -> list[int]:
    """The images with this label that the model calls this class. InputError where there are none."""
    find = ClassMatcher(names).target
    label = find(labelled) if labelled is not None else None
    chosen = [i for i, k in enumerate(image_set.labels.tolist()) if label is None or k == label]
    if not chosen:
        raise InputError("no image has this label", where="labelled", hint="name a label of these images")
    if predicted is not None:
        chosen = called_class(maker, image_set, chosen, find(predicted))
        if not chosen and not current_stop().stopped:
            raise InputError("no image is called this class", where="predicted", hint="name another class")
    return chosen


def transplant_plan(
    maker: MapMaker,
    image_set: ImageSet,
    names: Sequence[str],
    region: RegionPlan,
    from_: tuple[str | None, str | None],
    onto: tuple[str | None, str | None],
    target: str,
    at: tuple[float, float] | None,
    soft: bool,
    most: tuple[int, int],
    seed: int,
) -> TransplantPlan | None:
    """Who gives and who takes, drawn at random by content; None where it was stopped. ``from_`` and ``onto`` are label and prediction,
    ``most`` how many of each. InputError where there is nobody."""
    find = ClassMatcher(names).target
    from_labelled, from_predicted, onto_labelled, onto_predicted = (
        find(text) if text is not None else None for text in (*from_, *onto)
    )
    watched = find(target) if target != "predicted" else None
    if from_labelled is None and from_predicted is None:
        raise InputError(
            "say whose region is pasted",
            where="from-labelled, from-predicted",
            hint="name the class of the donors",
        )
    donors = _drawn(maker, image_set, from_labelled, from_predicted, most[0], seed)
    counted = watched if watched is not None else from_predicted
    given = set(donors)
    others = [i for i in range(len(image_set.items)) if i not in given]
    receivers = _drawn(maker, image_set, onto_labelled, onto_predicted, most[1], seed, others, counted)
    if current_stop().stopped:
        return None
    if not donors:
        raise InputError("no image is of this class", where="from-labelled, from-predicted", hint="name another")
    if not receivers:
        raise InputError("no image is left to paste onto", where="onto-labelled, onto-predicted", hint="name others")
    return TransplantPlan(
        donors,
        receivers,
        region,
        "predicted" if watched is None else names[watched],
        at,
        soft,
        seed,
        told(*from_, "all other images"),
        told(*onto, "all other images"),
    )


def _drawn(
    maker: MapMaker,
    image_set: ImageSet,
    labelled: int | None,
    predicted: int | None,
    most: int,
    seed: int,
    among: Sequence[int] | None = None,
    never: int | None = None,
) -> tuple[int, ...]:
    """A random sample of the images with this label that the model calls this class; none of the label ``never``."""
    labels = image_set.labels
    some = np.arange(len(labels)) if among is None else np.array(among, np.int64)
    some = some[
        (labels[some] == labelled) if labelled is not None else (labels[some] != (-2 if never is None else never))
    ]
    images = some.tolist()
    if predicted is not None:
        images = called_class(maker, image_set, images, predicted)
    contents = {}
    for image in images:
        with suppress(UnreadablePicture):
            contents[image] = read_file(image_set.file(image)).stamp.content
    return drawn_by_content(contents, most, seed)


def told(labelled: str | None, predicted: str | None, otherwise: str = "all images") -> str:
    """Which images were chosen, in words."""
    words = [f"{what} {text}" for what, text in (("labelled", labelled), ("predicted", predicted)) if text]
    return ", ".join(words) or otherwise
