"""The commands sample and estimate."""

from __future__ import annotations

import argparse
import json
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

from mivrat.commands.comparing import model_of
from mivrat.commands.loading import say_remarks, study_for, where_scored
from mivrat.commands.outcomes import show_outcomes
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Progress
from mivrat.core.concluding.labelling import draw_labels, estimate_from_labels, wanted_figure
from mivrat.core.concluding.requirements import compared, parse_difference, parse_requirement
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.label_lists import (
    COPIES,
    copy_listed,
    estimate_json,
    estimate_sentences,
    labels_by_path,
    read_labelled,
    sample_csv,
    sample_json,
    sample_sentences,
    write_sample,
)
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.unkept import record_of


def sample(args: argparse.Namespace) -> int:
    """Score a pool, and write which of its images to have labelled."""
    classes = read_class_list(args.classes)
    wanted = wanted_figure(args.figure, classes)
    if (args.labels is None) == (args.half_width is None):
        raise InputError("give one of --labels N and --half-width H", where="sample", hint="the other follows from it")
    if (wanted.figure == "difference") != (args.against is not None):
        raise InputError(
            "a difference needs another model",
            where="--against",
            hint="name it with --against, for difference(top1) alone",
        )
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    other = model_of(args.against, "--against", classes, args.threads) if args.against else None
    # What labels the pool has may be of images that somebody has chosen: they are left out.
    image_set = match_labels(list_images(args.images), classes).image_set
    bare = replace(image_set, items=[replace(one, label=None) for one in image_set.items])
    known = labels_by_path(args.labelled, classes) if args.labelled else {}
    with ExitStack() as held:
        study = study_for(args, classes, held)
        say_remarks(model)
        where = where_scored(args.cluster, [model, *([other] if other is not None else [])], held)
        line, done = ProgressLine(), []
        with stoppable() as stop:
            models: list[Model] = [model, *([other] if other is not None else [])]
            for one in models:
                evaluation = Evaluation(one, bare, study, where)
                for progress in evaluation.run(args.batch, args.threads):
                    line.show(progress.done, progress.total, progress.sentence())
                done.append(evaluation)
                if stop.stopped:
                    say("mivrat: stopped before all images were scored; nothing was written")
                    return STOPPED
        record, judged = record_of(done[0], classes), done[0].judging.judged()
        against = done[1].judging.judged() if len(done) > 1 else None
        at = {bare.told_path(i): i for i in range(len(bare.items))}
        if strangers := [path for path in known if path not in at]:
            raise InputError(
                f"{len(strangers)} labelled images are not in the pool, such as {strangers[0]}",
                where=args.labelled,
                hint="name paths as the pool has them",
            )
        labelled = {at[path]: k for path, k in known.items()}
        found = draw_labels(
            record,
            judged,
            wanted,
            labels=args.labels,
            half_width=args.half_width,
            seed=args.seed,
            against=against,
            labelled=tuple(labelled),
        )
        table = sample_csv(found, record, judged, against, labelled, copies=args.copies)
        written = write_sample(args.out, sample_json(found, classes), table)
        if args.copies:
            with stoppable() as stop:
                for event in copy_listed(found, record, args.out / COPIES):
                    if isinstance(event, Progress):
                        line.show(event.done, event.total, event.sentence())
                if stop.stopped:
                    say("mivrat: stopped before all copies were made; the same command goes on")
                    return STOPPED
            written.append(args.out / COPIES)
        for sentence in sample_sentences(found):
            show(sentence)
        show("written: " + ", ".join(str(path) for path in written))
    return 0


def estimate(args: argparse.Namespace) -> int:
    """Say what the labels of a list come to."""
    listed = read_labelled(args.folder, args.labels)
    parse = parse_difference if listed.wanted.figure == "difference" else parse_requirement
    requirements = [parse(text, listed.classes) for text in args.require]
    for one in requirements:
        if (one.figure, one.class_index) != (
            "top1" if listed.wanted.figure == "difference" else listed.wanted.figure,
            listed.wanted.class_index,
        ):
            raise InputError(
                f"{one.text!r} asks for another figure than {listed.wanted.text}, which these labels were drawn for",
                where="--require",
                hint="draw another sample for it",
            )
    found = estimate_from_labels(listed.wanted, listed.strata, listed.same, listed.rows, listed.labels)
    path = Path(args.out) / "estimate.json"
    write_whole(path, json.dumps(estimate_json(listed, found), indent=1, ensure_ascii=False) + "\n")
    for sentence in estimate_sentences(listed, found):
        show(sentence)
    show(f"written: {path}")
    outcomes = [
        compared(one.text, found.value, found.low, found.high, one.bound, one.compare, one.limit)
        for one in requirements
    ]
    return show_outcomes(outcomes, f"estimate of {listed.wanted.text}", args.junit)
