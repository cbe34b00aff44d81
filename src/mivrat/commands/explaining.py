"""The commands layers, heatmap and cover."""

from __future__ import annotations

import argparse
import json
import string
from collections.abc import Sequence
from contextlib import ExitStack, suppress
from pathlib import Path

import numpy as np

from mivrat.commands.loading import say_remarks, where_scored
from mivrat.commands.telling import BAD_INPUT, DONE, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.answers.scoring import score_images
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import json_value, read_text, write_whole
from mivrat.core.base.job import Stopped
from mivrat.core.gradients.layer_names import block_title, in_groups
from mivrat.core.gradients.layers import stages
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.maps import HeatmapMaker, MapMaker, maker_of, target_from_text
from mivrat.core.heatmaps.methods import METHODS, WITHOUT_CHOICE
from mivrat.core.models.kinds import kind_of, load_model
from mivrat.core.models.onnx_model import ONNX, OnnxModel
from mivrat.core.pictures.classes import ClassMatcher, read_class_list
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.image_sets import ImageSet, list_images, match_labels
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.recipe import Recipe, read_recipe
from mivrat.core.region_masking.cover_test import CoverPlan, CoverTest, how_done, run_cover_test
from mivrat.core.region_masking.lookalikes import ColourRule, sampled_colour, sampled_patch
from mivrat.core.region_masking.one_image import prepared
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import Shape, mask_of, shape_from_json
from mivrat.core.reporting import cover_report
from mivrat.core.reporting.heat_files import HeatmapChoices, name_of, write_heatmaps


def load_maker(model_path: Path, recipe_path: Path | None, classes: Sequence[str]) -> MapMaker:
    """What takes maps from the model in a file, or from a service; without ``classes`` the model tells how many it has."""
    recipe = read_recipe(recipe_path) if recipe_path else None
    if kind_of(model_path) is ONNX:
        return HeatmapMaker(OnnxModel(model_path, recipe, len(classes) or None))
    return maker_of(load_model(model_path, classes, recipe))


def layers(args: argparse.Namespace) -> int:
    """List the layers a heatmap can be taken from."""
    maker = load_maker(args.model, args.recipe, ())
    say_remarks(maker.model)
    layers = maker.layers or [maker.layer(None)]
    if args.json:
        show(json.dumps([layer.as_json() for layer in layers], indent=1, ensure_ascii=False))
        return DONE
    width, plain = (
        max([len(text) for text in texts], default=0)
        for texts in ([one.tensor for one in layers], [one.plain for one in layers])
    )
    for heading, some in in_groups(layers):
        show(block_title(heading))
        for layer in some:
            shape = " × ".join(str(n) for n in layer.shape)
            state = "default" if layer.default else "yes" if layer.heatmap else f"no: {layer.reason}"
            count = f"{layer.parameters:,}" if layer.parameters else ""
            show(f"  {layer.tensor:<{width}}  {layer.plain:<{plain}}  {shape:<18} {count:>12}  {state}")
    if maker.remark:
        say(f"mivrat: the model is {maker.remark}")
    return DONE


def heatmap(args: argparse.Namespace) -> int:
    """Write heatmaps of single images."""

    if args.method not in METHODS:
        raise InputError(
            f"{args.method!r} is not a method this version has",
            where="--method",
            hint=f"use one of {', '.join(METHODS)}",
        )
    classes = read_class_list(args.classes) if args.classes else None
    for path in args.image:
        if not path.is_file():
            raise InputError("the image file does not exist", where=path, hint="name image files")
    maker = load_maker(args.model, args.recipe, classes or ())
    names = classes or [str(i) for i in range(maker.model.class_count)]
    find = ClassMatcher(names).target
    targets = [target_from_text(text, find) for text in args.target or ["predicted"]]
    chosen = [maker.layer_for(args.method, name) for name in args.layer or [None]]
    layers = [layer for layer in chosen if layer is not None]
    # A board shows what each stage has to say, where no layers are named.
    alone = args.layer or args.method in WITHOUT_CHOICE
    rows = layers if alone else stages(maker.layers) or layers
    say_remarks(maker.model)
    if maker.remark:
        say(f"mivrat: the model is {maker.remark}")
    unreadable, line = 0, ProgressLine()
    wanted = HeatmapChoices(
        layers, rows, targets, args.method, args.seed, args.scale, args.over == "edges", args.legend, args.board or ""
    )
    with ExitStack() as held, stoppable() as stop, suppress(Stopped):
        cluster = where_scored(args.cluster, [maker.model], held)
        for done, made in enumerate(write_heatmaps(maker, args.image, args.out, names, wanted, cluster), 1):
            line.show(done, len(args.image), f"{done} of {len(args.image)}")
            if isinstance(made.problem, str):
                unreadable += 1
                say(f"mivrat: not read: {made.path}: {made.problem}")
            else:
                what = " and ".join(name_of(target, names) for target in made.targets)
                where = (
                    "layer " + " and ".join(f"{one.tensor} ({one.grid[0]} × {one.grid[1]})" for one in layers)
                    if layers
                    else f"by {args.method}"
                )
                note = "; the map is all zero" if made.peak == 0 else ""
                show(f"{made.written}: for {what}, {where}, peak {made.peak:.4g}{note}")
                for text in made.said if made.peak else ():
                    say(f"mivrat: {made.path.name}: {text}")
            if stop.stopped and done < len(args.image):
                say(f"mivrat: stopped after {done} of {len(args.image)} images; their files are in {args.out}")
                return STOPPED
    if stop.stopped:
        say(f"mivrat: stopped; what was done is in {args.out}")
        return STOPPED
    return BAD_INPUT if unreadable else DONE


