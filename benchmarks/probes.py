"""Set-ups made wrong on purpose: how many the two probes find, and how many false alarms they give on right ones."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.order_probe import check_class_order
from mivrat.core.checks.recipe_probe import probe_recipe
from mivrat.core.checks.result import CheckResult
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import Crop, Picture, Recipe, Resize, parse_recipe
from mivrat.core.pictures.subsets import draw_per_class
from mivrat.core.pictures.value_ranges import VALUE_RANGES, in_order
from mivrat.core.running.evaluation import Evaluation
from mivrat.demo.study import DATA, MODELS, demo_inputs
from tests.support.fitted import STRIPED, fitted, write_striped

REPEATS = 10


def wrong_recipes(right: Recipe) -> dict[str, Recipe]:
    """The right recipe with one thing made wrong."""
    other_mode = "RGB" if right.picture.mode == "BGR" else "BGR"
    values = right.values.model_copy(update={"mean": right.values.mean[::-1], "std": right.values.std[::-1]})
    size = right.output_size()
    assert size is not None
    stretched = right.crop is None
    other_range = "values from −1 to 1" if right.value_ranges()[0] == (0.0, 1.0) else "values from 0 to 1"
    cropped = right.resize.model_copy(update={"rule": "shorter-side", "size": max(size)})
    return {
        "BGR for RGB, or the reverse": right.model_copy(
            update={"picture": right.picture.model_copy(update={"mode": other_mode}), "values": values}
        ),
        "other value range": right.model_copy(update={"values": VALUE_RANGES[other_range]}),
        "stretched for cropped, or the reverse": right.model_copy(
            update={"resize": cropped, "crop": Crop(size=size)}
            if stretched
            else {"resize": right.resize.model_copy(update={"rule": "stretch", "size": size}), "crop": None}
        ),
    }


def setups(folder: Path) -> Iterator[tuple[str, Path, Recipe, ImageSet, list[str]]]:
    demo = demo_inputs()
    for name in MODELS:
        for image_set in demo.sets.values():
            yield f"{name} on {image_set.name}", DATA / f"{name}.onnx", demo.recipe, image_set, demo.classes
    held_out = read_image_set(write_striped(folder / "held out", 100, 5), list(STRIPED))
    photo = in_order(VALUE_RANGES["per-channel mean and deviation of common photos"], "BGR")
    recipes = {
        "cropped, −1 to 1": Recipe(
            resize=Resize(rule="shorter-side", size=56),
            crop=Crop(size=(48, 48)),
            values=VALUE_RANGES["values from −1 to 1"],
        ),
        "stretched, BGR, mean and deviation": Recipe(
            picture=Picture(mode="BGR"), resize=Resize(rule="stretch", size=(48, 48), filter="bicubic"), values=photo
        ),
    }
    for i, (name, recipe) in enumerate(recipes.items()):
        model = fitted(folder / f"{i}.onnx", recipe, folder / f"fit {i}")
        yield f"striped, {name}", model.path, recipe, held_out, list(STRIPED)


def recipe_result(path: Path, recipe: Recipe, image_set: ImageSet, classes: list[str], seed: int) -> CheckResult:
    *_, result = probe_recipe(Inputs(classes, image_set, OnnxModel(path, recipe, len(classes)), seed=seed))
    assert isinstance(result, CheckResult)
    return result


def order_results(path: Path, recipe: Recipe, image_set: ImageSet, classes: list[str]) -> dict[str, list[bool]]:
    """Whether the right order was named, for wrong orders; whether there was an alarm, for the right one; on few images."""
    found: dict[str, list[bool]] = {"order shuffled": [], "order alphabetical": [], "right order": []}
    for seed in range(REPEATS):
        rng = np.random.default_rng(seed)
        few = draw_per_class(image_set, 12, seed)
        evaluation = Evaluation(OnnxModel(path, recipe, len(classes)), few)
        list(evaluation.run())
        judged = evaluation.judging.judged()
        orders = {
            "order shuffled": rng.permutation(len(classes)),
            "order alphabetical": np.array(sorted(range(len(classes)), key=lambda k: classes[k])),
            "right order": np.arange(len(classes)),
        }
        for what, means in orders.items():
            # Read with a list in which place k holds the name that output means[k] really has.
            names = [classes[k] for k in means]
            labels = np.argsort(means)[judged.labels]
            shown = type(judged)(**{**vars(judged), "labels": labels})
            items = [type(one)(one.path, int(k), {}, one.said) for one, k in zip(few.items, labels, strict=True)]
            listed = ImageSet(few.name, few.root, items)
            result = check_class_order(Inputs(names, listed, judged=shown, seed=seed))
            right = result.offer.get("classes") == classes
            found[what].append(result.state != "fine" if what == "right order" else right)
    return found


def main() -> None:
    totals: dict[str, list[bool]] = {}
    with tempfile.TemporaryDirectory() as name:
        for title, path, right, image_set, classes in setups(Path(name)):
            told = []
            for what, wrong in wrong_recipes(right).items():
                result = recipe_result(path, wrong, image_set, classes, 0)
                offered = parse_recipe(result.offer["recipe"]) if result.offer else None
                trials = result.figures["trials"]
                loss = max(t["accuracy"] for t in trials) - trials[0]["accuracy"]
                totals.setdefault(what, []).append(offered is not None)
                told.append(f"{what}: {'found' if offered else 'not found'} (costs {100 * loss:.1f} points)")
            alarms = [recipe_result(path, right, image_set, classes, s).state != "fine" for s in range(REPEATS)]
            totals.setdefault("false alarms, recipe right", []).extend(alarms)
            for what, hits in order_results(path, right, image_set, classes).items():
                totals.setdefault("false alarms, order right" if what == "right order" else what, []).extend(hits)
                told.append(f"{what}: {sum(hits)} of {len(hits)}")
            print(
                f"{title}: {'; '.join(told)}; false alarms of the recipe probe {sum(alarms)} of {len(alarms)}",
                flush=True,
            )
    for what, hits in totals.items():
        print(f"{what}: {sum(hits)} of {len(hits)}")


if __name__ == "__main__":
    main()
