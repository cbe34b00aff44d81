"""The command transplant."""

from __future__ import annotations

import argparse

from mivrat.api.explaining import maker_for
from mivrat.api.inputs import with_units
from mivrat.api.regions import transplant_plan
from mivrat.commands.loading import say_remarks
from mivrat.commands.regions import region_from
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.region_masking.transplant import TransplantTest, run_transplant
from mivrat.core.reporting import transplant_report


def transplant(args: argparse.Namespace) -> int:
    """Paste a region of some images onto others, score again, and test how many answers it carries over."""
    classes = read_class_list(args.classes)
    wanted = region_from(args)
    place = _place(args.at)
    image_set = with_units(match_labels(list_images(args.images), classes).image_set, args.together)
    maker = maker_for(args.model, args.recipe, classes)
    region = wanted.plan(maker)
    say_remarks(maker.model)
    test: TransplantTest | None = None
    line = ProgressLine()
    with stoppable() as stop:
        plan = transplant_plan(
            maker,
            image_set,
            classes,
            region,
            (_named(args.from_labelled), _named(args.from_predicted)),
            (_named(args.onto_labelled), _named(args.onto_predicted)),
            args.target,
            place,
            args.edge == "soft",
            (args.donors, args.receivers),
            args.seed,
        )
        for event in run_transplant(classes, image_set, plan, maker, maker) if plan is not None else ():
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
    stopped = stop.stopped and len(test.found) < len(test.plan.receivers)
    if stopped:
        say(
            f"mivrat: stopped after {len(test.found)} of {len(test.plan.receivers)} images; what is written is of those"
        )
    told = transplant_report.as_json(test, maker.model.path.name, maker.model.content, image_set)
    write_whole(args.out / "transplant.json", transplant_report.as_text(told))
    write_whole(args.out / "transplant.csv", transplant_report.as_csv(test.found, image_set, classes))
    show(transplant_report.in_sentences(test.enough, test.need))
    return STOPPED if stopped else 0


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


def _named(text: str | None) -> str | None:
    """A class; what the model predicts, whatever it is, is none."""
    return None if text == "predicted" else text
