"""The commands report and verify."""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path

from mivrat.commands.loading import say_remarks
from mivrat.commands.telling import DONE, NOT_HELD, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.text import in_a_row
from mivrat.core.concluding.evaluation_context import reference_of
from mivrat.core.concluding.formatting import figure_told, measure_told
from mivrat.core.concluding.of_study import ground_of, read_findings, read_snapshot
from mivrat.core.concluding.verifying import Verified, VerifyRequest, as_json, asked_of, recipe_known
from mivrat.core.concluding.verifying import verify as verified
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import read_recipe
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
from mivrat.core.study.image_sets import declared_places
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import NotAllowed, allowed_folders, places_to_ask_about
from mivrat.core.study.records import RunInfo
from mivrat.core.study.runs import list_runs, load_run
from mivrat.demo.study import DATA


def _there(study: Path) -> Path:
    if not study.is_file():
        raise InputError("the study does not exist", where=study, hint="name a .mivrat file")
    return study


def _may_read(path: Path, agreed: Sequence[Path]) -> None:
    """Raises NotAllowed where the study, which may be a stranger's, names folders that the user has not."""
    with Study.open(path, again=True) as study:
        places = places_to_ask_about(path, declared_places(study), [DATA, *agreed, *allowed_folders()])
    if places:
        raise NotAllowed(path, places)


# --- report ---


def report(args: argparse.Namespace) -> int:
    """Write the report of a run: a file for each --out, of the kind its name ends with."""
    path = _there(args.study)
    for out in args.out:
        check_ending(out)
        if out.is_dir():
            raise InputError("is a folder, a file is needed", where=out, hint="name a file in it")
    with _held(path):
        _may_read(path, args.agree_folder)
        run, others = _run_named(path, args.run)
        if others and args.run is None:
            say(
                f"mivrat: the report is of {run.model} on {run.image_set}, the latest run; --run names another: {in_a_row(others)}"
            )
        named = [(_run_named(path, name)[0], True) for name in args.against]
        named += [(_run_named(path, name)[0], False) for name in args.candidate]
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


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """A study that is only read: held, and brought up to this version; or while a window has it open, as it is."""
    with ExitStack() as held:
        try:
            held.enter_context(StudyLock(path))
        except InputError:
            say("mivrat: the study is open elsewhere; what is saved in it so far is read")
        else:
            Study.open(path).close()
        yield


def _run_named(path: Path, wanted: str | None) -> tuple[RunInfo, list[str]]:
    """The run of this name (the latest without one), and the names of the others. InputError where it is none, or several."""
    with Study.open(path, again=True) as study:
        runs = list_runs(study)
        records = [load_run(study, one.id, with_answers=False) for one in runs]
    if not runs:
        raise InputError("holds no run to report on", where=path, hint="score images with a model first")
    references = [reference_of(one) for one in records]
    plain = [f"{one.model} on {one.image_set}" for one in runs]
    # Two models of one name are told apart by the beginning of the hash of what they are.
    names = [
        name if plain.count(name) == 1 else f"{reference} on {one.image_set}"
        for name, reference, one in zip(plain, references, runs, strict=True)
    ]
    if wanted is None:
        return runs[-1], names[:-1]
    found = [i for i, one in enumerate(runs) if wanted in (names[i], plain[i], references[i], one.model, one.image_set)]
    if not found:
        raise InputError(f"holds no run {wanted!r}; its runs: {', '.join(names)}", where=path, hint="name one of these")
    if len(found) > 1:
        several = ", ".join(names[i] for i in found)
        raise InputError(f"{wanted!r} is several runs: {several}", where="--run", hint="name one of these")
    return runs[found[0]], [name for i, name in enumerate(names) if i != found[0]]


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
    with _readable(path):
        _may_read(path, args.agree_folder)
        with Study.open(path, again=True) as study:
            classes = study.classes
        images = read_image_set(args.images, classes) if args.images else None
        asked = asked_of(path, images)
        model, threshold, remarks = _next_model(args, asked)
        asked = _with_units(asked)
        for remark in (*asked.remarks, *remarks):
            say(f"mivrat: {remark}")
        say_remarks(model)
        evaluation, line = Evaluation(model, asked.images, measuring=True), ProgressLine()
        with stoppable():
            for progress in evaluation.run(args.batch, args.threads):
                line.show(progress.done, progress.total, progress.sentence())
            found = None
            if not len(evaluation.answers.pending):
                record = record_of(evaluation, classes, asked.families, set_id=asked.set_id, threshold=threshold)
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


def _next_model(args: argparse.Namespace, asked: VerifyRequest) -> tuple[Model, float | None, list[str]]:
    """The model, its threshold where the study has one for it, and what was taken from the study and is to be said."""
    model = load_model(args.model, asked.classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    known, remarks = recipe_known(asked.path, model.content), []
    if not args.recipe and model.kind.can.scores:
        of = known or asked.reference
        try:
            model = load_model(args.model, asked.classes, of.recipe, args.threads)
            remarks.append(
                f"no recipe was given: that of {of.info.model} in the study is taken"
                + (", which was a guess" if of.recipe_is_guess else "")
            )
        except InputError as error:
            remarks.append(
                f"no recipe was given, and that of {of.info.model} does not fit ({error.what}): it is guessed"
            )
    same = known is not None and known.recipe == model.recipe
    threshold = known.threshold if known is not None and same else None
    if asked.reference.threshold is not None and threshold is None:
        remarks.append(
            f"the threshold {asked.reference.threshold:g} is that of {asked.reference.info.model} and is not applied to {model.name}"
        )
    return model, threshold, remarks


def _with_units(asked: VerifyRequest) -> VerifyRequest:
    """The images with what belongs together, where they have the column that says so in the study."""
    column = asked.reference.image_set.unit_column
    if not column or asked.images.unit_column:
        return asked
    if not all(column in item.columns for item in asked.images.items):
        return replace(
            asked,
            remarks=(
                *asked.remarks,
                f"the images have no column {column!r}, by which those of the study are related: intervals treat each image as independent",
            ),
        )
    return replace(asked, images=replace(asked.images, unit_column=column))


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
