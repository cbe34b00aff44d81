"""What workers do with a study: open it, read what it holds, edit it; and the long jobs, each a generator of what it finds."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Collection, Generator, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, Written, current_stop
from mivrat.core.checks.run_checks import KeptResult, check_run, kept_results
from mivrat.core.heatmaps.pool import model_of
from mivrat.core.likeness.store import Features
from mivrat.core.models.kinds import load_model
from mivrat.core.models.service.places import kept_beside, place_of
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import list_images, match_labels
from mivrat.core.pictures.recipe import read_recipe
from mivrat.core.pictures.subsets import pick
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.running.two_classes import TwoClasses, load_two_classes, save_two_classes
from mivrat.core.running.two_classes import find_two_classes as find_two_classes_in
from mivrat.core.selecting.kept import KeptSelection, load_kept
from mivrat.core.selecting.measures import Measures, measures_of
from mivrat.core.study.contents import Contents, read_contents
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import declared_places, forget_images, load_references
from mivrat.core.study.places import places_to_ask_about
from mivrat.core.study.readers import reads_blind
from mivrat.core.study.records import RunInfo, RunKey, RunRecord
from mivrat.core.study.reviews import Reviews, load_reviews
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_setting
from mivrat.demo.study import make_demo_study

SECONDS_BETWEEN_SNAPSHOTS = 0.7
# So many images are tried out before a full run.
FEW = 12


# A job tells of progress and of what it finds, and returns whether it came to its end.
Running = Generator[object, None, bool]


@dataclass(frozen=True)
class Opened:
    """A study as a worker found it: its runs, reference pictures, and one run judged."""

    path: Path
    runs: list[RunInfo]
    references: dict[int, Path]
    snapshot: Snapshot
    reviews: Reviews = field(default_factory=Reviews)
    kept: tuple[KeptSelection, ...] = ()
    place: str = ""
    blind: bool = False


@dataclass(frozen=True)
class Further:
    """What is read after a study has been shown: what it holds, what checks found, features that are known already."""

    contents: Contents
    checks: dict[str, KeptResult]
    vectors: NDArray[np.float32] | None
    two_classes: tuple[TwoClasses, ...] | None
    measures: Measures
    reviews: Reviews | None = None


@dataclass(frozen=True)
class FoundFeatures:
    """The features of a run's images."""

    run: RunKey
    vectors: NDArray[np.float32]


@dataclass(frozen=True)
class FoundTwoClasses:
    """The images of a run with more than one plausible class."""

    run: RunKey
    found: tuple[TwoClasses, ...]


@dataclass(frozen=True)
class Asking:
    """A study that names folders which nobody has allowed to be read yet."""

    path: Path
    places: list[Path]


@dataclass(frozen=True)
class NewStudy:
    """What a new study is made of; ``model`` is a file or the address of a service, ``few`` asks for some images to be tried
    out instead of the whole run."""

    model: Path | str
    classes: Path
    recipe: Path | None
    images: Path
    study: Path
    few: bool = False


def open_study(path: Path, run_id: int | None, allowed: Collection[Path]) -> Opened | Asking:
    """Read a study with one of its runs: the one asked for, else the one looked at last, else the first.

    Nothing outside the study's own folder and the allowed ones is read.
    """
    with Study.open(path) as study:
        places = places_to_ask_about(path, declared_places(study), allowed)
        return Asking(path, places) if places else _opened(study, run_id)


def _opened(study: Study, run_id: int | None) -> Opened:
    runs = list_runs(study)
    if not runs:
        raise InputError("holds no run yet", where=study.path, hint="start one from the start page, as a new study")
    last = load_setting(study, "run")
    known = {run.id for run in runs}
    wanted = run_id or (int(last) if last and last.isdigit() else 0)
    snapshot = take_snapshot(*load_judged(study, wanted if wanted in known else runs[0].id, keep=True))
    info, _ = snapshot.record.info, snapshot.record.key  # the key takes a moment: here nobody waits for it
    return Opened(
        study.path,
        runs,
        load_references(study),
        snapshot,
        load_reviews(study, info.set_id),
        load_kept(study, info.set_id),
        load_setting(study, f"place of run {info.id}") or "",
        reads_blind(study),
    )


def edit(path: Path, run_id: int, change: Callable[[Study], object]) -> Opened:
    """Change a study and read it anew; the change may name another run to be shown. Stopped while it changes, it raises Stopped
    and the study is as it was."""
    with Study.open(path, again=True) as study:
        with study.all_or_nothing():
            other = change(study)
        return _opened(study, other if isinstance(other, int) else run_id)


def edit_beside(path: Path, record: RunRecord, change: Callable[[Study], object], reviews: bool) -> Further:
    """Change what a study holds beside the run shown, and read that anew; with its ``reviews``, where these are changed."""
    with Study.open(path, again=True) as study:
        with study.all_or_nothing():
            change(study)
        found = _further(study, record, None)
        return replace(found, reviews=load_reviews(study, record.info.set_id)) if reviews else found


def read_more(path: Path, record: RunRecord, with_features: bool) -> Further:
    """What the study holds, what the checks of a run have found, and its images' features if wanted and all known."""
    with Study.open(path, again=True) as study:
        features = _features(record) if with_features else None
        known = features.vectors if features is not None and not len(features.pending) else None
        return _further(study, record, known)


