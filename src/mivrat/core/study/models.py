"""The models of a study, each with its recipe."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.models.kinds import KINDS, load_model
from mivrat.core.models.model import Model
from mivrat.core.pictures.recipe import Recipe, canonical, parse_recipe
from mivrat.core.study.file import Study
from mivrat.core.study.records import ModelInfo, Removed
from mivrat.core.study.removing import take_away
from mivrat.core.study.soundness import (
    reading,
)


def add_model(study: Study, model: Model) -> int:
    """Keep a model with its recipe; the same file with the same recipe is kept once."""
    digest, recipe = model.content, canonical(model.recipe)
    with study.writing() as db:
        db.execute(
            "INSERT INTO model (kind, name, path, sha256, recipe, recipe_is_guess) VALUES (?, ?, ?, ?, ?, ?) "
            "ON CONFLICT (sha256, recipe) DO UPDATE SET path = excluded.path, name = excluded.name, listed = 1, "
            "recipe_is_guess = MIN(recipe_is_guess, excluded.recipe_is_guess)",
            (
                model.kind.name,
                escaped(model.name),
                study.stored(model.path),
                digest,
                recipe,
                int(model.recipe_is_guess),
            ),
        )
    return int(study.db.execute("SELECT id FROM model WHERE sha256 = ? AND recipe = ?", (digest, recipe)).fetchone()[0])


def id_of_model(study: Study, sha256: str, recipe: Recipe) -> int | None:
    """The model with this content and recipe, taken away or not; None where the study never had it."""
    found = study.rows("SELECT id FROM model WHERE sha256 = ? AND recipe = ?", sha256, canonical(recipe))
    return int(found[0][0]) if found else None


def save_guess(study: Study, model_id: int, is_guess: bool) -> None:
    """Say whether a model's recipe is a guess, or the one it was trained with."""
    with study.writing() as db:
        db.execute("UPDATE model SET recipe_is_guess = ? WHERE id = ?", (int(is_guess), model_id))


def remove_model(study: Study, model_id: int) -> Removed:
    """Take a model away with its runs; what it has answered stays, and is found again when it is added again."""
    removed = take_away(
        study,
        ("check_result", "run_id IN (SELECT id FROM run WHERE model_id = ?)", model_id),
        ("cover_test", "run_id IN (SELECT id FROM run WHERE model_id = ?)", model_id),
        ("kept_columns", "what = 'run' AND id IN (SELECT id FROM run WHERE model_id = ?)", model_id),
        ("run", "model_id = ?", model_id),
    )
    with study.writing() as db:
        db.execute("UPDATE model SET listed = 0 WHERE id = ?", (model_id,))
    return replace(removed, model_id=model_id)


@reading
def list_models(study: Study) -> list[ModelInfo]:
    """All models that were not taken away, oldest first."""
    found = study.db.execute("SELECT id, kind, name, path, recipe, recipe_is_guess FROM model WHERE listed ORDER BY id")
    return [
        ModelInfo(
            key, KINDS[kind], unescaped(name), study.resolved(path), parse_recipe(recipe, study.path), bool(guess)
        )
        for key, kind, name, path, recipe, guess in found
    ]


def relocate_model(study: Study, model_id: int, path: Path) -> None:
    """A model that was moved; InputError where the file there is another one."""
    query = "SELECT sha256, kind, recipe FROM model WHERE id = ?"
    wanted, kind, recipe = study.db.execute(query, (model_id,)).fetchone()
    if KINDS[kind].can.asked:  # a description is not what it describes: the service tells who it is
        content = load_model(path, study.classes, parse_recipe(recipe, study.path)).content
    else:
        content = sha256_of(path)
    if content != wanted:
        raise InputError(
            "is not the model the study knows: its content differs", where=path, hint="add it as a model of its own"
        )
    move_model(study, model_id, path)


def rename_model(study: Study, model_id: int, name: str) -> None:
    """Call a model something else; what it is stays what its content says."""
    with study.writing() as db:
        db.execute("UPDATE model SET name = ? WHERE id = ?", (escaped(name), model_id))


def move_model(study: Study, model_id: int, path: Path) -> None:
    """Look for a model at another place from now on, whether it is there or not."""
    with study.writing() as db:
        db.execute("UPDATE model SET path = ? WHERE id = ?", (study.stored(path), model_id))


def model_with_content(study: Study, content: str) -> ModelInfo | None:
    """The model that has this content, where the study has one that can score; the oldest of them."""
    found = {key for (key,) in study.rows("SELECT id FROM model WHERE sha256 = ?", content)}
    return next((one for one in list_models(study) if one.id in found and one.kind.can.scores), None)
