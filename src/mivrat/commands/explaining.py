"""The commands layers, heatmap and cover."""

from __future__ import annotations

import argparse
import json
from contextlib import ExitStack, suppress

from mivrat.api.explaining import maker_for
from mivrat.api.regions import chosen_images, told
from mivrat.commands.loading import say_remarks, where_scored
from mivrat.commands.regions import region_from
from mivrat.commands.telling import BAD_INPUT, DONE, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Stopped
from mivrat.core.gradients.layer_names import block_title, in_groups
from mivrat.core.gradients.layers import stages
from mivrat.core.heatmaps.maps import target_from_text
from mivrat.core.heatmaps.methods import METHODS, WITHOUT_CHOICE
from mivrat.core.pictures.classes import ClassMatcher, read_class_list
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.region_masking.cover_test import CoverPlan, CoverTest, how_done, run_cover_test
from mivrat.core.reporting import cover_report
from mivrat.core.reporting.heat_files import HeatmapChoices, name_of, write_heatmaps


def layers(args: argparse.Namespace) -> int:
    """List the layers a heatmap can be taken from."""
    maker = maker_for(args.model, args.recipe, ())
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
    maker = maker_for(args.model, args.recipe, classes or ())
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
    wanted = region_from(args)
    target = find(args.target) if args.target not in (None, "predicted") else None
    labelled, predicted = (None if text == "predicted" else text for text in (args.labelled, args.predicted))
    image_set = match_labels(list_images(args.images), classes).image_set
    maker = maker_for(args.model, args.recipe, classes)
    heat = maker_for(args.heat_from, args.recipe, classes) if args.heat_from else maker
    if args.heat_from and args.cluster:
        raise InputError(
            "takes the covered model's own heat", where="--cluster", hint="leave one of them out: --heat-from"
        )
    region = wanted.plan(heat)
    say_remarks(maker.model)
    line, stopped = ProgressLine(), False
    test: CoverTest | None = None
    with ExitStack() as held, stoppable() as stop:
        where = where_scored(args.cluster, [maker.model], held)
        chosen = chosen_images(maker, image_set, classes, labelled, predicted)
        plan = CoverPlan(
            tuple(chosen),
            region,
            args.hide,
            "predicted" if target is None else classes[target],
            args.seed,
            told(args.labelled, args.predicted),
        )
        for event in run_cover_test(classes, image_set, plan, maker, heat, where):
            if isinstance(event, CoverTest):
                test = event
            else:
                line.show(event.done, event.total, f"{event.done} of {event.total}")
        stopped = stop.stopped and (test is None or len(test.found) < len(chosen))
    if test is None:
        say("mivrat: stopped; nothing was written")
        return STOPPED
    for one in test.found:
        if one.problem:
            say(f"mivrat: not covered: {image_set.told_path(one.image)}: {one.problem}")
    if stopped:
        say(f"mivrat: stopped after {len(test.found)} of {len(chosen)} images; what is written is of those")
    data = cover_report.as_json(
        test.result, how_done(plan, maker.model.path.name, maker.model.content, image_set), test.found
    )
    write_whole(args.out / "cover.json", cover_report.as_text(data))
    write_whole(args.out / "cover.csv", cover_report.as_csv(test.found, image_set, classes))
    show(cover_report.in_sentences(test.result))
    return STOPPED if stopped else DONE
