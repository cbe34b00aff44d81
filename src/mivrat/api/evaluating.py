"""Runs from models and tables of predictions: scored step by step, or in one go."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from mivrat.api.inputs import (
    Classes,
    Place,
    RecipeLike,
    class_names,
    image_set_of,
    model_of,
    study_at,
    where_worked,
)
from mivrat.api.run import Run
from mivrat.api.work import Work
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.families import read_families
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.snapshot import judged_as_asked
from mivrat.core.running.unkept import record_of

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


def evaluate(
    model: Place,
    images: Place | pl.DataFrame,
    classes: Classes | None = None,
    recipe: RecipeLike = None,
    *,
    study: Place | None = None,
    together: str | None = None,
    families: Place | Mapping[str, str] | None = None,
    threshold: float | None = None,
    where: str | None = None,
    batch: int = 32,
    threads: int = 0,
    seed: int = 0,
    progress: Callable[[Progress], object] | None = None,
) -> Run:
    """Score images with a model, and judge the answers.

    ``model`` is an ONNX file, a table of predictions, or a service description; ``images`` a folder (one folder per class), a table
    file, an archive, or a Polars frame with a ``path`` column; ``classes`` a file of names or the names, in the order of the model's
    scores (without them, those in the ONNX file's metadata);
    ``recipe`` a recipe file or its entries (guessed from the model without one; the run's ``remarks`` say so). ``study``: keep the
    answers in this ``.mivrat`` file, and go on from what is there. ``together``: the column that says which images are related.
    ``where``: a cluster, ``local:4`` or ``tcp://host:port``. ``progress`` is called with each step. Raises InputError where something
    cannot be used.
    """
    work = evaluation(
        model,
        images,
        classes,
        recipe,
        study=study,
        together=together,
        families=families,
        threshold=threshold,
        where=where,
        batch=batch,
        threads=threads,
        seed=seed,
    )
    return work.finish(progress)


def evaluation(
    model: Place,
    images: Place | pl.DataFrame,
    classes: Classes | None = None,
    recipe: RecipeLike = None,
    *,
    study: Place | None = None,
    together: str | None = None,
    families: Place | Mapping[str, str] | None = None,
    threshold: float | None = None,
    where: str | None = None,
    batch: int = 32,
    threads: int = 0,
    seed: int = 0,
) -> Work[Run]:
    """The same as ``evaluate``, step by step: iterate over it for progress, ``stop()`` it, ask for its ``result``. A run that was
    stopped has the answers so far; kept in a study, the same call goes on from there."""

    def events() -> Iterator[Progress | Run]:
        names = class_names(classes, model)
        kept = Path(study) if study is not None else None
        loaded = model_of(model, names, recipe, threads, kept)
        image_set = image_set_of(images, names, together)
        known = families_of(families, names)
        if threshold is not None and len(names) != 2:
            raise InputError(f"is for two classes, there are {len(names)}", where="threshold", hint="leave it out")
        with ExitStack() as held:
            source = classes if isinstance(classes, str | os.PathLike) else ""
            study_open = (
                study_at(kept, names, held, [loaded.path.parent, image_set.root], source) if kept is not None else None
            )
            one = Evaluation(loaded, image_set, study_open, where_worked(where, [loaded], held))
            yield from one.run(batch, threads)
            record = record_of(one, names, known, threshold=threshold)
            judged = judged_as_asked(record, one.judging)
        yield Run(record, judged, [f"{loaded.path.name}: {remark}" for remark in loaded.remarks], seed=seed)

    return Work(events())


def families_of(families: Place | Mapping[str, str] | None, classes: Sequence[str]) -> dict[int, str]:
    """Families by class index, from a file or as class -> family."""
    if families is None:
        return {}
    if isinstance(families, str | os.PathLike):
        return read_families(Path(families), classes)
    matcher = ClassMatcher(classes)
    return {matcher.target(name): family for name, family in families.items()}
