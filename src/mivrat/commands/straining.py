"""The command strain."""

from __future__ import annotations

import argparse
from contextlib import ExitStack

import numpy as np

from mivrat.commands.loading import no_column, say_remarks, study_for, where_scored, with_units
from mivrat.commands.outcomes import show_outcomes
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.concluding.strain_requirements import parse_strain_requirement
from mivrat.core.models.kinds import load_model
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.distorting.kinds import sweep_from_text
from mivrat.core.pictures.distorting.names import USUAL
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.strain import in_sentences, write_strain
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked
from mivrat.core.study.kept_strains import keep_strains, load_strains
from mivrat.core.study.models import add_model


def strain(args: argparse.Namespace) -> int:
    """Distort images step by step, score again, and write what becomes of the figures."""
    classes = read_class_list(args.classes)
    strains = checked([one for text in args.kind or USUAL for one in sweep_from_text(text)])
    requirements = [parse_strain_requirement(text, strains) for text in args.require]
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    if not model.kind.can.scores:
        raise InputError(model.kind.lacks("A strain test needs"), where=model.path, hint="name the model itself")
    image_set = with_units(read_image_set(args.images, classes), args)
    if args.group and not any(args.group in item.columns for item in image_set.items):
        raise no_column(image_set.root, args.group, "to group by", image_set)
    with ExitStack() as held:
        study = study_for(args, classes, held)
        say_remarks(model)
        where = where_scored(args.cluster, [model], held)
        evaluation, line = Evaluation(model, image_set, study, where), ProgressLine()
        with stoppable() as stop:
            for progress in evaluation.run(args.batch, args.threads):
                line.show(progress.done, progress.total, f"untouched: {progress.sentence()}")
            if len(evaluation.answers.pending):
                say("mivrat: stopped before the untouched images were scored; nothing was written")
                return STOPPED
            judged = evaluation.judging.judged()
            plan = StrainPlan(tuple(np.flatnonzero(judged.predicted >= 0).tolist()), strains, args.seed)
            contents = evaluation.answers.contents
            model_id = add_model(study, model) if study is not None else 0
            known = load_strains(study, model_id, set(contents.values())) if study is not None else None
            sweep = Sweep(
                judged,
                image_set,
                model,
                plan,
                contents,
                known,
                lambda rows: keep_strains(study, model_id, rows) if study is not None else None,
                where,
            )
            for progress in sweep.run(args.threads):
                line.show(progress.done, progress.total, f"strained: {progress.sentence()}")
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
