"""The recipe probe: whether another preprocessing fits the model better, tried on the same few images."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.stats import wilcoxon

from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, State, in_words
from mivrat.core.figures.probability import SMALLEST
from mivrat.core.figures.significance import even_split, holm
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.scores import guess_kind, ranking_scores, to_probabilities
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor
from mivrat.core.pictures.recipe import Crop, Recipe, Resize, Values, recipe_to_toml
from mivrat.core.pictures.value_ranges import VALUE_RANGES, in_order
from mivrat.core.running.job import Meter, Progress, StopSignal

MOST_IMAGES = 200
LEAST_IMAGES = 20
CHANCE = 0.001
# A recipe that is surer only by less than this (nats of log loss) is no better for any use.
LEAST_GAIN = 0.02
_BATCH = 32


@dataclass(frozen=True)
class Alternative:
    """A recipe that differs from the one in use, and in what."""

    name: str
    recipe: Recipe


@dataclass(frozen=True)
class Trial:
    """How an alternative did against the recipe in use on the same images.

    ``accuracy_p`` is the exact McNemar probability on the ``gained`` and ``lost`` images, ``loss_p`` that of Wilcoxon's
    signed-rank test (Wilcoxon 1945) on the images' log losses; both corrected for the number of alternatives (Holm 1979).
    ``loss_gain`` is by how much the log loss falls: the smaller of mean and median over the images. ``same`` tells that
    every answer is exactly that of the recipe in use.
    """

    name: str
    recipe: Recipe
    accuracy: float
    log_loss: float
    gained: int
    lost: int
    accuracy_p: float = 1.0
    loss_p: float = 1.0
    loss_gain: float = 0.0
    same: bool = False

    @property
    def makes_no_difference(self) -> bool:
        """Hardly an answer changes, and the log loss neither way by more than counts."""
        return self.gained + self.lost <= 5 and self.accuracy_p >= 0.05 and abs(self.loss_gain) < LEAST_GAIN

    @property
    def fits_better(self) -> bool:
        """More answers right beyond chance; or the labels' probabilities higher beyond chance and no fewer right."""
        more_right = self.gained > self.lost and self.accuracy_p < CHANCE
        surer = self.gained >= self.lost and self.loss_gain >= LEAST_GAIN and self.loss_p < CHANCE
        return more_right or surer


def _same(a: Values, b: Values) -> bool:
    """Whether two ways come to the same values, to a thousandth of their spread."""
    for channel in range(3):
        ends = []
        for one in (a, b):
            mean, std = one.mean[channel % len(one.mean)], one.std[channel % len(one.std)]
            ends.append(np.array([-mean / std, (255 * one.scale - mean) / std]))
        if np.abs(ends[0] - ends[1]).max() > 1e-3 * max(1e-9, float(np.ptp(ends[0]))):
            return False
    return True


def alternatives(recipe: Recipe) -> list[Alternative]:
    """Plausible other recipes that give tensors of the same shape and type: channel order with value range, geometry,
    antialias."""
    found: list[Alternative] = []
    modes = ("RGB", "BGR") if recipe.channels == 3 else ("L",)
    if recipe.tensor.dtype != "uint8":
        for mode in modes:
            own = recipe.values
            if mode != recipe.picture.mode and recipe.channels == 3:
                own = Values(scale=own.scale, mean=own.mean[::-1], std=own.std[::-1])
                found.append(_with(recipe, f"channels in the order {mode}", mode, own))
            for name, preset in VALUE_RANGES.items():
                if recipe.channels == 1 and len(preset.mean) > 1:
                    continue
                values = in_order(preset, mode)
                if not _same(values, own):
                    order = f", channels in the order {mode}" if mode != recipe.picture.mode else ""
                    found.append(_with(recipe, name + order, mode, values))
    else:
        found += [
            _with(recipe, f"channels in the order {mode}", mode, recipe.values)
            for mode in modes
            if mode != recipe.picture.mode
        ]
    size = recipe.output_size()
    if size is not None:
        found += _geometries(recipe, size)
    if recipe.resize.rule != "none" and recipe.resize.filter != "nearest":
        turned = recipe.resize.model_copy(update={"antialias": not recipe.resize.antialias})
        name = "resized without antialiasing" if recipe.resize.antialias else "resized with antialiasing"
        found.append(Alternative(name, recipe.model_copy(update={"resize": turned})))
    return found


