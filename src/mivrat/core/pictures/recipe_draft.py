"""A recipe being edited: one entry at a time, each step checked, with undo and redo."""

from __future__ import annotations

from typing import Any

from mivrat.core.pictures.recipe import Recipe, Values, recipe_from
from mivrat.core.pictures.value_ranges import in_order


class RecipeDraft:
    """Holds a recipe that is valid at every moment; an edit that would make it invalid raises InputError and changes nothing."""

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self._before: list[Recipe] = []
        self._after: list[Recipe] = []

    def put(self, recipe: Recipe) -> None:
        """Put another recipe in place of this one."""
        if recipe != self.recipe:
            self._before.append(self.recipe)
            self._after.clear()
            self.recipe = recipe

    def edit(self, part: str, **entries: Any) -> None:
        """Change entries of one table of the recipe (``resize``, ``values`` …); ``crop`` with size None takes the crop away."""
        data = self.recipe.model_dump()
        if part == "crop" and entries.get("size") is None:
            data["crop"] = None
        else:
            data[part] = {**(data[part] or {}), **entries}
        self.put(recipe_from(data))

    def set_mode(self, mode: str) -> None:
        """Change the colour mode; per-channel numbers go with their channels, and to grey they become their mean."""
        old = self.recipe
        data = old.model_dump()
        data["picture"]["mode"] = mode
        for part, entry in (("values", "mean"), ("values", "std"), ("resize", "pad_value")):
            numbers = data[part][entry]
            if mode == "L":
                data[part][entry] = [sum(numbers) / len(numbers)]
            elif old.picture.mode != "L" and mode != old.picture.mode:
                data[part][entry] = numbers[::-1]
        self.put(recipe_from(data))

    def set_values(self, values: Values) -> None:
        """Take a usual way of giving values (its channels in the order red, green, blue)."""
        if self.recipe.channels == 1:
            mean, std = ([sum(v) / len(v)] for v in (values.mean, values.std))
            values = Values(scale=values.scale, mean=mean, std=std)
        self.put(self.recipe.model_copy(update={"values": in_order(values, self.recipe.picture.mode)}))

    @property
    def can_undo(self) -> bool:
        return bool(self._before)

    @property
    def can_redo(self) -> bool:
        return bool(self._after)

    def undo(self) -> None:
        if self._before:
            self._after.append(self.recipe)
            self.recipe = self._before.pop()

    def redo(self) -> None:
        if self._after:
            self._before.append(self.recipe)
            self.recipe = self._after.pop()
