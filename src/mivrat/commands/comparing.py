"""The command compare."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from mivrat.api.inputs import no_column, with_units
from mivrat.commands.loading import say_remarks, where_scored
from mivrat.commands.outcomes import show_outcomes
from mivrat.commands.telling import STOPPED, ProgressLine, say, show, stoppable
from mivrat.core.answers.other import align
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent, points, signed_span
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.claims import claims, standing_of
from mivrat.core.comparing.comparison import Names, OnSameImages, OnTwoSets
from mivrat.core.comparing.estimates import Estimates, HowUnlike, estimate, how_unlike, in_sentences
from mivrat.core.comparing.groups import GroupDifference, by_group
from mivrat.core.comparing.matching import match_classes
from mivrat.core.concluding.requirements import Requirement, parse_difference
from mivrat.core.figures.groups import group_names
from mivrat.core.figures.several import several
from mivrat.core.likeness.store import Features
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model, identity_of
from mivrat.core.models.service.description import is_address
from mivrat.core.models.service.places import place_of
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import ImageSet, column_of, read_image_set
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.reporting.comparison import ComparisonResults, write_comparison
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.unkept import record_of


@dataclass(frozen=True)
class _Run:
    """One side: its name, its model, and what it answers for which images."""

    name: str
    model: Model
    image_set: ImageSet
    evaluation: Evaluation
    classes: list[str]


def model_of(text: str, option: str, classes: Sequence[str], threads: int) -> Model:
    """The model that a RUN names, with its recipe after a comma."""
    path, recipe = Path(text), None
    if not path.exists() and "," in text:
        name, _, said = text.rpartition(",")
        path, recipe = place_of(name), read_recipe(Path(said))
    elif is_address(text):
        path = place_of(text)
    if not path.is_file():
        raise InputError(
            "the model or table does not exist",
            where=f"{option} {text}",
            hint="name net.onnx, net.onnx,recipe.toml, or a table of predictions",
        )
    return load_model(path, classes, recipe, threads)


def _names(models: Sequence[Model], texts: Sequence[str]) -> list[str]:
    """What the runs are called: their models' names, with the recipe where these are alike, else all that was said of them."""
    names = [one.name for one in models]
    if len(set(names)) < len(names):
        names = [f"{one.name} (service)" if one.kind.can.asked else one.name for one in models]
    if len(set(names)) < len(names):
        recipes = [Path(text.rpartition(",")[2]).stem if "," in text else "guessed recipe" for text in texts]
        names = [f"{name} ({recipe})" for name, recipe in zip(names, recipes, strict=True)]
    return names if len(set(names)) == len(names) else list(texts)


def compare(args: argparse.Namespace) -> int:
    """Score what has to be scored, compare, and write the files."""
    classes = read_class_list(args.classes)
    classes_b = read_class_list(args.classes_b) if args.classes_b else classes
    both, places = match_classes(classes, classes_b)
    requirements = [parse_difference(text, both) for text in args.require]
    if args.out.exists() and not args.out.is_dir():
        raise InputError("is a file, a folder is needed", where=args.out, hint="name another folder for the results")
    if not args.b and not args.images_b:
        raise InputError(
            "only one side is named",
            where="--b",
            hint="name a second model, table or image set to compare with (--b or --images-b)",
        )
    if args.images_b and len(args.b or []) > 1:
        raise InputError(
            "may be given once where there are two image sets", where="--b", hint="compare them one by one"
        )
    if args.images_b and args.group:
        raise InputError("is for the same images under two models", where="--group", hint="leave it out, or --images-b")
    if args.images_b and args.classes_b:
        raise InputError(
            "is for the same images under two models", where="--classes-b", hint="leave it out, or --images-b"
        )
    image_set = with_units(read_image_set(args.images, classes), args.together)
    if args.group and not all(args.group in item.columns for item in image_set.items):
        raise no_column(args.images, args.group, "to group by", image_set)
    other_set = with_units(read_image_set(args.images_b, classes), args.together) if args.images_b else image_set
    texts = [args.a, *(args.b or [args.a])]
    model = model_of(args.a, "--a", classes, args.threads)
    models = [model, *(model_of(one, "--b", classes_b, args.threads) if args.b else model for one in texts[1:])]
    same = args.images_b is not None and identity_of(models[1]) == identity_of(model)
    for one in dict.fromkeys(models):
        say_remarks(one)
    if args.images_b:
        names = [image_set.name, other_set.name]
        if not same:
            names = [f"{one.name} on {name}" for one, name in zip(models, names, strict=True)]
    else:
        names = _names(models, texts)
    sides = [image_set, *(other_set for _ in models[1:])]
    runs: list[_Run] = []
    with ExitStack() as held:
        where = where_scored(args.cluster, models, held)
        for name, one, images in zip(names, models, sides, strict=True):
            run = _scored(name, one, images, classes if not runs else classes_b, args, where)
            if run is None:
                say("mivrat: stopped; a comparison takes all answers, so nothing was written")
                return STOPPED
            runs.append(run)
    with stoppable():
        results = _two_sets(runs[0], runs[1], same, args) if args.images_b else _same_images(runs, both, places, args)
    if results is None:
        return STOPPED
    return _told(results, requirements, args)