def _with(recipe: Recipe, name: str, mode: str, values: Values) -> Alternative:
    picture = recipe.picture.model_copy(update={"mode": mode})
    return Alternative(name, recipe.model_copy(update={"picture": picture, "values": values}))


def _geometries(recipe: Recipe, size: tuple[int, int]) -> list[Alternative]:
    def resized(rule: str, side: int | tuple[int, int]) -> Resize:
        return Resize.model_validate({**recipe.resize.model_dump(), "rule": rule, "size": side})

    crop, longer = Crop(size=size), max(size)
    ways = {
        "stretched to the network's size": (resized("stretch", size), None),
        "shorter side to the network's size, centre cropped": (resized("shorter-side", longer), crop),
        "shorter side 1/7 longer, centre cropped": (resized("shorter-side", round(longer * 8 / 7)), crop),
        "fitted whole and padded": (resized("fit-pad", size), None),
    }
    return [
        Alternative(name, recipe.model_copy(update={"resize": resize, "crop": cut}))
        for name, (resize, cut) in ways.items()
        if (resize, cut) != (recipe.resize, recipe.crop)
    ]


def pick_images(labels: NDArray[np.int64], usable: NDArray[np.bool_], most: int, seed: int) -> NDArray[np.int64]:
    """Up to so many labelled images, as evenly over the classes as they allow, drawn at random (seeded)."""
    rng = np.random.default_rng(seed)
    candidates = rng.permutation(np.flatnonzero(usable & (labels >= 0)))
    place = np.zeros(len(candidates), np.int64)
    for k in np.unique(labels[candidates]):
        own = np.flatnonzero(labels[candidates] == k)
        place[own] = np.arange(len(own))
    return np.sort(candidates[np.argsort(place, kind="stable")[:most]])


def _tensors(path: Path, recipes: Sequence[Recipe]) -> list[NDArray[Any]] | None:
    """One picture prepared by every recipe; it is decoded once for each way of reading it, resized once for each geometry."""
    decoded: dict[tuple[str, bool], Pixels] = {}
    fitted: dict[str, Pixels] = {}
    made = []
    try:
        for recipe in recipes:
            read = (recipe.picture.mode, recipe.picture.exif_rotate)
            if read not in decoded:
                decoded[read] = read_picture(path, *read)
            geometry = f"{read} {recipe.resize!r} {recipe.crop!r}"
            if geometry not in fitted:
                fitted[geometry] = fitted_pixels(decoded[read], recipe)[0]
            made.append(to_tensor(fitted[geometry], recipe))
    except UnreadablePicture:
        return None
    return made


def try_recipes(
    model: OnnxModel,
    files: Sequence[Path],
    labels: NDArray[np.int64],
    others: Sequence[Alternative],
    stop: StopSignal | None = None,
) -> Iterator[Progress | list[Trial]]:
    """Score labelled files by the recipe in use and by others; yields progress and at last the trials, the one in use first.

    Nothing but progress is yielded where it was stopped.
    """
    recipes = [model.recipe, *(one.recipe for one in others)]
    rows: list[list[NDArray[np.float32]]] = [[] for _ in recipes]
    kept: list[int] = []
    meter = Meter(len(files))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for start in range(0, len(files), _BATCH):
            if stop and stop.stopped:
                return
            made = list(pool.map(lambda path: _tensors(path, recipes), files[start : start + _BATCH]))
            good = [(start + i, tensors) for i, tensors in enumerate(made) if tensors is not None]
            kept += [i for i, _ in good]
            for r in range(len(recipes) if good else 0):
                tensors = [one[r] for _, one in good]
                same = len({t.shape for t in tensors}) == 1
                rows[r] += [model.scores(np.stack(tensors))] if same else [model.scores(t[None]) for t in tensors]
            yield meter.at(min(len(files), start + _BATCH))
    if not kept:
        yield []
        return
    known = labels[np.array(kept, np.int64)]
    right, losses = [], []
    for scored in rows:
        whole = np.concatenate(scored)
        kind = model.recipe.scores.kind if model.recipe.scores.kind != "auto" else guess_kind(whole)
        good_rows = np.isfinite(whole).all(axis=1)
        right.append(good_rows & (np.nan_to_num(ranking_scores(whole, kind)).argmax(axis=1) == known))
        own = np.nan_to_num(to_probabilities(whole, kind)[np.arange(len(known)), known])
        losses.append(-np.log(np.clip(own, SMALLEST, 1.0)))
    names = ["as it is", *(one.name for one in others)]
    trials = [
        Trial(
            name,
            recipe,
            float(right[r].mean()),
            float(losses[r].mean()),
            int((right[r] & ~right[0]).sum()),
            int((right[0] & ~right[r]).sum()),
            even_split(int((right[r] & ~right[0]).sum()), int((right[0] & ~right[r]).sum())),
            _signed_rank(losses[0] - losses[r]),
            float(min(np.median(losses[0] - losses[r]), (losses[0] - losses[r]).mean())),
            bool((losses[0] == losses[r]).all() and (right[0] == right[r]).all()),
        )
        for r, (name, recipe) in enumerate(zip(names, recipes, strict=True))
    ]
    yield [trials[0], *_corrected(trials[1:])]


