"""The command transplant."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import suppress

import numpy as np

from mivrat.commands.explaining import load_maker
from mivrat.commands.loading import say_remarks, with_units
from mivrat.commands.regions import called_class, one_region, region_from
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.heatmaps.maps import MapMaker
from mivrat.core.pictures.classes import ClassMatcher, read_class_list
from mivrat.core.pictures.decode import UnreadablePicture, read_file
from mivrat.core.pictures.image_sets import ImageSet, list_images, match_labels
from mivrat.core.region_masking.transplant import TransplantPlan, TransplantTest, drawn_by_content, run_transplant
from mivrat.core.reporting import transplant_report


def transplant(args: argparse.Namespace) -> int:
    """Paste a region of some images onto others, score again, and test how many answers it carries over."""
    classes = read_class_list(args.classes)
    find = ClassMatcher(classes).target
    one_region(args)
    place = _place(args.at)
    from_labelled, from_predicted, onto_labelled, onto_predicted, target = (
        find(text) if text not in (None, "predicted") else None
        for text in (args.from_labelled, args.from_predicted, args.onto_labelled, args.onto_predicted, args.target)
    )
    if from_labelled is None and from_predicted is None:
        raise InputError(
            "say whose region is pasted", where="--from-labelled, --from-predicted", hint="name the class of the donors"
        )
    image_set = with_units(match_labels(list_images(args.images), classes).image_set, args)
    maker = load_maker(args.model, args.recipe, classes)
    region = region_from(args, maker)
    say_remarks(maker.model)
    test: TransplantTest | None = None
    line = ProgressLine()
    with stoppable() as stop:
        donors = _chosen(maker, image_set, from_labelled, from_predicted, args.donors, args.seed)
        counted = target if target is not None else from_predicted
        others = [i for i in range(len(image_set.items)) if i not in set(donors)]
        receivers = _chosen(maker, image_set, onto_labelled, onto_predicted, args.receivers, args.seed, others, counted)
        if not stop.stopped and not donors:
            raise InputError(
                "no image is of this class", where="--from-labelled, --from-predicted", hint="name another"
            )
        if not stop.stopped and not receivers:
            raise InputError(
                "no image is left to paste onto", where="--onto-labelled, --onto-predicted", hint="name others"
            )
        plan = TransplantPlan(
            donors,
            receivers,
            region,
            "predicted" if target is None else classes[target],
            place,
            args.edge == "soft",
            args.seed,
            _in_words(args.from_labelled, args.from_predicted),
            _in_words(args.onto_labelled, args.onto_predicted),
        )
        for event in run_transplant(classes, image_set, plan, maker, maker) if not stop.stopped else ():
            if isinstance(event, TransplantTest):
                test = event
            else:
                line.show(event.done, event.total, f"{event.done} of {event.total}")
    if test is None:
        say("mivrat: stopped; nothing was written")
        return STOPPED
    for image, problem in [(one.image, one.problem) for one in test.donors] + [
        (one.image, one.problem) for one in test.found
    ]:
        if problem:
            say(f"mivrat: left out: {image_set.told_path(image)}: {problem}")
    stopped = stop.stopped and len(test.found) < len(receivers)
    if stopped:
        say(f"mivrat: stopped after {len(test.found)} of {len(receivers)} images; what is written is of those")
    told = transplant_report.as_json(test, maker.model.path.name, maker.model.content, image_set)
    write_whole(args.out / "transplant.json", transplant_report.as_text(told))
    write_whole(args.out / "transplant.csv", transplant_report.as_csv(test.found, image_set, classes))
    show(transplant_report.in_sentences(test.enough, test.need))
    return STOPPED if stopped else 0


def _chosen(
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


def _place(text: str | None) -> tuple[float, float] | None:
    if text is None:
        return None
    try:
        across, down = (float(part) for part in text.split(","))
    except ValueError:
        across = down = -1.0
    if not (0 <= across <= 1 and 0 <= down <= 1):
        raise InputError("is not a place", where="--at", hint="give across and down as shares, such as 0.5,0.8")
    return across, down


def _in_words(labelled: str | None, predicted: str | None) -> str:
    told = [f"{what} {text}" for what, text in (("labelled", labelled), ("predicted", predicted)) if text]
    return ", ".join(told) or "all other images"
