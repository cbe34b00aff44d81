"""The commands report and verify."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mivrat.api.study import may_read, next_model, readable, run_named, with_study_units
from mivrat.commands.loading import say_remarks
from mivrat.commands.telling import DONE, NOT_HELD, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.text import in_a_row
from mivrat.core.concluding.formatting import figure_told, measure_told
from mivrat.core.concluding.of_study import ground_of, read_findings, read_snapshot
from mivrat.core.concluding.verifying import Verified, as_json, asked_of
from mivrat.core.concluding.verifying import verify as verified
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.reporting.junit import as_junit, cases_of
from mivrat.core.reporting.report.compared import ComparedWith
from mivrat.core.reporting.report.making import (
    AssembledReport,
    Making,
    check_ending,
    load_wanted,
    make_report,
    runs_against,
    write_report,
)
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.unkept import record_of, snapshot_of
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import allowed_folders


def _there(study: Path) -> Path:
    if not study.is_file():
        raise InputError("the study does not exist", where=study, hint="name a .mivrat file")
    return study


# --- report ---


def report(args: argparse.Namespace) -> int:
    """Write the report of a run: a file for each --out, of the kind its name ends with."""
    path = _there(args.study)
    for out in args.out:
        check_ending(out)
        if out.is_dir():
            raise InputError("is a folder, a file is needed", where=out, hint="name a file in it")
    with _held(path):
        may_read(path, args.agree_folder)
        run, others = run_named(path, args.run)
        if others and args.run is None:
            say(
                f"mivrat: the report is of {run.model} on {run.image_set}, the latest run; --run names another: {in_a_row(others)}"
            )
        named = [(run_named(path, name)[0], True) for name in args.against]
        named += [(run_named(path, name)[0], False) for name in args.candidate]
        for other, _ in named:
            if other.id == run.id:
                raise InputError(
                    "is the run that the report is of",
                    where=f"{other.model} on {other.image_set}",
                    hint="compare with another one",
                )
        makers, snapshot = MakerPool(), read_snapshot(path, run.id)
        findings, lost = read_findings(path)
        if lost:
            say(f"mivrat: {lost} findings of the study cannot be read and are left out")
        line = ProgressLine()
        with stoppable():
            ground = ground_of(path, snapshot, makers)
            with Study.open(path, again=True) as study:
                wanted = load_wanted(study, ground)
            against = [ComparedWith(read_snapshot(path, one.id), baseline) for one, baseline in named]
            if not named and wanted.against:
                against = runs_against(path, wanted.against)
            allowed = [*args.agree_folder, *allowed_folders()]
            for event in make_report(path, ground, findings, wanted, against, allowed):
                if isinstance(event, AssembledReport):
                    written = dict.fromkeys(one for out in args.out for one in write_report(event, out))
                    show("written: " + ", ".join(str(one) for one in written))
                    return DONE
                if isinstance(event, Making) and event.within is not None:
                    line.show(event.within.done, event.within.total, f"{event.what}: {event.within.sentence()}")
    say("mivrat: stopped; nothing was written")
    return STOPPED


@contextmanager
def _held(path: Path) -> Iterator[None]:
    """A study held by its lock, and brought up to this version."""
    with StudyLock(path):
        Study.open(path).close()
        yield


# --- verify ---


def verify(args: argparse.Namespace) -> int:
    """Hold a model, on the study's images or others, to the criteria and findings of a study."""
    path = _there(args.study)
    if args.out.exists() and not args.out.is_dir():
        raise InputError("is a file, a folder is needed", where=args.out, hint="name another folder for the results")
    if not args.model.is_file():
        raise InputError(
            "the model does not exist", where=args.model, hint="name an ONNX file or a table of predictions"
        )
    with readable(path, lambda: say("mivrat: the study is open elsewhere; what is saved in it so far is read")):
        may_read(path, args.agree_folder)
        with Study.open(path, again=True) as study:
            classes = study.classes
        images = read_image_set(args.images, classes) if args.images else None
        asked = asked_of(path, images)
        chosen = next_model(args.model, args.recipe, args.threads, asked)
        model = chosen.model
        asked = with_study_units(asked)
        for remark in (*asked.remarks, *chosen.remarks):
            say(f"mivrat: {remark}")
        say_remarks(model)
        evaluation, line = Evaluation(model, asked.images, measuring=True), ProgressLine()
        with stoppable():
            for progress in evaluation.run(args.batch, args.threads):
                line.show(progress.done, progress.total, progress.sentence())
            found = None
            if not len(evaluation.answers.pending):
                record = record_of(evaluation, classes, asked.families, set_id=asked.set_id, threshold=chosen.threshold)
                for event in verified(asked, snapshot_of(evaluation, record)):
                    if isinstance(event, Verified):
                        found = event
                    else:
                        what, at = event
                        line.show(at.done, at.total, f"{what}: {at.sentence()}")
    if found is None:
        say("mivrat: stopped; what was concluded takes all answers, so nothing was written")
        return STOPPED
    return _told(found, args)


def _told(found: Verified, args: argparse.Namespace) -> int:
    args.out.mkdir(parents=True, exist_ok=True)
    written = [args.out / "verify.json", args.out / "junit.xml"]
    name = f"{found.record.info.model} on {found.record.image_set.name}"
    write_whole(written[0], json.dumps(as_json(found), indent=1, ensure_ascii=False, allow_nan=False) + "\n")
    cases = cases_of([one.outcome for _, one in found.criteria], list(found.findings))
    write_whole(written[1], as_junit(name, cases))
    reference, here = found.asked.reference, found.record.image_set.name
    show(f"{name}, N = {found.evaluated}")
    if found.criteria:
        show(
            f"criteria are those of {reference.info.model}; each figure before is of {reference.image_set.name}, each figure now of {here}"
        )
    for before, one in found.criteria:
        now = one.outcome
        was = "no figure" if before.value is None else figure_told(before.value, None, None)
        figures = f"{was} ({reference.image_set.name}) → {figure_told(now.value, now.low, now.high)} ({here})"
        show(f"{now.verdict}: {now.text}   {now.problem or figures}{f'; {one.more}' if one.more else ''}")
    for finding, checked in found.findings:
        made = finding.made
        show(
            f"{checked.state}: {finding.title} ({finding.weight})   {measure_told(finding.before)} ({made.model_name} on {made.images_name}) → {measure_told(checked.after)} ({here})"
        )
        show(f"    {checked.why}")
    show(
        "written: "
        + ", ".join(str(one) for one in written)
        + "; the study was only read, and nothing of this is saved in it"
    )
    if found.failing:
        show(f"NOT PASSED: {'; '.join(found.failing)}")
        return NOT_HELD
    show("passed: no criterion is missed, and every finding that blocks is gone")
    return DONE
