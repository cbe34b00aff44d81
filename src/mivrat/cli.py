"""The headless commands; the window is opened from here too, and only then is the interface toolkit loaded."""

from __future__ import annotations

import argparse
import json
import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any, NoReturn

from mivrat import __version__
from mivrat.core.errors import InputError

DONE, NOT_HELD, BAD_INPUT, STOPPED = 0, 1, 2, 130


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        self.exit(BAD_INPUT, f"{self.prog}: {message}. See '{self.prog} --help'\n")


def _whole(least: int) -> Any:
    def number(text: str) -> int:
        if not text.isascii() or not text.isdigit() or int(text) < least:
            raise argparse.ArgumentTypeError(f"{text!r} is not a whole number of at least {least}")
        return int(text)

    return number


def _ks(text: str) -> list[int]:
    return sorted({_whole(1)(part.strip()) for part in text.split(",")})


def _share(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number from 0 to 1")
    return value


def _costs(text: str) -> tuple[float, float]:
    try:
        alarm, miss = (float(part) for part in text.split(","))
    except ValueError:
        alarm = miss = -1.0
    if not (0 <= alarm < float("inf") and 0 <= miss < float("inf")):
        raise argparse.ArgumentTypeError(f"{text!r} is not two costs such as 1,5")
    return alarm, miss


def _names(text: str) -> list[str]:
    from mivrat.core.checks.catalogue import BY_NAME

    names = [part.strip() for part in text.split(",") if part.strip()]
    for name in names:
        if name not in BY_NAME:
            raise argparse.ArgumentTypeError(f"there is no check {name!r}; the checks are {', '.join(BY_NAME)}")
    return names


def _run_options() -> _Parser:
    """What a run is made of: options that evaluate and check share."""
    run = _Parser(add_help=False)
    run.add_argument(
        "--model",
        type=Path,
        required=True,
        metavar="M.onnx|TABLE",
        help="an ONNX file, or a table of predictions made elsewhere",
    )
    run.add_argument(
        "--images",
        type=Path,
        required=True,
        metavar="DIR|TABLE",
        help="one folder per class, or a table with path and label columns",
    )
    run.add_argument("--classes", type=Path, required=True, metavar="FILE", help="class names in the model's order")
    run.add_argument(
        "--recipe",
        type=Path,
        metavar="R.toml",
        help="the preprocessing; guessed from the model's input, and said so, where it is not given",
    )
    run.add_argument(
        "--study", type=Path, metavar="FILE.mivrat", help="keep the run in a study; a stopped run goes on from there"
    )
    run.add_argument("--batch", type=_whole(1), default=32, metavar="N")
    run.add_argument("--threads", type=_whole(1), default=0, metavar="N")
    run.add_argument("--seed", type=_whole(0), default=0, metavar="N", help="for whatever is drawn at random")
    return run


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="mivrat",
        description="Finds out how good a trained image classifier is, where it fails, and why. Without a command it opens the window.",
    )
    parser.add_argument("--version", action="version", version=f"mivrat {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)

    commands.add_parser("demo", help="open the demonstration study")
    opening = commands.add_parser("open", help="open a study")
    opening.add_argument("study", type=Path, metavar="FILE.mivrat")

    run = _run_options()
    evaluating = commands.add_parser("evaluate", parents=[run], help="score images and write the figures")
    evaluating.add_argument("--out", type=Path, required=True, metavar="DIR")
    evaluating.add_argument("--top", type=_ks, metavar="1,3,5")
    evaluating.add_argument(
        "--group", metavar="COLUMN", help="figures by this column (dates by month); intervals then draw whole groups"
    )
    evaluating.add_argument(
        "--threshold", type=_share, metavar="T", help="two classes: call the second one from this probability on"
    )
    evaluating.add_argument(
        "--families", type=Path, metavar="TABLE", help="coarser groups of classes: a table with class and family"
    )
    evaluating.add_argument(
        "--costs", type=_costs, metavar="FALSE_ALARM,MISS", help="two classes: what either kind of mistake costs"
    )
    subset = evaluating.add_mutually_exclusive_group()
    subset.add_argument("--per-class", type=_whole(1), metavar="N", help="only so many images of each class, at random")
    subset.add_argument("--sample", type=_whole(1), metavar="N", help="only so many images, at random")
    evaluating.add_argument(
        "--require",
        action="append",
        default=[],
        metavar="'top1 >= 0.9'",
        help="exit with 1 where this does not hold; may be repeated",
    )

    checking = commands.add_parser(
        "check", parents=[run], help="look for what does not match before any figure is believed"
    )
    checking.add_argument(
        "--training", type=Path, metavar="DIR|TABLE", help="training images, to look for copies of them"
    )
    checking.add_argument("--only", type=_names, metavar="NAME,…", help="only these checks")
    checking.add_argument("--quick", action="store_true", help="leave out those that read every file or try recipes")
    checking.add_argument("--json", action="store_true", help="print the results as JSON instead of sentences")
    checking.add_argument("--out", type=Path, metavar="FILE", help="write the results as JSON")

    listing = commands.add_parser("layers", help="list the layers a heatmap can be taken from")
    listing.add_argument("model", type=Path, metavar="M.onnx")
    listing.add_argument("--recipe", type=Path, metavar="R.toml")
    listing.add_argument("--json", action="store_true")

    mapping = commands.add_parser("heatmap", help="write heatmaps of single images")
    mapping.add_argument("--model", type=Path, required=True, metavar="M.onnx")
    mapping.add_argument("--recipe", type=Path, metavar="R.toml")
    mapping.add_argument("--image", type=Path, required=True, nargs="+", action="extend", metavar="FILE")
    mapping.add_argument("--classes", type=Path, metavar="FILE")
    mapping.add_argument("--layer", metavar="TENSOR")
    mapping.add_argument("--target", default="predicted", metavar="predicted|CLASS|A:B")
    mapping.add_argument(
        "--method",
        default="gradient",
        metavar="|".join(("gradient", "elementwise", "signed", "activation", "score", "occlusion", "masks")),
    )
    mapping.add_argument("--out", type=Path, required=True, metavar="DIR")
    covering = commands.add_parser("cover", help="hide a region of many images, score again, and test what changed")
    covering.add_argument("--model", type=Path, required=True, metavar="M.onnx")
    covering.add_argument("--images", type=Path, required=True, metavar="DIR|TABLE")
    covering.add_argument("--classes", type=Path, required=True, metavar="FILE")
    covering.add_argument("--recipe", type=Path, metavar="R.toml")
    covering.add_argument("--labelled", metavar="CLASS", help="only images with this label")
    covering.add_argument("--predicted", metavar="CLASS", help="only images called this class")
    covering.add_argument(
        "--region", metavar="LEFT,TOP,RIGHT,BOTTOM", help="shares of what the network receives, 0 to 1"
    )
    covering.add_argument(
        "--hottest", type=float, metavar="SHARE", help="each image's hottest share of the area, such as 0.1"
    )
    covering.add_argument("--layer", metavar="TENSOR", help="the layer the heat is taken from")
    covering.add_argument(
        "--heat-from", type=Path, metavar="M.onnx", help="take the heat from another model, by the same recipe"
    )
    covering.add_argument("--target", default="predicted", metavar="predicted|CLASS")
    covering.add_argument("--hide", default="blur", choices=("blur", "mean", "patch"))
    covering.add_argument("--seed", type=int, default=0, metavar="N")
    covering.add_argument("--out", type=Path, required=True, metavar="DIR")
    return parser


def _say(text: str) -> None:
    print(text, file=sys.stderr)


class _ProgressLine:
    """Progress on standard error: one line kept up to date on a terminal, a line now and then elsewhere."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._tenth = -1

    def show(self, done: int, total: int, sentence: str) -> None:
        if self._live:
            sys.stderr.write(f"\r\033[K{sentence}" + ("\n" if done >= total else ""))
            sys.stderr.flush()
        elif total and done * 10 // total != self._tenth:
            self._tenth = done * 10 // total
            _say(sentence)


@contextmanager
def _stoppable() -> Iterator[Any]:
    """Ctrl-C and a polite kill ask the job to end after the batch in hand."""
    from mivrat.core.running.job import StopSignal

    stop = StopSignal()
    before = {which: signal.signal(which, lambda *_: stop.stop()) for which in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield stop
    finally:
        for which, handler in before.items():
            signal.signal(which, handler)


def _study_for(args: argparse.Namespace, classes: list[str], held: ExitStack, otherwise: Path | None = None) -> Any:
    """The study named on the command line, made where there is none, held by a lock until ``held`` lets go."""
    from mivrat.core.study.lock import StudyLock
    from mivrat.core.study.study import Study

    path = args.study or otherwise
    if path is None:
        return None
    held.enter_context(StudyLock(path))
    study = Study.open(path) if path.exists() else Study.create(path, classes)
    held.callback(study.close)
    if study.classes != classes:
        raise InputError(
            f"was made for {len(study.classes)} other classes or another order than {args.classes}",
            where=path,
            mend="use a new study for another class list",
        )
    return study


def _scored(evaluation: Any, args: argparse.Namespace) -> bool:
    """Score what is pending, with progress told; whether it was stopped."""
    line = _ProgressLine()
    with _stoppable() as stop:
        for progress in evaluation.run(stop, args.batch, args.threads):
            line.show(progress.done, progress.total, progress.sentence())
    return len(evaluation.answers.pending) > 0


def _evaluate(args: argparse.Namespace) -> int:
    with ExitStack() as held:
        return _evaluated(args, held)


def _evaluated(args: argparse.Namespace, held: ExitStack) -> int:
    from mivrat.core.checks.result import in_words
    from mivrat.core.figures.groups import group_figures, group_names
    from mivrat.core.figures.summary import sensible_ks
    from mivrat.core.models.loading import load_model
    from mivrat.core.pictures.classes import read_class_list
    from mivrat.core.pictures.families import read_families
    from mivrat.core.pictures.image_sets import read_image_set
    from mivrat.core.pictures.recipe import read_recipe
    from mivrat.core.pictures.subsets import draw, draw_per_class
    from mivrat.core.reporting.requirements import parse_requirement
    from mivrat.core.reporting.results import write_results
    from mivrat.core.running.deeper import deeper
    from mivrat.core.running.evaluation import Evaluation

    classes = read_class_list(args.classes)
    requirements = [parse_requirement(text, classes) for text in args.require]
    families = read_families(args.families, classes) if args.families else {}
    model = load_model(args.model, classes, read_recipe(args.recipe) if args.recipe else None, args.threads)
    image_set = read_image_set(args.images, classes)
    if args.per_class:
        image_set = draw_per_class(image_set, args.per_class, args.seed)
    elif args.sample:
        image_set = draw(image_set, args.sample, args.seed)
    if args.out.exists() and not args.out.is_dir():
        raise InputError("is a file, a folder is needed", where=args.out, mend="name another folder for the results")
    columns = [item.columns for item in image_set.items]
    if args.group and not all(args.group in values for values in columns):
        known = ", ".join(columns[0]) or "none"
        raise InputError(
            f"has no column {args.group!r} to group by; its columns: {known}",
            where=args.images,
            mend="name a column of the image table",
        )
    for option, given in (("--threshold", args.threshold), ("--costs", args.costs)):
        if given is not None and len(classes) != 2:
            raise InputError(
                f"is for two classes, the class list names {len(classes)}", where=option, mend="leave it out"
            )
    study = _study_for(args, classes, held)
    if study is not None and families:
        study.set_families(families)
    _say_remarks(model)
    evaluation = Evaluation(model, image_set, study)
    stopped = _scored(evaluation, args)
    judged = evaluation.judging.judged()
    if args.threshold is not None:
        judged = judged.at_threshold(args.threshold)
    names = group_names([values[args.group] for values in columns]) if args.group else []
    ks = sorted({k for k in (args.top or sensible_ks(len(classes))) if k <= len(classes)} | {1})
    wanted = sorted(set(ks) | {int(r.figure[3:]) for r in requirements if r.figure.startswith("top")})
    figures = judged.figures(wanted)
    groups = group_figures(names, judged.right, judged.confidence, judged.evaluated) if names else []
    deep = None if stopped else deeper(judged, None, names or None, args.group or "", args.seed)
    written = write_results(
        args.out,
        judged,
        None if stopped else figures,
        image_set.items,
        classes,
        evaluation.answers.reasons,
        families,
        deep,
        args.group or "",
        groups,
        judged.costs(*args.costs) if args.costs and judged.has_scores and judged.evaluated.any() else None,
        args.threshold,
    )
    counts = judged.counts()
    if image_set.drawn:
        _say(f"mivrat: {image_set.drawn}")
    for index, reason in evaluation.answers.reasons.items():
        _say(f"mivrat: not read: {image_set.items[index].path}: {reason}")
    if stopped:
        _say(
            f"mivrat: stopped after {counts.listed - counts.pending} of {counts.listed} images; what was done is in {args.out}"
            + (f" and {args.study}; the same command goes on from there" if args.study else "")
        )
        return STOPPED
    top1 = figures.top_k[1]
    if top1.value is not None and top1.low is not None and top1.high is not None:
        print(f"top-1 accuracy {top1.value:.1%} (95 % interval {top1.low:.1%} to {top1.high:.1%}, N = {top1.total})")
    else:
        print("no labelled image was scored: there are predictions, but no figures")
    print(
        f"listed {counts.listed}, evaluated {counts.evaluated}, unreadable {counts.unreadable}, unlabelled {counts.unlabelled}, failed {counts.failed}"
    )
    print("written: " + ", ".join(str(path) for path in written))
    for group in [one for one in groups if one.p < 0.05]:
        share = group.accuracy
        print(
            f"{args.group} {group.name}: {share.value or 0:.1%} of {share.total} right, below the rest (p {in_words(group.p)})"
        )
    outcomes = [requirement.against(figures, deep.intervals if deep else None) for requirement in requirements]
    for outcome in outcomes:
        print(outcome.sentence())
    return DONE if all(outcome.holds for outcome in outcomes) else NOT_HELD


def _check(args: argparse.Namespace) -> int:
    with ExitStack() as held:
        return _checked(args, held)


def _checked(args: argparse.Namespace, held: ExitStack) -> int:
    from mivrat.core.checks.catalogue import BY_NAME, CHECKS, Step
    from mivrat.core.checks.of_run import check_run
    from mivrat.core.checks.report import checks_report, in_sentences
    from mivrat.core.checks.result import CheckResult
    from mivrat.core.files import write_whole
    from mivrat.core.pictures.classes import read_class_list
    from mivrat.core.pictures.image_sets import list_images, match_labels
    from mivrat.core.pictures.recipe import read_recipe
    from mivrat.core.running.evaluation import Evaluation

    classes = read_class_list(args.classes)
    recipe = read_recipe(args.recipe) if args.recipe else None
    image_set = match_labels(list_images(args.images), classes).image_set
    training = match_labels(list_images(args.training), classes, role="training").image_set if args.training else None
    names = args.only or [check.name for check in CHECKS if not (args.quick and check.slow)]
    scratch = Path(held.enter_context(tempfile.TemporaryDirectory(prefix="mivrat-"))) / "checks.mivrat"
    model, mismatch = _model_or_mismatch(args.model, classes, recipe, args.threads)
    results: list[CheckResult] = []
    stopped = False
    if model is None:
        results = mismatch
        _say("mivrat: the other checks need a class list that fits the model")
    else:
        study = _study_for(args, classes, held, scratch)
        if training is not None:
            study.add_image_set(training)
        _say_remarks(model)
        evaluation = Evaluation(model, image_set, study)
        stopped = _scored(evaluation, args)
        assert evaluation.run_id is not None
        record = study.load_run(evaluation.run_id)
        line = _ProgressLine()
        with _stoppable() as stop:
            if stopped:
                stop.stop()
            for news in check_run(study, record, evaluation.judging.judged(), names, stop, args.seed):
                if isinstance(news, Step):
                    line.show(news.progress.done, news.progress.total, f"{news.what}: {news.progress.sentence()}")
                else:
                    results.append(news.result)
            stopped = stopped or len(results) < len(names)
    report = checks_report(results, args.model, args.images, image_set)
    if args.out:
        write_whole(args.out, json.dumps(report, indent=1, ensure_ascii=False) + "\n")
    print(json.dumps(report, indent=1, ensure_ascii=False) if args.json else in_sentences(results, BY_NAME))
    if stopped:
        return STOPPED
    return NOT_HELD if any(result.state == "stop" for result in results) else DONE


def _model_or_mismatch(path: Path, classes: list[str], recipe: Any, threads: int) -> tuple[Any, list[Any]]:
    """The model; or None and the check result that says that it does not go with the class list."""
    from mivrat.core.checks.answer_checks import check_outputs
    from mivrat.core.checks.inputs import Inputs
    from mivrat.core.models.loading import load_model
    from mivrat.core.models.onnx_model import OnnxModel
    from mivrat.core.pictures.image_sets import ImageSet

    try:
        return load_model(path, classes, recipe, threads), []
    except InputError:
        if path.suffix.lower() != ".onnx":
            raise
        try:
            other = OnnxModel(path, recipe, None, threads)
        except InputError:
            other = None
        found = check_outputs(Inputs(classes, ImageSet("", path, []), other)) if other is not None else None
        if found is None or found.state != "stop":
            raise
        return None, [found]


def _maker(model_path: Path, recipe_path: Path | None, classes: int | None) -> Any:
    from mivrat.core.evidence.maps import HeatmapMaker
    from mivrat.core.models.onnx_model import OnnxModel
    from mivrat.core.pictures.recipe import read_recipe

    model = OnnxModel(model_path, read_recipe(recipe_path) if recipe_path else None, classes)
    return HeatmapMaker(model)


def _say_remarks(model: Any) -> None:
    """What was chosen for the user; told once the input is known to be good, so that an error stays one line."""
    for remark in model.remarks:
        _say(f"mivrat: {model.path.name}: {remark}")


def _layers(args: argparse.Namespace) -> int:
    maker = _maker(args.model, args.recipe, None)
    _say_remarks(maker.model)
    layers = maker.layers
    if args.json:
        print(json.dumps([layer.as_json() for layer in layers], indent=1, ensure_ascii=False))
        return DONE
    width = max([len(layer.tensor) for layer in layers], default=0)
    for layer in layers:
        shape = " × ".join(str(n) for n in layer.shape)
        print(
            f"{layer.tensor:<{width}}  {layer.op:<20} {shape:<18} {'default' if layer.default else 'yes' if layer.heatmap else 'no: ' + str(layer.reason)}"
        )
    return DONE


def _heatmap(args: argparse.Namespace) -> int:
    from mivrat.core.evidence.export import write_heatmaps
    from mivrat.core.evidence.maps import METHODS, target_from_text
    from mivrat.core.pictures.classes import ClassMatcher, read_class_list

    if args.method not in METHODS:
        raise InputError(
            f"{args.method!r} is not a method this version has",
            where="--method",
            mend=f"use one of {', '.join(METHODS)}",
        )
    classes = read_class_list(args.classes) if args.classes else None
    for path in args.image:
        if not path.is_file():
            raise InputError("there is no such image file", where=path, mend="name image files")
    maker = _maker(args.model, args.recipe, len(classes) if classes else None)
    names = classes or [str(i) for i in range(maker.model.class_count)]
    target = target_from_text(args.target, ClassMatcher(names).target)
    layer = maker.layer_for(args.method, args.layer)
    _say_remarks(maker.model)
    unreadable, line = 0, _ProgressLine()
    with _stoppable() as stop:
        for done, made in enumerate(write_heatmaps(maker, args.image, args.out, layer, target, args.method), 1):
            line.show(done, len(args.image), f"{done} of {len(args.image)}")
            if isinstance(made.problem, str):
                unreadable += 1
                _say(f"mivrat: not read: {made.path}: {made.problem}")
            else:
                against = f" rather than {names[made.target.against]}" if made.target.against is not None else ""
                note = "; the map is all zero" if made.peak == 0 else ""
                where = f"layer {layer.tensor} ({layer.grid[0]} × {layer.grid[1]})" if layer else f"by {args.method}"
                print(f"{made.written}: for {names[made.target.of]}{against}, {where}, peak {made.peak:.4g}{note}")
            if stop.stopped and done < len(args.image):
                _say(f"mivrat: stopped after {done} of {len(args.image)} images; their files are in {args.out}")
                return STOPPED
    return BAD_INPUT if unreadable else DONE


def _cover(args: argparse.Namespace) -> int:
    from mivrat.core.evidence import cover
    from mivrat.core.evidence.regions import Shape
    from mivrat.core.explaining.cover_tests import result_of
    from mivrat.core.files import sha256_of, write_whole
    from mivrat.core.pictures.classes import ClassMatcher, read_class_list
    from mivrat.core.pictures.image_sets import list_images, match_labels
    from mivrat.core.reporting import cover_report

    classes = read_class_list(args.classes)
    find = ClassMatcher(classes).target
    region_given = _region(args)
    labelled, predicted, target = (
        find(text) if text not in (None, "predicted") else None for text in (args.labelled, args.predicted, args.target)
    )
    image_set = match_labels(list_images(args.images), classes).image_set
    maker = _maker(args.model, args.recipe, len(classes))
    heat = _maker(args.heat_from, args.recipe, len(classes)) if args.heat_from else maker
    region = (
        cover.drawn([Shape("rectangle", (region_given[:2], region_given[2:]))])
        if region_given
        else cover.hottest(heat, args.hottest, args.layer)
    )
    _say_remarks(maker.model)
    files = [image_set.file(i) for i in range(len(image_set.items))]
    chosen = [i for i, item in enumerate(image_set.items) if labelled is None or item.label == labelled]
    if not chosen:
        raise InputError("no image has this label", where="--labelled", mend="name a label of these images")
    found, line, stopped = [], _ProgressLine(), False
    with _stoppable() as stop:
        each = cover.cover(maker, files, chosen, region, args.hide, target, args.seed)
        for done, one in enumerate(each, 1):
            line.show(done, len(chosen), f"{done} of {len(chosen)}")
            if one.problem:
                _say(f"mivrat: not read: {files[one.image]}: {one.problem}")
            if one.problem or predicted is None or one.predicted[0] == predicted:
                found.append(one)
            if stop.stopped and done < len(chosen):
                _say(f"mivrat: stopped after {done} of {len(chosen)} images; what is written is of those")
                stopped = True
                break
    result = result_of(found, [-1 if item.label is None else item.label for item in image_set.items])
    how_done = {
        "model": args.model.name,
        "model_sha256": sha256_of(args.model),
        "images": str(args.images),
        "labelled": args.labelled,
        "predicted": args.predicted,
        "region": list(region_given) if region_given else None,
        "hottest": args.hottest,
        "heat_from": args.heat_from.name if args.heat_from else None,
        "layer": heat.layer(args.layer).tensor if args.hottest else None,
        "target": args.target,
        "hide": args.hide,
        "seed": args.seed,
    }
    told = cover_report.as_json(result, how_done, found)
    write_whole(args.out / "cover.json", cover_report.as_text(told))
    write_whole(args.out / "cover.csv", cover_report.as_csv(found, image_set, classes))
    print(cover_report.in_sentences(result))
    return STOPPED if stopped else DONE


def _region(args: argparse.Namespace) -> tuple[float, float, float, float] | None:
    """The rectangle asked for, or None where the hottest part is; InputError where it is neither or both."""
    if (args.region is None) == (args.hottest is None):
        raise InputError(
            "say what to hide", where="--region or --hottest", mend="give one of them, such as --hottest 0.1"
        )
    if args.hottest is not None:
        if not 0 < args.hottest < 1:
            raise InputError("is no share of the area", where="--hottest", mend="give a number between 0 and 1")
        return None
    try:
        left, top, right, bottom = (float(part) for part in args.region.split(","))
    except ValueError:
        left = top = right = bottom = 0.0
    if not (0 <= left < right <= 1 and 0 <= top < bottom <= 1):
        raise InputError(
            "is no rectangle", where="--region", mend="give left, top, right and bottom as shares, such as 0,0.7,0.3,1"
        )
    return left, top, right, bottom


def _has_display() -> bool:
    """Whether a window can really be opened, tried in a process of its own: the toolkit aborts where it cannot."""
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        return False
    attempt = "from PySide6.QtGui import QGuiApplication; QGuiApplication([])"
    try:
        return (
            subprocess.run([sys.executable, "-c", attempt], capture_output=True, timeout=30, check=False).returncode
            == 0
        )
    except subprocess.TimeoutExpired:
        return False


def _window(command: str | None, study: Path | None) -> int:
    if study is not None and not study.is_file():
        raise InputError("there is no such study", where=study, mend="name a .mivrat file")
    if not _has_display():
        if command == "demo":
            from mivrat.demo.headless import run_headless

            folder = Path("mivrat-demonstration").resolve()
            _say(f"mivrat: there is no display to open a window on; running the demonstration headless, into {folder}")
            run_headless(folder)
            return DONE
        raise InputError(
            "there is no display to open a window on, or a system library for it is missing",
            mend="evaluate, check, layers, heatmap and cover work without; tools/setup.sh names missing libraries",
        )
    from mivrat.ui.application import run

    return run(command, study)


def run_command(arguments: Sequence[str]) -> int:
    """Run one command and return its exit code; InputError goes through."""
    args = _parser().parse_args(arguments)
    if args.command == "evaluate":
        return _evaluate(args)
    if args.command == "check":
        return _check(args)
    if args.command == "layers":
        return _layers(args)
    if args.command == "heatmap":
        return _heatmap(args)
    if args.command == "cover":
        return _cover(args)
    return _window(args.command, getattr(args, "study", None))


def main() -> NoReturn:
    """The ``mivrat`` command."""
    try:
        code = run_command(sys.argv[1:])
    except InputError as error:
        _say(f"mivrat: {error.line()}")
        code = BAD_INPUT
    except KeyboardInterrupt:
        code = STOPPED
    except BrokenPipeError:
        code = DONE  # whoever read the output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    sys.exit(code)
