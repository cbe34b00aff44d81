"""The recipe probe: whether another preprocessing fits the model better, tried on the same few images.

A wrong class order makes every recipe look wrong, so both are searched together: what a recipe is worth is counted under the
order in force and under the best renaming, and an offer has to beat the best order of the recipe in force.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.base.numbers import percent
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.order_probe import best_order, renamed_right
from mivrat.core.checks.picture_shift import properties_of_files, shifts
from mivrat.core.checks.result import CheckResult, CheckState, in_words
from mivrat.core.figures.probability import SMALLEST
from mivrat.core.figures.significance import beyond_commonest, even_split, gained_and_lost, holm
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.scores import guess_kind, ranking_scores, to_probabilities
from mivrat.core.pictures.decode import Mode, Pixels, UnreadablePicture, Window, read_picture
from mivrat.core.pictures.prepare import fitted_pixels, to_tensor
from mivrat.core.pictures.recipe import Crop, Recipe, Resize, Values, canonical, recipe_to_toml
from mivrat.core.pictures.value_ranges import VALUE_RANGES, in_order

MOST_IMAGES = 200
LEAST_IMAGES = 20
CHANCE = 0.001
# A recipe that is surer only by less than this (nats of log loss) is no better for any use; where most images are answered
# surely by both, their mean says so only together with more right answers, of which so many by chance are less likely than this.
LEAST_GAIN = 0.02
BARELY = 0.05
_BATCH = 32
# So many pictures tell what they are like; so many times a change is tried on top of the best one; so many are named.
LOOKED_AT, ROUNDS, MOST_NAMED = 40, 3, 5
# Channels that lie further apart than this, of 255, are a colour; less is what compression leaves of grey.
COLOUR = 24


@dataclass(frozen=True)
class Alternative:
    """A recipe that differs from the one in use, and in what. ``grey``: the pictures turned grey and given to all channels, which
    no recipe says: it can be told of, but not adopted."""

    name: str
    recipe: Recipe
    grey: bool = False


@dataclass(frozen=True)
class RecipeTrial:
    """How an alternative did against the recipe in use on the same images.

    ``accuracy_p`` is the exact McNemar probability on the ``gained`` and ``lost`` images, ``loss_p`` that of Wilcoxon's
    signed-rank test (Wilcoxon 1945) on the images' log losses; both corrected for the number of alternatives (Holm 1979).
    ``mean_gain`` is by how much the log loss falls, ``loss_gain`` the smaller of that and the median over the images. ``same`` tells that
    every answer is exactly that of the recipe in use, ``changes`` how many changes were made one upon another. ``means``
    is there where another class order fits better beyond chance: which class each output then stands for; ``accuracy`` and
    ``right`` (by image) are under it, found on other images than it is counted on; ``as_named`` tells which are right under
    the order in force.
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
    mean_gain: float = 0.0
    same: bool = False
    right: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    means: tuple[int, ...] = ()
    as_named: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, bool))
    changes: int = 1
    grey: bool = False

    @property
    def plain(self) -> float:
        """The accuracy under the class order in force."""
        return float(self.as_named.mean()) if len(self.as_named) else 0.0

    @property
    def makes_no_difference(self) -> bool:
        """Hardly an answer changes, and the log loss neither way by more than counts."""
        return self.gained + self.lost <= 5 and self.accuracy_p >= 0.05 and abs(self.loss_gain) < LEAST_GAIN

    @property
    def fits_better(self) -> bool:
        """More answers right beyond chance; or the labels' probabilities higher beyond chance and no fewer right."""
        more_right = self.gained > self.lost and self.accuracy_p < CHANCE
        on_the_whole = self.mean_gain >= LEAST_GAIN and even_split(self.gained, self.lost) < BARELY
        enough = self.loss_gain >= LEAST_GAIN or on_the_whole
        surer = not self.means and self.gained >= self.lost and enough and self.loss_p < CHANCE
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


# Further ways to give values that are not offered as usual ones, but are met.
_MORE_VALUES: dict[str, Values] = {
    "one mean and deviation of common photos": Values(scale=1 / 255, mean=[0.449], std=[0.226]),
    "one mean subtracted from 0 to 255": Values(scale=1.0, mean=[117.0], std=[1.0]),
    "inverted, from 1 to 0": Values(scale=-1 / 255, mean=[-1.0], std=[1.0]),
    "inverted, from 1 to −1": Values(scale=-1 / 255, mean=[-0.5], std=[0.5]),
    "inverted, from 255 to 0": Values(scale=-1.0, mean=[-255.0], std=[1.0]),
}


