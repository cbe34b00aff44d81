"""The commands evaluate and check."""

from __future__ import annotations

import argparse
import json
import tempfile
from contextlib import ExitStack, suppress
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from mivrat.api.inputs import class_names, no_column
from mivrat.commands.loading import say_remarks, study_for, where_scored
from mivrat.commands.telling import DONE, NOT_HELD, STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.answers.answers import UNREADABLE
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Stopped
from mivrat.core.base.lazy_module import LazyModule, load_meanwhile
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.checks.result import CheckResult, in_words
from mivrat.core.figures.groups import Group, group_figures, group_names
from mivrat.core.figures.summary import Figures, sensible_ks
from mivrat.core.figures.uncertainty import FEW_UNITS
from mivrat.core.models.kinds import kind_of, load_model
from mivrat.core.models.model import Model
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.crop_warning import cropping_remark
from mivrat.core.pictures.families import read_families
from mivrat.core.pictures.image_sets import ImageSet, column_of, list_images, match_labels, read_image_set
from mivrat.core.pictures.recipe import Recipe, read_recipe
from mivrat.core.pictures.subsets import draw, draw_per_class
from mivrat.core.reporting.results import RunResults, write_results
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.running.snapshot import snapshot_with
from mivrat.core.running.unkept import record_of
from mivrat.core.selecting.measures import Measures
from mivrat.core.study.class_list import save_families
from mivrat.core.study.image_sets import add_image_set
from mivrat.core.study.runs import load_run

if TYPE_CHECKING:
    from mivrat.commands import outcomes
    from mivrat.core.checks import answer_checks, catalogue, run_checks
    from mivrat.core.checks import inputs as check_inputs
    from mivrat.core.checks import report as check_report
    from mivrat.core.concluding import criteria, criterion_words
    from mivrat.core.concluding import evaluation_context as grounds
    from mivrat.core.concluding import requirements as required
    from mivrat.core.concluding.requirements import Requirement, RequirementOutcome
else:  # nothing of these is used before the model has scored, unless something is required
    outcomes = LazyModule("mivrat.commands.outcomes")
    answer_checks, catalogue, check_inputs, run_checks, check_report = (
        LazyModule(f"mivrat.core.checks.{name}")
        for name in ("answer_checks", "catalogue", "inputs", "run_checks", "report")
    )
    criteria, criterion_words, grounds, required = (
        LazyModule(f"mivrat.core.concluding.{name}")
        for name in ("criteria", "criterion_words", "evaluation_context", "requirements")
    )


def _scored(evaluation: Evaluation, args: argparse.Namespace) -> bool:
    """Score what is pending, with progress told; whether it was stopped."""
    line = ProgressLine()
    load_meanwhile("scipy.special", "polars", "mivrat.commands.outcomes")  # which figures, tables and requirements take
    with stoppable():
        for progress in evaluation.run(args.batch, args.threads):
            line.show(progress.done, progress.total, progress.sentence())
    return len(evaluation.answers.pending) > 0


def evaluate(args: argparse.Namespace) -> int:
    with ExitStack() as held:
        return _evaluated(args, held)


@dataclass(frozen=True)
class _Inputs:
    """What a run is made of, as the command line names it."""

    classes: list[str]
    requirements: list[Requirement]
    families: dict[int, str]
    model: Model
    image_set: ImageSet


def _read_inputs(args: argparse.Namespace) -> _Inputs:
    """Read all of it, and refuse what does not go together before anything is scored."""
    classes = class_names(args.classes, args.model)
    requirements = [
        required.parse_requirement(criterion_words.read_criterion(text, classes), classes) for text in args.require
    ]
    families = read_families(args.families, classes) if args.families else {}
    args.model = kept_beside(args.model, args.study)
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    image_set = read_image_set(args.images, classes)
    if args.per_class:
        image_set = draw_per_class(image_set, args.per_class, args.seed)
    elif args.sample:
        image_set = draw(image_set, args.sample, args.seed)
    if args.out.exists() and not args.out.is_dir():
        raise InputError("is a file, a folder is needed", where=args.out, hint="name another folder for the results")
    for column, what in ((args.group, "to group by"), (args.together, "that says which images are related")):
        if column and not all(column in item.columns for item in image_set.items):
            raise no_column(args.images, column, what, image_set)
    for one in requirements:
        for column, value in one.groups:
            if value not in group_names(column_of(image_set.items, column)):
                raise InputError(
                    f"{one.text!r}: no image has {column} = {value!r}",
                    where="--require",
                    hint="name a group that the image table has",
                )
        if one.family is not None and one.family not in families.values():
            raise InputError(
                f"{one.text!r}: families do not include {one.family!r}",
                where="--require",
                hint="name one that --families has",
            )
    for option, given in (("--threshold", args.threshold), ("--costs", args.costs)):
        if given is not None and len(classes) != 2:
            raise InputError(
                f"is for two classes, the class list names {len(classes)}", where=option, hint="leave it out"
            )
    return _Inputs(classes, requirements, families, model, replace(image_set, unit_column=args.together or ""))