def _further(study: Study, record: RunRecord, vectors: NDArray[np.float32] | None) -> Further:
    return Further(
        read_contents(study),
        kept_results(study, record),
        vectors,
        load_two_classes(study, record),
        measures_of(study, record),
    )


def write(path: Path, change: Callable[[Study], object]) -> None:
    """Write something small to a study that is open already."""
    with Study.open(path, again=True) as study:
        change(study)


def _features(record: RunRecord) -> Features:
    return Features(record, record.answers.contents)


def find_features(record: RunRecord) -> Running:
    """Work out the features of a run's images; whether all of them are known."""
    features = _features(record)
    yield from features.run()
    complete = not len(features.pending) or not current_stop().stopped
    if complete:
        yield FoundFeatures(record.key, features.vectors)
    return complete


def find_two_classes(path: Path, snapshot: Snapshot) -> Running:
    """Look for images with more than one plausible class, and keep those found; whether all were looked at. Raises InputError for a
    model that cannot answer for shifted images."""
    record = snapshot.record
    model = model_of(record)
    if not model.kind.can.scores:
        raise InputError(
            f"{model.kind.called} cannot answer for shifted images",
            where=record.model_path,
            hint="this needs the model itself, as an ONNX file",
        )
    files, found = record.image_set.files(), []
    for event in find_two_classes_in(model, files, snapshot.judged):
        if isinstance(event, TwoClasses):
            found.append(event)
        else:
            yield event
    if current_stop().stopped:
        return False
    write(path, lambda study: save_two_classes(study, record, found))
    yield FoundTwoClasses(record.key, tuple(found))
    return True


def export(make: Callable[[], Iterator[Progress | Written]]) -> Running:
    """Write files, telling of progress; whether all were written."""
    yield from make()
    return not current_stop().stopped


def save_copy(path: Path, copy: Path) -> None:
    """Save the study under another name as well."""
    with Study.open(path) as study:
        study.copy_to(copy)


def check(path: Path, snapshot: Snapshot, names: Collection[str]) -> Running:
    """Run checks on the run shown, telling of each result; whether all were run."""
    found = 0
    with Study.open(path) as study:
        keep = os.access(path, os.W_OK)
        for event in check_run(study, snapshot.record, snapshot.judged, names, keep=keep):
            found += isinstance(event, KeptResult)
            yield event
    return found == len(names)


def make_demo(path: Path) -> Running:
    """Make the demonstration study, or finish one begun before; whether it is complete."""
    last = Progress(0, 1, 0.0, None)
    for last in make_demo_study(path):
        yield last
    return last.done >= last.total


def run_new(new: NewStudy) -> Running:
    """Make a study and score its images; labels that no class goes by are kept, to be paired by hand."""
    classes = read_class_list(new.classes)
    model = load_model(place_of(new.model), classes, read_recipe(new.recipe) if new.recipe else None)
    image_set = match_labels(list_images(new.images), classes).image_set
    if (remote := remote_of(model)) is not None:
        remote.may_send(min(FEW, len(image_set.items)) if new.few else len(image_set.items))
        model.path = kept_beside(model.path, new.study)
    with Study.create(new.study, classes) as study:
        evaluation = Evaluation(model, image_set, study)
        return (yield from _run(evaluation, new.study, pick(len(image_set.items), FEW, 0) if new.few else None))


def run_on(
    path: Path, run_id: int, only: Sequence[int] | None = None, *, forget: bool = False, cluster: str = ""
) -> Running:
    """Score what a run has not scored yet, or those images of it that are in ``only``; ``forget`` reads them anew. With a
    ``cluster``, its workers score them."""
    with ExitStack() as held:
        study, where = held.enter_context(Study.open(path)), None
        if cluster:
            from mivrat.cluster.dask_cluster import connected

            where = held.enter_context(connected(cluster))
            if not where.wait_for_workers():
                return False
        record = load_run(study, run_id)
        if forget and only is not None:
            forget_images(study, record.info.set_id, only)
        model = model_of(record)
        return (yield from _run(Evaluation(model, record.image_set, study, where), path, only))


def _run(evaluation: Evaluation, path: Path, only: Sequence[int] | None) -> Running:
    """Run an evaluation to its end or stop, telling of progress often and of results now and then."""
    assert evaluation.study is not None
    assert evaluation.run_id is not None
    told = 0.0
    record = load_run(evaluation.study, evaluation.run_id)
    record.answers = evaluation.answers
    study, set_id = evaluation.study, record.info.set_id
    runs, references = list_runs(study), load_references(study)
    reviews, kept = load_reviews(study, set_id), load_kept(study, set_id)

    def so_far() -> Opened:
        return Opened(path, runs, references, take_snapshot(record, evaluation.judging), reviews, kept)

    try:
        for progress in evaluation.run(only=only):
            yield progress
            if time.monotonic() - told > SECONDS_BETWEEN_SNAPSHOTS:
                yield so_far()
                told = time.monotonic()
    except InputError:
        if evaluation.remote is not None and evaluation.answers.state.any():
            yield so_far()  # what a service had answered by then is kept, and is shown
        raise
    yield so_far()
    pending = evaluation.answers.pending
    return not len(pending if only is None else np.intersect1d(pending, only))
