"""The command weak."""

from __future__ import annotations

import argparse
import tempfile
from contextlib import ExitStack
from pathlib import Path

from mivrat.api.inputs import with_units
from mivrat.commands.loading import say_remarks, study_for, where_scored
from mivrat.commands.telling import DONE, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.models.kinds import load_model
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.weak_report import in_sentences, write_weak
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.in_common import InCommon, find_in_common
from mivrat.core.running.measuring import measure_photos
from mivrat.core.selecting.measures import measures_of
from mivrat.core.study.runs import load_run


def weak(args: argparse.Namespace) -> int:
    """Score, measure the photos, and write what wrong images share and where the model is weak."""
    classes = read_class_list(args.classes)
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    image_set = with_units(read_image_set(args.images, classes), args.together)
    with ExitStack() as held:
        scratch = Path(held.enter_context(tempfile.TemporaryDirectory(prefix="mivrat-"))) / "weak.mivrat"
        study = study_for(args, classes, held, scratch)
        assert study is not None
        say_remarks(model)
        evaluation, line = (
            Evaluation(model, image_set, study, where_scored(args.cluster, [model], held)),
            ProgressLine(),
        )
        assert evaluation.run_id is not None
        with stoppable() as stop:
            for progress in evaluation.run(args.batch, args.threads):
                line.show(progress.done, progress.total, progress.sentence())
            record = load_run(study, evaluation.run_id)
            for progress in measure_photos(study, record.info.set_id, args.threads):
                line.show(progress.done, progress.total, f"photos: {progress.sentence()}")
            judged, measures = evaluation.judging.judged(), measures_of(study, record)
            found = None
            for event in find_in_common(record, judged, measures):
                if isinstance(event, InCommon):
                    found = event
                else:
                    line.show(event.done, event.total, f"looking: {event.sentence()}")
        if found is None or stop.stopped:
            kept = f"; what was done is in {args.study}, and the same command goes on" if args.study else ""
            say(f"mivrat: stopped; nothing was written{kept}")
            return STOPPED
        if found.unmeasured:
            say(f"mivrat: {found.unmeasured} evaluated images could not be measured")
        written = write_weak(args.out, found, record, judged, measures)
        for sentence in in_sentences(found, classes):
            show(sentence)
        show("written: " + ", ".join(str(path) for path in written))
    return DONE