def _evaluated(args: argparse.Namespace, held: ExitStack) -> int:
    inputs = _read_inputs(args)
    study = study_for(args, inputs.classes, held)
    if study is not None and inputs.families:
        save_families(study, inputs.families)
    say_remarks(inputs.model)
    if remark := cropping_remark(inputs.image_set.files(), inputs.model.recipe, inputs.model.recipe_is_guess):
        say(f"mivrat: {remark}")
    evaluation = Evaluation(inputs.model, inputs.image_set, study, where_scored(args.cluster, [inputs.model], held))
    if evaluation.tried_again:
        say(f"mivrat: {evaluation.tried_again} files that could not be read before are tried again")
    stopped = _scored(evaluation, args)
    found = _results(args, inputs, evaluation, stopped)
    written = write_results(args.out, found)
    if inputs.image_set.drawn:
        say(f"mivrat: {inputs.image_set.drawn}")
    for index, reason in found.reasons.items():
        what = "not read" if found.judged.state[index] == UNREADABLE else "failed"
        say(f"mivrat: {what}: {inputs.image_set.told_path(index)}: {reason}")
    if found.figures is None:
        counts = found.judged.counts()
        say(
            f"mivrat: stopped after {counts.listed - counts.pending} of {counts.listed} images; what was done is in {args.out}"
            + (f" and {args.study}; the same command goes on from there" if args.study else "")
        )
        return STOPPED
    _show_figures(found, found.figures, args.group, evaluation.image_set.unit_column, written)
    return outcomes.show_outcomes(
        _outcomes(inputs, evaluation, found, found.figures), evaluation.model.name, args.junit
    )


def _outcomes(inputs: _Inputs, evaluation: Evaluation, found: RunResults, figures: Figures) -> list[RequirementOutcome]:
    """The requirements held against the figures; those of families and groups against the images of these."""
    record = record_of(evaluation, inputs.classes, inputs.families, threshold=found.threshold)
    snapshot = snapshot_with(record, found.judged, figures)
    columns = partial(Measures, record.image_set.items)
    ground, intervals = (
        grounds.EvaluationContext(snapshot, measured=columns),
        found.deep.intervals if found.deep else None,
    )
    return [
        criteria.hold_requirement(one, ground)
        if not one.of_all_images or one.figure == "family_accuracy"
        else one.against(figures, intervals)
        for one in inputs.requirements
    ]


def _results(args: argparse.Namespace, inputs: _Inputs, evaluation: Evaluation, stopped: bool) -> RunResults:
    """Judge the answers, and work out all figures unless the run was stopped."""
    judged, classes = evaluation.judging.judged(), inputs.classes
    if args.threshold is not None:
        judged = judged.at_threshold(args.threshold)
    found = RunResults(
        judged,
        inputs.image_set,
        classes,
        reasons=evaluation.answers.reasons,
        families=inputs.families,
        threshold=args.threshold,
        kind_source=evaluation.answers.kind_source,
    )
    if stopped:
        return found
    ks = {k for k in (args.top or sensible_ks(len(classes))) if k <= len(classes)} | {1}
    ks |= {int(one.figure[3:]) for one in inputs.requirements if one.figure.startswith("top")}
    groups: list[Group] = []
    if args.group:
        names = group_names(column_of(inputs.image_set.items, args.group))
        groups = group_figures(names, judged.right, judged.confidence, judged.evaluated, judged.units, judged.alike)
    priced = args.costs and judged.has_scores and judged.evaluated.any()
    deep = slow_figures(judged, None, args.seed)
    return replace(
        found,
        figures=judged.figures(sorted(ks), ranked=deep.ranked if deep is not None else True),
        deep=deep,
        column=args.group or "",
        groups=groups,
        costs=judged.costs(*args.costs) if priced else None,
    )