def _scored(
    name: str, model: Model, image_set: ImageSet, classes: list[str], args: argparse.Namespace, where: Where | None
) -> _Run | None:
    """Score a run; None where it was stopped."""
    evaluation, line = Evaluation(model, image_set, where=where), ProgressLine()
    with stoppable():
        for progress in evaluation.run(args.batch, args.threads):
            line.show(progress.done, progress.total, f"{name}: {progress.sentence()}")
    return None if len(evaluation.answers.pending) else _Run(name, model, image_set, evaluation, classes)


def _same_images(
    runs: list[_Run], both: list[str], places: np.ndarray, args: argparse.Namespace
) -> ComparisonResults | None:
    """The comparison on the same images; the list is one, so an image stands at the same place under every run."""
    a, b = runs[0], runs[1]
    judged = a.evaluation.judging.judged()
    at = np.arange(len(judged.labels))
    laid = [align(judged, one.evaluation.judging.judged(), at, places) for one in runs[1:]]
    know = None
    if args.classes_b:
        know = np.zeros(len(both), bool)
        know[places] = True
        know[len(a.classes) :] = False
    on = OnSameImages(Names(a.name, b.name), both, laid[0], both_know=know)
    deep = on.deepen(on.compare(), None, args.seed)
    if deep is None:
        return None
    groups: list[GroupDifference] = []
    if args.group:
        groups = by_group(group_names(column_of(a.image_set.items, args.group)), laid[0])
    found = ComparisonResults(deep, claims(deep, args.margin), on, a.image_set, groups, args.group or "")
    if len(runs) > 2:
        use = np.logical_and.reduce([one.both for one in laid])
        if use.any():
            right = np.stack([judged.right, *(one.predicted == judged.labels for one in laid)])[:, use]
            unit = judged.units.of(use) if judged.units is not None else None
            found = replace(found, several=several(right, unit, args.seed), of_runs=[one.name for one in runs])
    return found


def _two_sets(a: _Run, b: _Run, same: bool, args: argparse.Namespace) -> ComparisonResults | None:
    judged, other = (one.evaluation.judging.judged() for one in (a, b))
    contents = [set(one.evaluation.answers.contents.values()) for one in (a, b)]
    on = OnTwoSets(Names(a.name, b.name), a.classes, judged, other, len(contents[0] & contents[1]))
    deep = on.compare()
    if deep.sets is not None and deep.sets.total_a and deep.sets.total_b:
        further = on.deepen(deep, seed=args.seed)
        if further is None:
            return None
        deep = further
    vectors = [_features(one) for one in (a, b)] if same and a.model.kind.can.features else None
    apart: HowUnlike | None = None
    estimates: Estimates | None = None
    if vectors is not None:
        apart = how_unlike(judged, other, (vectors[0], vectors[1]), args.seed)
    if same and (other.labels < 0).any() and judged.evaluated.any():
        pair = (vectors[0], vectors[1]) if vectors is not None else None
        estimates = estimate(judged, other, a.classes, pair, args.seed)
    return ComparisonResults(deep, claims(deep, args.margin), unlike=apart, estimates=estimates)


def _features(run: _Run) -> np.ndarray:
    """The features of a run's images."""
    features, line = Features(record_of(run.evaluation, run.classes), run.evaluation.answers.contents), ProgressLine()
    for progress in features.run():
        line.show(progress.done, progress.total, f"features of {run.image_set.name}: {progress.sentence()}")
    return features.vectors


def _told(results: ComparisonResults, requirements: Sequence[Requirement], args: argparse.Namespace) -> int:
    found = results.found
    written = write_comparison(args.out, results)
    for claim in results.claims:
        show(claim.text)
    if found.paired is not None:
        four, shared = found.paired.four, found.shared
        show(
            f"both right {four.both_right}, fixed {four.fixed}, broken {four.broken}, both wrong {four.both_wrong} (with the same answer {four.same_wrong}); answered by one only {shared.only_a + shared.only_b}"
        )
        show(f"not worse by more than {100 * args.margin:g} points: {standing_of(found, args.margin)}")
        if found.known is not None:
            show(
                f"over the {found.known} classes that both lists have; {shared.other_class} images of others are left out"
            )
    for one in results.groups:
        top1 = one.top1
        ends = "no interval" if top1.low is None or top1.high is None else signed_span(top1.low, top1.high)
        show(
            f"{results.column} {one.name}: {points(top1.value or 0)} points ({ends}), N = {one.total}, p {in_words(one.p_holm)}"
        )
    if results.several is not None:
        best = [
            f"{results.of_runs[i]} {percent(results.several.accuracy[i].value or 0)}" for i in results.several.order
        ]
        show(f"best first: {', '.join(best)}; all as good: p {in_words(results.several.p)}")
        show(
            f"the best was chosen among {len(best)}: its figure looks about {100 * results.several.optimism:.1f} points too good"
        )
    if results.unlike is not None:
        for sentence in results.unlike.sentences():
            show(sentence)
    if results.estimates is not None:
        _show_estimates(results.estimates, found.classes)
    show("written: " + ", ".join(str(path) for path in written))
    outcomes = [requirement.against_difference(found) for requirement in requirements]
    return show_outcomes(outcomes, f"{found.names.b} compared with {found.names.a}", args.junit)


def _show_estimates(found: Estimates, classes: Sequence[str]) -> None:
    if found.mix.shares is None:
        show(f"class mix without labels: refused: {found.mix.refused}")
    else:
        show(
            "estimated class mix: "
            + ", ".join(f"{name} {percent(share)}" for name, share in zip(classes, found.mix.shares, strict=True))
        )
    if found.accuracy is not None:
        show(f"estimated accuracy without labels: {' '.join(in_sentences(found.accuracy))}")
