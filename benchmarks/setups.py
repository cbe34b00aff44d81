"""Forty set-ups, right and wrong, through the checks: what each says, and where adopting what it offers leads.

The last column must never read "GREEN": that is every check fine at an accuracy near chance.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps

from benchmarks.probes import setups
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.checks.answer_checks import check_skill
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.order_probe import check_class_order
from mivrat.core.checks.recipe_probe import near_chance, probe_recipe
from mivrat.core.checks.result import CheckResult
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.pictures.recipe import Crop, Recipe, Values, parse_recipe
from mivrat.core.pictures.subsets import draw_per_class
from mivrat.core.pictures.value_ranges import VALUE_RANGES
from mivrat.core.running.evaluation import Evaluation

BASES = ("grain-net-1 on spring-check", "grain-net-2 on late-summer-field")
IMAGES = 200
ADOPTIONS = 4


@dataclass
class Setup:
    """What the checks are given."""

    recipe: Recipe
    images: ImageSet
    classes: list[str]


def painted(images: ImageSet, root: Path, paint: Callable[[Image.Image], Image.Image]) -> ImageSet:
    """The same images with every picture changed."""
    root.mkdir(parents=True)
    items = []
    for i, one in enumerate(images.items):
        try:
            with Image.open(images.file(i)) as picture:
                paint(picture.convert("RGB")).save(root / f"{i:04}.png")
        except OSError:
            continue
        items.append(replace(one, path=f"{i:04}.png"))
    return ImageSet(images.name, root, items)


def listed(setup: Setup, classes: list[str]) -> Setup:
    """The same with another class list, labels as they are said."""
    items = [replace(one, label=classes.index(one.said)) for one in setup.images.items]
    return Setup(setup.recipe, ImageSet(setup.images.name, setup.images.root, items), classes)


def wrong_setups(right: Setup, folder: Path) -> dict[str, Setup]:
    """The right set-up, and nine in which something is wrong."""

    def valued(values: Values, start: Setup = right) -> Setup:
        return Setup(start.recipe.model_copy(update={"values": values}), start.images, start.classes)

    def shown(name: str, paint: Callable[[Image.Image], Image.Image]) -> Setup:
        return Setup(right.recipe, painted(right.images, folder / name, paint), right.classes)

    def resized(start: Setup) -> Setup:
        size = right.recipe.output_size()
        assert size is not None
        rule = (
            {"rule": "shorter-side", "size": round(max(size) * 1.15)}
            if right.recipe.crop is None
            else {
                "rule": "stretch",
                "size": size,
            }
        )
        crop = Crop(size=size) if right.recipe.crop is None else None
        new = start.recipe.model_copy(update={"resize": start.recipe.resize.model_copy(update=rule), "crop": crop})
        return Setup(new, start.images, start.classes)

    low, high = right.recipe.value_ranges()[0]
    other = VALUE_RANGES["values from 0 to 1" if low < 0 else "values from −1 to 1"]
    span = high - low
    mode = "RGB" if right.recipe.picture.mode == "BGR" else "BGR"
    swapped = right.recipe.model_copy(update={"picture": right.recipe.picture.model_copy(update={"mode": mode})})
    shuffled = [right.classes[k] for k in np.random.default_rng(1).permutation(len(right.classes))]
    return {
        "right": right,
        "grey pictures": shown("grey", lambda one: one.convert("L").convert("RGB")),
        "red and blue swapped": Setup(swapped, right.images, right.classes),
        "upside-down pictures": shown("upside down", lambda one: one.rotate(180)),
        "inverted pictures": shown("inverted", ImageOps.invert),
        "other value range": valued(other),
        "shifted value range": valued(Values(scale=span / 255, mean=[-low - 2 * span], std=[1.0])),
        "other resizing": resized(right),
        "classes shuffled": listed(right, shuffled),
        "classes shuffled, other range and resizing": listed(resized(valued(other)), shuffled),
    }


def answered(path: Path, setup: Setup) -> EvaluatedRun:
    evaluation = Evaluation(OnnxModel(path, setup.recipe, len(setup.classes)), setup.images)
    list(evaluation.run())
    return evaluation.judging.judged()


def checked(path: Path, setup: Setup) -> tuple[float, bool, dict[str, CheckResult]]:
    """Accuracy, whether it is near chance, and what the three checks say."""
    judged = answered(path, setup)
    model = OnnxModel(path, setup.recipe, len(setup.classes))
    *_, recipe = probe_recipe(Inputs(setup.classes, setup.images, model))
    assert isinstance(recipe, CheckResult)
    given = Inputs(setup.classes, setup.images, model, judged=judged)
    right = judged.right[judged.evaluated]
    poor = near_chance(right, judged.labels[judged.evaluated])
    return (
        float(right.mean()),
        poor,
        {
            "recipe": recipe,
            "order": check_class_order(given),
            "skill": check_skill(given),
        },
    )


def adopted(setup: Setup, said: dict[str, CheckResult]) -> Setup | None:
    """The set-up with the first offer taken: the class order before the recipe, as the checks are listed."""
    if (classes := said["order"].offer.get("classes")) is not None:
        return listed(setup, classes)
    if (recipe := said["recipe"].offer.get("recipe")) is not None:
        return Setup(parse_recipe(recipe), setup.images, setup.classes)
    return None


def main() -> None:
    green = 0
    print(
        "| set-up | accuracy | recipe | order | skill | adopted | then | says then |\n|---|---|---|---|---|---|---|---|"
    )
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for title, path, recipe, images, classes in setups(folder / "striped"):
            if title not in BASES and not title.startswith("striped"):
                continue
            few = draw_per_class(images, IMAGES // len(classes), 0)
            for what, setup in wrong_setups(Setup(recipe, few, classes), folder / title).items():
                accuracy, poor, said = checked(path, setup)
                first, steps, now = said, list[str](), setup
                then, then_poor = accuracy, poor
                while len(steps) < ADOPTIONS and (new := adopted(now, said)) is not None:
                    steps.append("recipe" if new.classes == now.classes else "order")
                    now = new
                    then, then_poor, said = checked(path, now)
                fine = all(one.state == "fine" for one in said.values())
                calm = all(one.state == "fine" for one in first.values())
                wrong = (poor and calm) or (then_poor and fine)
                green += wrong
                states = " | ".join(first[one].state for one in ("recipe", "order", "skill"))
                end = (
                    "GREEN" if wrong else "fine" if fine else ", ".join(k for k, v in said.items() if v.state != "fine")
                )
                print(
                    f"| {title}: {what} | {100 * accuracy:.1f} % | {states} | {', '.join(steps) or 'nothing'} | "
                    f"{100 * then:.1f} % | {end} |",
                    flush=True,
                )
    print(f"every check fine at an accuracy near chance: {green}")


if __name__ == "__main__":
    main()
