"""A recipe's identity is frozen: what later versions add to recipes changes no hash of those written before."""

from __future__ import annotations

import hashlib

import pytest
from pydantic import create_model

from mivrat.core.pictures import recipe as recipes
from mivrat.core.pictures.recipe import (
    Crop,
    Recipe,
    Resize,
    Scores,
    Tensor,
    Values,
    canonical,
    parse_recipe,
    recipe_to_toml,
)

FULL = Recipe(
    resize=Resize(rule="shorter-side", size=256, filter="bicubic", antialias=False),
    crop=Crop(size=(224, 200)),
    values=Values(mean=[0.485, 0.456, 0.406], std=[0.229, 0.224, 0.225]),
    tensor=Tensor(order="NHWC", input="x"),
    scores=Scores(kind="logits"),
)
# As they were when identity was first kept in studies; they may never change.
HASHES = {
    "usual": (Recipe(), "284f729d32d55a35916cedf3b8a071fdef3d210d79ada000ab42d0ec6f8177fe"),
    "full": (FULL, "564c8fa721d657d43fb3f80b9ae90963195bbc7f940c16c4b61f3a83a0213753"),
}


@pytest.mark.parametrize("which", HASHES)
def test_the_identity_of_a_recipe_never_changes(which: str) -> None:
    recipe, wanted = HASHES[which]
    assert hashlib.sha256(canonical(recipe).encode()).hexdigest() == wanted
    assert parse_recipe(canonical(recipe)) == recipe
    assert canonical(parse_recipe(recipe_to_toml(recipe))) == canonical(recipe)


@pytest.mark.parametrize("recipe", [Recipe(), FULL], ids=["usual", "full"])
def test_a_later_entry_left_at_its_default_leaves_every_identity_as_it_was(recipe: Recipe) -> None:
    part = create_model("Values", __base__=Values, gamma=(float, 1.0))
    table = create_model("Denoise", __base__=recipes._Part, sigma=(float, 0.0))
    later = create_model("Recipe", __base__=Recipe, values=(part, part()), denoise=(table, table()))
    same = later.model_validate(recipe.model_dump())
    assert canonical(same) == canonical(recipe)
    values = recipe.model_dump()["values"]
    others = [
        canonical(later.model_validate(recipe.model_dump() | change))
        for change in ({"values": values | {"gamma": 2.2}}, {"denoise": {"sigma": 1.0}})
    ]
    assert len({canonical(recipe), *others}) == 3