def _show_figures(found: RunResults, figures: Figures, group: str | None, together: str, written: list[Path]) -> None:
    """The figures in short, what was left out of them, the files, and the groups that fall below the rest."""
    top1, counts = figures.top_k[1], found.judged.counts()
    if top1.value is not None and top1.low is not None and top1.high is not None:
        over = "" if top1.units is None else f", over {top1.units} units of {together}"
        few = "; unreliable: few units" if top1.units is not None and top1.units < FEW_UNITS else ""
        show(f"top-1 accuracy {percent(top1.value)} (95 % interval {bounds(top1)}, N = {top1.total}{over}{few})")
    elif top1.value is not None:
        show(f"top-1 accuracy {percent(top1.value)} (N = {top1.total}; no interval: {top1.units} units are too few)")
    else:
        show("no labelled image was scored: there are predictions, but no figures")
    show(
        f"listed {counts.listed}, evaluated {counts.evaluated}, unreadable {counts.unreadable}, unlabelled {counts.unlabelled}, failed {counts.failed}"
    )
    show("written: " + ", ".join(str(path) for path in written))
    for one in [one for one in found.groups if one.p < 0.05]:
        share = one.accuracy
        show(
            f"{group} {one.name}: {percent(share.value or 0)} of {share.total} right, below the rest (p {in_words(one.p)})"
        )


def check(args: argparse.Namespace) -> int:
    with ExitStack() as held:
        return _checked(args, held)


def _checked(args: argparse.Namespace, held: ExitStack) -> int:

    classes = read_class_list(args.classes)
    recipe = read_recipe(args.recipe) if args.recipe else None
    image_set = match_labels(list_images(args.images), classes).image_set
    training = match_labels(list_images(args.training), classes, role="training").image_set if args.training else None
    kind = kind_of(args.model)
    names = args.only or [check.name for check in catalogue.checks_of(kind) if not (args.quick and check.slow)]
    scratch = Path(held.enter_context(tempfile.TemporaryDirectory(prefix="mivrat-"))) / "checks.mivrat"
    args.model = kept_beside(args.model, args.study)
    model, mismatch = _model_or_mismatch(args.model, classes, recipe, args.threads)
    results: list[CheckResult] = []
    stopped = False
    if model is None:
        results = mismatch
        say("mivrat: the other checks need a class list that fits the model")
    else:
        study = study_for(args, classes, held, scratch)
        assert study is not None
        if training is not None:
            add_image_set(study, training)
        say_remarks(model)
        evaluation = Evaluation(model, image_set, study)
        stopped = _scored(evaluation, args)
        assert evaluation.run_id is not None
        record = load_run(study, evaluation.run_id)
        line = ProgressLine()
        with stoppable() as stop, suppress(Stopped):
            if stopped:
                stop.stop()
            for event in run_checks.check_run(study, record, evaluation.judging.judged(), names, args.seed):
                if isinstance(event, catalogue.CheckProgress):
                    line.show(event.progress.done, event.progress.total, f"{event.what}: {event.progress.sentence()}")
                else:
                    results.append(event.result)
            stopped = stopped or len(results) < len(names)
    report = check_report.checks_report(results, args.model, args.images, image_set)
    if args.out:
        write_whole(args.out, json.dumps(report, indent=1, ensure_ascii=False) + "\n")
    show(
        json.dumps(report, indent=1, ensure_ascii=False)
        if args.json
        else check_report.in_sentences(results, catalogue.BY_NAME)
    )
    if stopped:
        return STOPPED
    return NOT_HELD if any(result.state == "stop" for result in results) else DONE


def _model_or_mismatch(
    path: Path, classes: list[str], recipe: Recipe | None, threads: int
) -> tuple[Model | None, list[CheckResult]]:
    """The model; or None and the check result that says that it does not go with the class list."""

    try:
        return load_model(path, classes, recipe, threads), []
    except InputError:
        if path.suffix.lower() != ".onnx":
            raise
        try:
            other = OnnxModel(path, recipe, None, threads)
        except InputError:
            other = None
        found = (
            answer_checks.check_outputs(check_inputs.Inputs(classes, ImageSet("", path, []), other))
            if other is not None
            else None
        )
        if found is None or found.state != "stop":
            raise
        return None, [found]