@dataclass(frozen=True)
class PictureFacts:
    """What the pictures tried are like: their size where all have the same (height, width), mean and deviation of each channel
    (red, green, blue; values from 0 to 1), and whether any has a colour."""

    size: tuple[int, int] | None = None
    mean: tuple[float, ...] = ()
    deviation: tuple[float, ...] = ()
    coloured: bool = True


def alternatives(recipe: Recipe, seen: PictureFacts | None = None, free: bool = False) -> list[Alternative]:
    """Plausible other recipes that give tensors of the same shape and type: channel order with value range, geometry,
    antialias. ``seen`` adds those that follow from the pictures; ``free`` tells that the model takes pictures of any size."""
    found: list[Alternative] = []
    modes = ("RGB", "BGR") if recipe.channels == 3 else ("L",)
    if recipe.tensor.dtype != "uint8":
        presets = {**VALUE_RANGES, **_MORE_VALUES, **_of_these_pictures(seen, recipe.channels)}
        for mode in modes:
            own = recipe.values
            if mode != recipe.picture.mode and recipe.channels == 3:
                own = Values(scale=own.scale, mean=own.mean[::-1], std=own.std[::-1])
                found.append(_with(recipe, f"channels in the order {mode}", mode, own))
            for name, preset in presets.items():
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
    if recipe.channels == 3 and (seen is None or seen.coloured):
        found.append(Alternative("turned grey", recipe, grey=True))
    if size is not None:
        found += _geometries(recipe, size)
    if seen is not None and seen.size is not None and (free or seen.size == size) and recipe.resize.rule != "none":
        plain = Resize.model_validate({**recipe.resize.model_dump(), "rule": "none", "size": None})
        found.append(Alternative("not resized", recipe.model_copy(update={"resize": plain, "crop": None})))
    if recipe.resize.rule != "none" and recipe.resize.filter != "nearest":
        turned = recipe.resize.model_copy(update={"antialias": not recipe.resize.antialias})
        name = "resized without antialiasing" if recipe.resize.antialias else "resized with antialiasing"
        found.append(Alternative(name, recipe.model_copy(update={"resize": turned})))
    return found


def _of_these_pictures(seen: PictureFacts | None, channels: int) -> dict[str, Values]:
    """Values made to have mean 0 and deviation 1 over these pictures, by channel and in all."""
    if seen is None or not seen.mean or min(seen.deviation) < 1e-3:
        return {}
    one = Values(scale=1 / 255, mean=[float(np.mean(seen.mean))], std=[float(np.mean(seen.deviation))])
    found = {"standardised by one mean and deviation of these pictures": one}
    if channels == 3:
        found["standardised by channel, as these pictures are"] = Values(
            scale=1 / 255, mean=list(seen.mean), std=list(seen.deviation)
        )
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