def cover(args: argparse.Namespace) -> int:
    """Hide a region of many images, score again, and test what changed."""

    classes = read_class_list(args.classes)
    find = ClassMatcher(classes).target
    _one_region(args)
    labelled, predicted, target = (
        find(text) if text not in (None, "predicted") else None for text in (args.labelled, args.predicted, args.target)
    )
    image_set = match_labels(list_images(args.images), classes).image_set
    maker = load_maker(args.model, args.recipe, classes)
    heat = load_maker(args.heat_from, args.recipe, classes) if args.heat_from else maker
    if args.heat_from and args.cluster:
        raise InputError(
            "takes the covered model's own heat", where="--cluster", hint="leave one of them out: --heat-from"
        )
    region = _region(args, heat)
    say_remarks(maker.model)
    chosen = [i for i, item in enumerate(image_set.items) if labelled is None or item.label == labelled]
    if not chosen:
        raise InputError("no image has this label", where="--labelled", hint="name a label of these images")
    line, stopped = ProgressLine(), False
    words = [f"{what} {text}" for what, text in (("labelled", args.labelled), ("predicted", args.predicted)) if text]
    test: CoverTest | None = None
    with ExitStack() as held, stoppable() as stop:
        where = where_scored(args.cluster, [maker.model], held)
        if predicted is not None:
            chosen = _called(maker, image_set, chosen, predicted)
        plan = CoverPlan(
            tuple(chosen),
            region,
            args.hide,
            "predicted" if target is None else classes[target],
            args.seed,
            ", ".join(words) or "all images",
        )
        for event in run_cover_test(classes, image_set, plan, maker, heat, where):
            if isinstance(event, CoverTest):
                test = event
            else:
                line.show(event.done, event.total, f"{event.done} of {event.total}")
        stopped = stop.stopped and (test is None or len(test.found) < len(chosen))
    if test is None:
        if not stopped:
            raise InputError("no image is called this class", where="--predicted", hint="name another class")
        say("mivrat: stopped; nothing was written")
        return STOPPED
    for one in test.found:
        if one.problem:
            say(f"mivrat: not covered: {image_set.told_path(one.image)}: {one.problem}")
    if stopped:
        say(f"mivrat: stopped after {len(test.found)} of {len(chosen)} images; what is written is of those")
    told = cover_report.as_json(
        test.result, how_done(plan, maker.model.path.name, maker.model.content, image_set), test.found
    )
    write_whole(args.out / "cover.json", cover_report.as_text(told))
    write_whole(args.out / "cover.csv", cover_report.as_csv(test.found, image_set, classes))
    show(cover_report.in_sentences(test.result))
    return STOPPED if stopped else DONE


def _called(maker: MapMaker, image_set: ImageSet, among: list[int], predicted: int) -> list[int]:
    """Those of some images that the model calls a class; what cannot be read is left out."""

    found: list[int] = []
    files = image_set.files()
    for batch in score_images(files, among, maker.model, copies=False):
        called = maker.called(batch.rows)
        found += [int(i) for i, k in zip(batch.scored, called, strict=True) if int(k) == predicted]
    return sorted(found)


def _one_region(args: argparse.Namespace) -> None:
    if sum(given is not None for given in (args.region, args.shapes, args.hottest, args.colour, args.like)) != 1:
        raise InputError(
            "say what to hide",
            where="--region, --shapes, --hottest, --colour or --like",
            hint="give one of them, such as --hottest 0.1",
        )


def _region(args: argparse.Namespace, heat: MapMaker) -> RegionPlan:
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
