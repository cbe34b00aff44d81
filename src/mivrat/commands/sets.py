"""The command sets."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from mivrat.api.inputs import no_column, with_units
from mivrat.commands.loading import say_remarks, study_for, where_scored
from mivrat.commands.telling import DONE, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.job import Progress
from mivrat.core.models.kinds import load_model
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.sets_report import as_json, in_sentences, write_sets
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.set_valued import PredictionSets, SetPlan, coverage_by, own_sets, sets_at
from mivrat.core.running.unkept import record_of


def sets(args: argparse.Namespace) -> int:
    """Score, take a threshold for prediction sets, and write what the sets come to; on another set too, where one is named."""
    classes = read_class_list(args.classes)
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    image_set = with_units(read_image_set(args.images, classes), args.together)
    other = with_units(read_image_set(args.on, classes), args.together) if args.on else None
    for one in (image_set, other):
        if one is not None and args.group and not any(args.group in item.columns for item in one.items):
            raise no_column(one.root, args.group, "to group by", one)
    plan = SetPlan(args.level, args.score, args.by_class)
    with ExitStack() as held:
        study = study_for(args, classes, held)
        say_remarks(model)
        where = where_scored(args.cluster, [model], held)
        with stoppable() as stop:
            told: dict[str, Any] | None = None
            line = ProgressLine()

            def scored(images: ImageSet) -> Evaluation:
                evaluation = Evaluation(model, images, study, where)
                for progress in evaluation.run(args.batch, args.threads):
                    line.show(progress.done, progress.total, f"{images.name}: {progress.sentence()}")
                return evaluation

            first = scored(image_set)
            second = scored(other) if other is not None and not stop.stopped else None
            if stop.stopped:
                say("mivrat: stopped before all images were scored; nothing was written")
                return STOPPED
            record, judged = record_of(first, classes), first.judging.judged()
            found = _last(own_sets(record, judged, plan), line)
            on = on_sentences = None
            if found is not None and second is not None:
                there, judged_there = record_of(second, classes), second.judging.judged()
                moved = _last(sets_at(there, judged_there, plan, found.threshold), line)
                if moved is not None:
                    groups = coverage_by(there, judged_there, moved, args.group) if args.group else ()
                    on = as_json(moved, there, groups, args.group or "") | {"name": there.image_set.name}
                    on_sentences = in_sentences(moved)
            if found is None or stop.stopped:
                say("mivrat: stopped; nothing was written")
                return STOPPED
        groups = coverage_by(record, judged, found, args.group) if args.group else ()
        told = as_json(found, record, groups, args.group or "", on)
        written = write_sets(Path(args.out), told, found, record, judged)
        for sentence in in_sentences(found):
            show(sentence)
        for sentence in on_sentences or ():
            show(f"{args.on.stem}: {sentence.strip()}")
        show("written: " + ", ".join(str(path) for path in written))
    return DONE


def _last(events: Iterator[Progress | PredictionSets], line: ProgressLine) -> PredictionSets | None:
    found = None
    for event in events:
        if isinstance(event, PredictionSets):
            found = event
        else:
            line.show(event.done, event.total, f"sets: {event.sentence()}")
    return found