def look_at(files: Sequence[Path], recipe: Recipe) -> PictureFacts:
    """What some pictures are like; those that cannot be read are left out."""
    sizes, means, squares, coloured = set(), [], [], False
    for file in files:
        try:
            pixels = read_picture(file, "RGB", recipe.picture.exif_rotate, recipe.picture.window)
        except UnreadablePicture:
            continue
        sizes.add((pixels.shape[0], pixels.shape[1]))
        coloured |= bool((pixels.max(axis=2) - pixels.min(axis=2) > COLOUR).any())
        values = pixels.reshape(-1, 3)[:: max(1, pixels.size // 60_000)] / 255.0
        means.append(values.mean(axis=0))
        squares.append((values**2).mean(axis=0))
    if not means:
        return PictureFacts()
    mean = np.mean(means, axis=0)
    deviation = np.sqrt(np.maximum(np.mean(squares, axis=0) - mean**2, 0))
    return PictureFacts(
        sizes.pop() if len(sizes) == 1 else None, tuple(mean.tolist()), tuple(deviation.tolist()), coloured
    )


def pick_images(labels: NDArray[np.int64], usable: NDArray[np.bool_], most: int, seed: int) -> NDArray[np.int64]:
    """Up to so many labelled images, as evenly over the classes as they allow, drawn at random (seeded)."""
    rng = np.random.default_rng(seed)
    candidates = rng.permutation(np.flatnonzero(usable & (labels >= 0)))
    place = np.zeros(len(candidates), np.int64)
    for k in np.unique(labels[candidates]):
        own = np.flatnonzero(labels[candidates] == k)
        place[own] = np.arange(len(own))
    return np.sort(candidates[np.argsort(place, kind="stable")[:most]])


def _tensors(path: Path, wanted: Sequence[Alternative]) -> list[NDArray[Any]] | None:
    """One picture prepared by every recipe; it is decoded once for each way of reading it, resized once for each geometry."""
    decoded: dict[tuple[Mode, bool, Window], Pixels] = {}
    fitted: dict[str, Pixels] = {}
    made = []
    try:
        for one in wanted:
            recipe = one.recipe
            mode: Mode = "L" if one.grey else recipe.picture.mode
            read = (mode, recipe.picture.exif_rotate, recipe.picture.window)
            if read not in decoded:
                pixels = read_picture(path, *read)
                decoded[read] = np.repeat(pixels, 3, axis=2) if one.grey else pixels
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
) -> Iterator[Progress | list[RecipeTrial]]:
    """Score labelled files by the recipe in use and by others; yields progress and at last the trials, the one in use first.

    Their probabilities are not corrected: that is done once, over all that is tried. Nothing but progress is yielded where it was
    stopped.
    """
    wanted = [Alternative("as it is", model.recipe), *others]
    rows: list[list[NDArray[np.float32]]] = [[] for _ in wanted]
    kept: list[int] = []
    meter = Meter(len(files))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for start in range(0, len(files), _BATCH):
            if current_stop().stopped:
                return
            made = list(pool.map(lambda path: _tensors(path, wanted), files[start : start + _BATCH]))
            good = [(start + i, tensors) for i, tensors in enumerate(made) if tensors is not None]
            kept += [i for i, _ in good]
            for r in range(len(wanted) if good else 0):
                tensors = [one[r] for _, one in good]
                same = len({t.shape for t in tensors}) == 1
                rows[r] += [model.scores(np.stack(tensors))] if same else [model.scores(t[None]) for t in tensors]
            yield meter.at(min(len(files), start + _BATCH))
    if not kept:
        yield []
        return
    known = labels[np.array(kept, np.int64)]
    # Log losses under the order that suits each recipe best are compared; told are those under the order in force.
    right: list[NDArray[np.bool_]] = []
    as_named: list[NDArray[np.bool_]] = []
    losses: list[NDArray[np.float64]] = []
    as_told: list[NDArray[np.float64]] = []
    renamed: list[tuple[int, ...]] = []
    for scored in rows:
        whole = np.concatenate(scored)
        kind = model.recipe.scores.kind if model.recipe.scores.kind != "auto" else guess_kind(whole)
        good_rows = np.isfinite(whole).all(axis=1)
        called = np.nan_to_num(ranking_scores(whole, kind)).argmax(axis=1)
        plain = good_rows & (called == known)
        other = renamed_right(known, called, model.class_count)
        # Another order counts where it is better beyond chance, and then for every figure of this recipe.
        gained, lost = gained_and_lost(other, plain)
        by_name = gained > lost and even_split(gained, lost) < CHANCE
        as_named.append(plain)
        right.append(other & good_rows if by_name else plain)
        renamed.append(tuple(best_order(known, called, model.class_count).tolist()) if by_name else ())
        p = to_probabilities(whole, kind)
        means = np.array(renamed[-1] or range(p.shape[1]), np.int64)
        for where, column in ((losses, np.argsort(means)[known]), (as_told, known)):
            own = np.nan_to_num(p[np.arange(len(known)), column])
            where.append(-np.log(np.clip(own, SMALLEST, 1.0)))
    trials = []
    for r, one in enumerate(wanted):
        (gained, lost), gains = gained_and_lost(right[r], right[0]), losses[0] - losses[r]
        trials.append(
            RecipeTrial(
                one.name,
                one.recipe,
                accuracy=float(right[r].mean()),
                log_loss=float(as_told[r].mean()),
                gained=gained,
                lost=lost,
                accuracy_p=even_split(gained, lost),
                loss_p=_signed_rank(gains),
                loss_gain=float(min(np.median(gains), gains.mean())),
                mean_gain=float(gains.mean()),
                same=bool((gains == 0).all() and (right[0] == right[r]).all()),
                right=right[r],
                means=renamed[r],
                as_named=as_named[r],
                grey=one.grey,
            )
        )
    yield trials


def _signed_rank(differences: NDArray[np.float64]) -> float:
    moved = differences[differences != 0]
    from scipy.stats import wilcoxon

    return float(wilcoxon(moved).pvalue) if len(moved) >= LEAST_IMAGES else 1.0


def _corrected(trials: list[RecipeTrial]) -> list[RecipeTrial]:
    """The trials with their probabilities corrected for the number of those that make any difference."""
    differ = [t for t in trials if not (t.same or t.grey)]  # grey is never offered, and tested by itself
    accuracy, loss = holm([t.accuracy_p for t in differ]), holm([t.loss_p for t in differ])
    corrected = iter([replace(t, accuracy_p=a, loss_p=b) for t, a, b in zip(differ, accuracy, loss, strict=True)])
    return [t if t.same or t.grey else next(corrected) for t in trials]


def probe_recipe(inputs: Inputs) -> Iterator[Progress | CheckResult]:
    """Whether another recipe fits the model better than the one in use, on up to 200 labelled images."""
    model, labels = inputs.model, inputs.labels
    if model is None:
        yield CheckResult(
            "recipe", "open", inputs.model_problem or "Not checked: no model file is available to try recipes on."
        )
        return
    usable = np.ones(len(labels), bool)
    for one in inputs.survey or ():
        usable[one.index] = not one.facts.problem
    chosen = pick_images(labels, usable, MOST_IMAGES, inputs.seed)
    if len(chosen) < LEAST_IMAGES:
        yield CheckResult("recipe", "open", f"Fewer than {LEAST_IMAGES} images have a label.")
        return
    files, known = [inputs.image_set.file(int(i)) for i in chosen], labels[chosen]
    # What the network was trained with is known best on pictures it was trained on: there these are tried first.
    there = _trained_on(inputs)
    sets = [(files, known)] if there is None else [there, (files, known)]
    found: list[list[RecipeTrial]] = []
    for some, of in sets:
        trials: list[RecipeTrial] | None = None
        for event in _search(model, some, of):
            if isinstance(event, Progress):
                yield event
            else:
                trials = event
        if trials is None:
            return
        found.append(trials)
    if not found[-1]:
        yield CheckResult("recipe", "open", "None of the images picked can be read.")
        return
    if there is None or not found[0]:
        yield _told(found[-1], known, inputs.classes, model.recipe_is_guess)
        return
    elsewhere, here = found
    if not _better(elsewhere) and not near_chance(elsewhere[0].right, there[1]):
        yield _told_trained(elsewhere, here, there[0], files)
    else:
        yield _told(
            elsewhere, there[1], inputs.classes, model.recipe_is_guess, f" (on {len(there[1])} training images)"
        )


def _trained_on(inputs: Inputs) -> tuple[list[Path], NDArray[np.int64]] | None:
    """Labelled training images, else reference images, to try recipes on; None where there are too few."""
    for one in (inputs.training, inputs.references):
        if one is not None:
            labels = np.array([-1 if label is None else label for label in one.labels], np.int64)
            chosen = pick_images(labels, np.ones(len(labels), bool), MOST_IMAGES, inputs.seed)
            if len(chosen) >= LEAST_IMAGES:
                return [one.file(int(i)) for i in chosen], labels[chosen]
    return None


def _search(
    model: OnnxModel, files: Sequence[Path], known: NDArray[np.int64]
) -> Iterator[Progress | list[RecipeTrial]]:
    """Try alternatives, and further ones on top of the best, on labelled files; yields progress and at last all trials, the recipe in
    use first, with probabilities corrected once for all that were tried. No trials: nothing can be read."""
    seen = look_at(files[:LOOKED_AT], model.recipe)
    free = len(model.input.shape) == 4 and None in model.input.shape[1:]
    base, raw, trials = Alternative("", model.recipe), list[RecipeTrial](), list[RecipeTrial]()
    tried = {(canonical(model.recipe), False)}
    # Where one change helps, or nothing is better than chance, further changes are tried on top of the best one.
    for round_ in range(1, ROUNDS + 1):
        others = []
        for other in alternatives(base.recipe, seen, free):
            key = (canonical(other.recipe), other.grey)
            if key not in tried:
                tried.add(key)
                others.append(replace(other, name=f"{base.name}, {other.name}" if base.name else other.name))
        found: list[RecipeTrial] | None = None
        for event in try_recipes(model, files, known, others):
            if isinstance(event, Progress):
                yield event
            else:
                found = event
        if found is None:
            return
        if not found:
            break
        raw = [found[0], *raw[1:], *(replace(one, changes=round_) for one in found[1:])]
        trials = [raw[0], *_corrected(raw[1:])]
        best = max((t for t in trials if not t.grey), key=lambda t: (t.accuracy, -t.log_loss))
        if best is trials[0] or canonical(best.recipe) == canonical(base.recipe):
            break
        if not best.fits_better and not near_chance(trials[0].right, known):
            break
        base = Alternative(best.name, best.recipe)
    yield trials


def near_chance(right: NDArray[np.bool_], labels: NDArray[np.int64]) -> bool:
    """Whether so many right answers are hardly more than always saying the commonest class gives: not beyond chance, or by less
    than a tenth of what there is to gain."""
    base, p = beyond_commonest(right, labels)
    return p >= CHANCE or float(right.mean()) < base + 0.1 * (1 - base)


def _explains_as_well(now: RecipeTrial, other: RecipeTrial, tried: int) -> bool:
    """Whether another recipe, with the classes in the order in force, does what otherwise only another class order does for the
    recipe in use: then either may be what is wrong, and nothing but the training tells which."""
    if not now.means or other.means or other.gained < other.lost:
        return False
    gained, lost = gained_and_lost(other.right, now.as_named)
    return gained > lost and tried * even_split(gained, lost) < CHANCE


def _best_of(better: list[RecipeTrial]) -> RecipeTrial:
    """The best of recipes that fit better; one with a further change only where that helps beyond chance."""
    best: RecipeTrial | None = None
    for changes in sorted({t.changes for t in better}):
        some = [t for t in better if t.changes == changes]
        one = max(some, key=lambda t: (t.accuracy, -t.log_loss))
        if best is not None:
            gained, lost = gained_and_lost(one.right, best.right)
            if gained <= lost or len(some) * even_split(gained, lost) >= CHANCE:
                continue
        best = one
    assert best is not None
    return best


def _told_of_grey(trials: list[RecipeTrial], best: RecipeTrial) -> str:
    """In words, that pictures turned grey fit better than the best recipe, beyond chance; empty where they do not."""
    found = max((t for t in trials if t.grey), key=lambda t: t.accuracy, default=None)
    if found is None:
        return ""
    gained, lost = gained_and_lost(found.right, best.right)
    p = min(1.0, even_split(gained, lost) * len(trials))
    if gained <= lost or p >= CHANCE:
        return ""
    return (
        f" With the pictures turned grey it would be {percent(found.accuracy)} ({gained} gained, {lost} lost, p {in_words(p)}): the "
        "model seems to have been trained on grey pictures, which no recipe makes of these; hand it grey copies."
    )


def _better(trials: list[RecipeTrial]) -> list[RecipeTrial]:
    """The trials that fit better than the recipe in use beyond chance, those with pictures turned grey left out."""
    others = [t for t in trials[1:] if not t.grey]
    return [t for t in others if t.fits_better or _explains_as_well(trials[0], t, len(others))]


def _figures(trials: list[RecipeTrial]) -> list[dict[str, Any]]:
    return [
        {
            "name": t.name,
            "accuracy": t.plain,
            "accuracy_with_best_class_order": t.accuracy,
            "log_loss": t.log_loss,
            "gained": t.gained,
            "lost": t.lost,
            "accuracy_p": t.accuracy_p,
            "log_loss_p": t.loss_p,
            "same_answers": t.same,
        }
        for t in trials
    ]


def _told_trained(
    there: list[RecipeTrial], here: list[RecipeTrial], trained: Sequence[Path], files: Sequence[Path]
) -> CheckResult:
    """The recipe in use fits pictures the network was trained on: what fits better here says that these pictures differ."""
    tried = sum(not (t.same or t.grey) for t in there[1:])
    fits = (
        f"The recipe fits the training images: accuracy {percent(there[0].plain)} on {len(there[0].right)} of them, and none of "
        f"{tried} other recipes fits better there."
    )
    figures: dict[str, Any] = {"training_images": len(there[0].right), "images": len(here[0].right)}
    figures |= {"trials_on_training_images": _figures(there), "trials": _figures(here)}
    better = _better(here)
    if not better:
        return CheckResult("recipe", "fine", f"{fits} None fits better on these images either.", figures)
    best = _best_of(better)
    found = shifts(properties_of_files(files), properties_of_files(trained))
    how = (
        f"compared with the training images they are {', '.join(one.sentence() for one in found)}"
        if found
        else "not in brightness, contrast, tint or sharpness, though; look at some beside training images"
    )
    sentence = (
        f"{fits} On these images another one does better ({best.name}: {percent(best.plain)} instead of {percent(here[0].plain)} "
        f"of {len(here[0].right)}). The pictures differ, the recipe is not wrong: {how}."
    )
    return CheckResult("recipe", "look", sentence, figures)


def _told(
    trials: list[RecipeTrial], known: NDArray[np.int64], classes: Sequence[str], is_guess: bool, where: str = ""
) -> CheckResult:
    now, others, total = trials[0], [t for t in trials[1:] if not t.grey], len(known)
    base, _ = beyond_commonest(now.right, known)
    figures = {"images": total, "commonest_class": base, "trials": _figures(trials)}
    better = _better(trials)
    best = _best_of(better) if better else now
    grey = _told_of_grey(trials, best)
    chance = f"always saying the commonest class would be right in {percent(base)}"
    ordered = f", {percent(now.accuracy)} with the classes in another order: see Class order" if now.means else ""
    poor = near_chance(best.right, known)
    warning = (
        f" That is hardly better than chance ({chance}): the right recipe may not be among those tried, or the model, the "
        "class list or the labels are others than they should be."
        if poor
        else f" ({chance[0].upper()}{chance[1:]}.)"
    )
    names = list(dict.fromkeys(t.name for t in trials[1:]))
    what = f" Tried: {'; '.join(names[:MOST_NAMED])}{f' and {len(names) - MOST_NAMED} more' if len(names) > MOST_NAMED else ''}."
    if not better:
        alike = [t for t in others if t.makes_no_difference]
        unsaid = (
            f" On these pictures it cannot be distinguished from: {'; '.join(t.name for t in alike[:3])}"
            f"{f' and {len(alike) - 3} more' if len(alike) > 3 else ''}."
            if alike
            else ""
        )
        guess = " It is a guess, though, and the right one may not be among them." if is_guess and not poor else ""
        differ = sum(not t.same for t in others)
        sentence = (
            f"None of {differ} other recipes fits significantly better; as it is, accuracy is "
            f"{percent(now.plain)} on {total} labelled images{ordered}.{grey}{warning}{unsaid}{guess}{what}"
        )
        return CheckResult("recipe", "look" if is_guess or poor or now.means or grey else "fine", sentence, figures)
    counted = f"{best.gained} gained, {best.lost} lost, p {in_words(best.accuracy_p)}"
    if now.means or best.means:
        counted += f", against {percent(now.accuracy)} as it is with the class order that suits it best"
    if not best.fits_better:
        counted += ": either the recipe or the class order is wrong; how the model was trained tells which"
    losses = f", log loss {best.log_loss:.3f} instead of {now.log_loss:.3f} (p {in_words(best.loss_p)})"
    unsure = (
        ""
        if where
        else " Pictures that are lighter, darker or of another tint than the training images can look like this too: with training "
        "images in the study, these are tried first."
    )
    sentence = (
        f"Another recipe fits better{where}: {best.name}. Accuracy {percent(best.accuracy)}"
        f"{', the classes in another order,' if best.means else ''} instead of {percent(now.plain)} on the same {total} images "
        f"({counted}){'' if now.means or best.means else losses}.{grey}{warning}{unsure}{what}"
    )
    state: CheckState = "stop" if best.accuracy - now.plain >= 0.1 else "look"
    offer: dict[str, Any] = {"recipe": recipe_to_toml(best.recipe), "name": best.name}
    if best.means:
        offer["classes"] = [classes[k] for k in best.means]
    return CheckResult("recipe", state, sentence, figures, (), offer)
