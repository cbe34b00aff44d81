"""The ways in which networks are usually given values, by meaning."""

from __future__ import annotations

from mivrat.core.pictures.recipe import Recipe, Values

# Per-channel numbers are in the order red, green, blue.
VALUE_RANGES: dict[str, Values] = {
    "values from 0 to 1": Values(scale=1 / 255, mean=[0.0], std=[1.0]),
    "values from −1 to 1": Values(scale=1 / 255, mean=[0.5], std=[0.5]),
    "values from 0 to 255": Values(scale=1.0, mean=[0.0], std=[1.0]),
    "per-channel mean and deviation of common photos": Values(
        scale=1 / 255, mean=[0.485, 0.456, 0.406], std=[0.229, 0.224, 0.225]
    ),
    "per-channel means subtracted from 0 to 255": Values(scale=1.0, mean=[123.68, 116.779, 103.939], std=[1.0]),
}


def meaning_of(recipe: Recipe) -> str:
    """The usual way in which a recipe gives values, however it is written down; empty where it is none of them."""
    own = recipe.value_ranges()
    for name, values in VALUE_RANGES.items():
        if recipe.channels == 1 and len(values.mean) > 1:
            continue
        usual = recipe.model_copy(update={"values": in_order(values, recipe.picture.mode)}).value_ranges()
        if all(
            abs(a - b) < 1e-6 * max(1, abs(a))
            for one, two in zip(own, usual, strict=True)
            for a, b in zip(one, two, strict=True)
        ):
            return name
    return ""


def in_order(values: Values, mode: str) -> Values:
    """Values given in the order red, green, blue, in the order of ``mode``."""
    turn = slice(None, None, -1 if mode == "BGR" else 1)
    return Values(scale=values.scale, mean=values.mean[turn], std=values.std[turn])