def _signed_rank(differences: NDArray[np.float64]) -> float:
    moved = differences[differences != 0]
    return float(wilcoxon(moved).pvalue) if len(moved) >= LEAST_IMAGES else 1.0


def _corrected(trials: list[Trial]) -> list[Trial]:
    """The trials with their probabilities corrected for the number of those that make any difference."""
    differ = [t for t in trials if not t.same]
    accuracy, loss = holm([t.accuracy_p for t in differ]), holm([t.loss_p for t in differ])
    corrected = iter([replace(t, accuracy_p=a, loss_p=b) for t, a, b in zip(differ, accuracy, loss, strict=True)])
    return [t if t.same else next(corrected) for t in trials]


def probe_recipe(inputs: Inputs, stop: StopSignal | None = None) -> Iterator[Progress | CheckResult]:
    """Whether another recipe fits the model better than the one in use, on up to 200 labelled images."""
    model, labels = inputs.model, inputs.labels
    if model is None:
        yield CheckResult("recipe", "open", inputs.model_problem or "There is no model file to try recipes on.")
        return
    usable = np.ones(len(labels), bool)
    for one in inputs.survey or ():
        usable[one.index] = not one.facts.problem
    chosen = pick_images(labels, usable, MOST_IMAGES, inputs.seed)
    if len(chosen) < LEAST_IMAGES:
        yield CheckResult("recipe", "open", f"Fewer than {LEAST_IMAGES} images have a label.")
        return
    files = [inputs.image_set.file(int(i)) for i in chosen]
    for news in try_recipes(model, files, labels[chosen], alternatives(model.recipe), stop):
        if isinstance(news, Progress):
            yield news
        elif not news:
            yield CheckResult("recipe", "open", "None of the images picked can be read.")
        else:
            yield _told(news, len(chosen), model)


def _told(trials: list[Trial], total: int, model: OnnxModel) -> CheckResult:
    now, others = trials[0], trials[1:]
    figures = {
        "images": total,
        "trials": [
            {
                "name": t.name,
                "accuracy": t.accuracy,
                "log_loss": t.log_loss,
                "gained": t.gained,
                "lost": t.lost,
                "accuracy_p": t.accuracy_p,
                "log_loss_p": t.loss_p,
                "same_answers": t.same,
            }
            for t in trials
        ],
    }
    better = [t for t in others if t.fits_better]
    alike = [t for t in others if t.makes_no_difference]
    unsaid = (
        f" These pictures cannot tell it from: {'; '.join(t.name for t in alike[:3])}"
        f"{f' and {len(alike) - 3} more' if len(alike) > 3 else ''}."
        if alike
        else ""
    )
    guess = " It is a guess, though." if model.recipe_is_guess else ""
    if not better:
        differ = sum(not t.same for t in others)
        sentence = (
            f"None of {differ} other recipes fits better beyond chance; as it is, accuracy is "
            f"{100 * now.accuracy:.1f} % on {total} labelled images.{unsaid}{guess}"
        )
        return CheckResult("recipe", "look" if guess else "fine", sentence, figures)
    best = max(better, key=lambda t: (t.accuracy, -t.log_loss))
    sentence = (
        f"Another recipe fits better: {best.name}. Accuracy {100 * best.accuracy:.1f} % instead of "
        f"{100 * now.accuracy:.1f} % on the same {total} images ({best.gained} gained, {best.lost} lost, "
        f"p {in_words(best.accuracy_p)}), log loss {best.log_loss:.3f} instead of {now.log_loss:.3f} (p {in_words(best.loss_p)})."
    )
    state: State = "stop" if best.accuracy - now.accuracy >= 0.1 else "look"
    return CheckResult(
        "recipe", state, sentence, figures, (), {"recipe": recipe_to_toml(best.recipe), "name": best.name}
    )
