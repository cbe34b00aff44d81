"""What callers hand over, read into what the core takes: class lists, recipes, models, image sets, the study to keep answers in."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mivrat.core.base.errors import InputError
from mivrat.core.models.class_names import class_names_in
from mivrat.core.models.kinds import kind_of, load_model
from mivrat.core.models.model import Model
from mivrat.core.models.onnx_model import ONNX
from mivrat.core.models.service.places import kept_beside
from mivrat.core.pictures.classes import read_class_list, refuse_bad_names
from mivrat.core.pictures.image_sets import (
    ImageSet,
    labels_do_not_match,
    listing_of_table,
    match_labels,
    read_image_set,
    with_paths,
)
from mivrat.core.pictures.recipe import Recipe, read_recipe, recipe_from
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.places import allow_folders

if TYPE_CHECKING:
    import polars as pl

    from mivrat.cluster.dask_cluster import DaskCluster

Place = str | os.PathLike[str]
# A file of class names, or the names themselves, in the order of the model's scores.
Classes = Place | Sequence[str]
# A recipe file, its entries, or a recipe as it was read.
RecipeLike = Place | Mapping[str, Any] | Recipe | None


def class_names(classes: Classes | None, model: Place | None = None) -> list[str]:
    """The class names of a file, or as they are given; without any, those that the model's own metadata holds. InputError where they are
    no class list."""
    if classes is None:
        path = Path(model) if model is not None else None
        if path is None or kind_of(path) is not ONNX:
            raise InputError(
                "nothing tells the class names", where="classes", hint="give them, in the order of the model's scores"
            )
        return class_names_in(path)
    if isinstance(classes, str | os.PathLike):
        return read_class_list(Path(classes))
    names = list(classes)
    if not all(isinstance(one, str) for one in names):
        raise InputError("a class name is no text", where="classes", hint='give names, such as ["birch", "alder"]')
    refuse_bad_names(names, "classes")
    return names


def recipe_of(recipe: RecipeLike) -> Recipe | None:
    """The recipe in a file, from entries as ``docs/recipes.md`` has them, or as it is."""
    if recipe is None or isinstance(recipe, Recipe):
        return recipe
    if isinstance(recipe, Mapping):
        return recipe_from(dict(recipe))
    return read_recipe(Path(recipe))


def model_of(
    model: Place, classes: Sequence[str], recipe: RecipeLike = None, threads: int = 0, study: Path | None = None
) -> Model:
    """The model in a file, a table of predictions, or a service description."""
    path = Path(model)
    if not path.is_file():
        raise InputError(
            "the model or table does not exist", where=path, hint="name an ONNX file or a table of predictions"
        )
    return load_model(kept_beside(path, study), classes, recipe_of(recipe), threads)


def image_set_of(images: Place | pl.DataFrame, classes: Sequence[str], together: str | None = None) -> ImageSet:
    """The images of a folder, a table file, or a frame with a ``path`` column (and ``label``, where they have one), with what belongs
    ``together``. InputError where labels are not classes, or there is no such column."""
    if isinstance(images, str | os.PathLike):
        found = read_image_set(Path(images), classes)
    else:
        matched = match_labels(listing_of_table(with_paths(images, "images"), Path.cwd(), "images"), classes)
        if matched.unknown:
            raise labels_do_not_match(matched, "images")
        found = matched.image_set
    return with_units(found, together)


def with_units(image_set: ImageSet, together: str | None) -> ImageSet:
    """The set with the column that says which images are related. InputError where it has no such column."""
    if together and not all(together in item.columns for item in image_set.items):
        raise no_column(image_set.root, together, "that says which images are related", image_set)
    return replace(image_set, unit_column=together or "")


def no_column(where: Path, column: str, what: str, image_set: ImageSet) -> InputError:
    """The error for a column that a set does not have; ``what`` says what it was asked for."""
    known = ", ".join(image_set.items[0].columns) or "none"
    return InputError(
        f"has no column {column!r} {what}; its columns: {known}", where=where, hint="name a column of the image table"
    )


def study_at(path: Path, classes: list[str], held: ExitStack, named: Iterable[Path] = (), source: object = "") -> Study:
    """The study in a file, made where there is none, held by a lock until ``held`` lets go; it may read the folders ``named`` from now
    on. InputError where it was made for other classes than those of ``source``."""
    places = [one if one.is_dir() else one.parent for one in named]
    if places:
        allow_folders(*places)
    held.enter_context(StudyLock(path))
    study = Study.open(path) if path.exists() else Study.create(path, classes)
    held.callback(study.close)
    if study.classes != classes:
        raise InputError(
            f"was made for {len(study.classes)} other classes or another order than {source or 'the classes given'}",
            where=path,
            hint="use a new study for another class list",
        )
    return study


def where_worked(where: str | None, models: Sequence[Model], held: ExitStack) -> DaskCluster | None:
    """The cluster at an address (``tcp://…``, ``local:4``), left when ``held`` lets go; None stands for this process. InputError where
    one of the models is asked over the network, or nothing answers there."""
    if where is None:
        return None
    for one in models:
        if one.kind.can.asked:
            raise InputError(
                "is for models in files: a prediction service is asked from here",
                where=f"cluster {where}",
                hint="leave it out",
            )
    from mivrat.cluster.dask_cluster import connected

    found = held.enter_context(connected(where))
    found.wait_for_workers()
    return found
