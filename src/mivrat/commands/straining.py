"""The command strain."""

from __future__ import annotations

import argparse
from contextlib import ExitStack

from mivrat.api.inputs import no_column, with_units
from mivrat.api.straining import strained
from mivrat.commands.loading import say_remarks, study_for, where_scored
from mivrat.commands.outcomes import show_outcomes
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.concluding.strain_requirements import parse_strain_requirement
from mivrat.core.models.kinds import load_model
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.distorting.kinds import sweep_from_text
from mivrat.core.pictures.distorting.names import USUAL
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.strain import in_sentences, write_strain
from mivrat.core.straining.sweep import Sweep, checked


def strain(args: argparse.Namespace) -> int:
    """Distort images step by step, score again, and write what becomes of the figures."""
    classes = read_class_list(args.classes)
    strains = checked([one for text in args.kind or USUAL for one in sweep_from_text(text)])
    requirements = [parse_strain_requirement(text, strains) for text in args.require]
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    image_set = with_units(read_image_set(args.images, classes), args.together)
    if args.group and not any(args.group in item.columns for item in image_set.items):
        raise no_column(image_set.root, args.group, "to group by", image_set)
    with ExitStack() as held:
        study = study_for(args, classes, held)
        say_remarks(model)
        where = where_scored(args.cluster, [model], held)
        line, sweep = ProgressLine(), None
        with stoppable() as stop:
            for event in strained(model, image_set, strains, study, where, args.batch, args.threads, args.seed):
                if isinstance(event, Sweep):
                    sweep = event
                else:
                    line.show(event.done, event.total, event.sentence())
            if sweep is None:
                say("mivrat: stopped before the untouched images were scored; nothing was written")
                return STOPPED
            stopped = stop.stopped and not sweep.complete
    for image, problem in sweep.problems.items():
        say(f"mivrat: not read: {image_set.told_path(image)}: {problem}")
    if stopped:
        kept = f"; what was done is in {args.study}, and the same command goes on" if args.study else ""
        say(f"mivrat: stopped with {sweep.to_ask} of {sweep.predicted.size} answers missing; nothing was written{kept}")
        return STOPPED
    found = sweep.figures(args.margin)
    written = write_strain(args.out, found, sweep, classes, args.group or "")
    for sentence in in_sentences(found):
        show(sentence)
    show("written: " + ", ".join(str(path) for path in written))
    return show_outcomes([one.against(found) for one in requirements], f"strain test of {model.name}", args.junit)
