"""Regions by colour and by likeness, and the second control: places that are known, and how often it raises a false alarm."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from mivrat.cli import run_command
from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.pictures.recipe import Recipe, Resize
from mivrat.core.region_masking.cover_test import result_of
from mivrat.core.region_masking.lookalikes import ColourRule, sampled_colour, sampled_patch, to_lab
from mivrat.core.region_masking.one_image import HotElsewhere, cover
from mivrat.demo.study import DATA
from tests.support.networks import seeing_one_spot


def test_colours_by_published_values() -> None:
    """sRGB primaries, white, black and a middle grey in CIE L*a*b* (D65), as colour science lists them."""
    pixels = np.array([[[255, 0, 0], [0, 255, 0], [0, 0, 255], [255, 255, 255], [0, 0, 0], [119, 119, 119]]], np.uint8)
    known = [
        (53.24, 80.09, 67.20),
        (87.73, -86.18, 83.18),
        (32.30, 79.19, -107.86),
        (100, 0, 0),
        (0, 0, 0),
        (50.03, 0, 0),
    ]
    np.testing.assert_allclose(to_lab(pixels, "RGB")[0], known, atol=0.05)
    np.testing.assert_allclose(to_lab(pixels[..., ::-1], "BGR")[0], known, atol=0.05)
    np.testing.assert_allclose(to_lab(pixels[:, 3:, :1], "L")[0], known[3:], atol=0.05)


def test_a_colour_is_found_where_it_is_without_specks_and_a_little_grown() -> None:
    pixels = np.full((64, 96, 3), (210, 205, 190), np.uint8)
    pixels[20:30, 40:60] = (90, 60, 170)
    pixels[5, 5:8] = (90, 60, 170)  # three pixels of 6,144 are a speck
    marked = np.zeros((64, 96), bool)
    marked[22:26, 45:50] = True
    rule = sampled_colour(pixels, "RGB", marked)
    expected = np.zeros((64, 96), bool)
    expected[20:30, 40:60] = True
    found = rule.mask(pixels, "RGB")
    assert found[expected].all()
    assert expected[found].mean() > 0.75  # grown by one pixel on each side
    assert not found[5, 5:8].any()
    assert not rule.mask(pixels[6:18], "RGB").any()
    assert ColourRule(rule.lab, 200.0).mask(pixels, "RGB").all()
    with pytest.raises(InputError, match="nothing is marked"):
        sampled_colour(pixels, "RGB", np.zeros((64, 96), bool))


def test_places_like_a_patch_are_found_in_another_image(tmp_path: Path) -> None:
    maker, recipe = seeing_one_spot(tmp_path), None
    side = 30, 40
    rng = np.random.default_rng(0)

    def image(row: int, column: int) -> np.ndarray:
        pixels = np.full((*side, 3), 100, np.uint8) + rng.integers(0, 8, (*side, 3), dtype=np.uint8)
        pixels[row : row + 8, column : column + 8] = rng.integers(180, 255, (8, 8, 3), dtype=np.uint8)
        return pixels

    recipe = maker.model.recipe
    one, other = image(4, 4), image(18, 26)
    marked = np.zeros(side, bool)
    marked[5:11, 5:11] = True
    rule = sampled_patch(maker, to_tensor(one, recipe), marked, likeness=0.5)
    found = rule.mask(maker, to_tensor(other, recipe), *side)
    where = np.zeros(side, bool)
    where[18:26, 26:34] = True
    assert found[where].mean() > 0.6
    assert found[~where].mean() < 0.1
    tiny = np.zeros(side, bool)
    tiny[6, 6] = True  # holds no place of the layer whole: the one below it is taken
    assert len(sampled_patch(maker, to_tensor(one, recipe), tiny).features) == len(rule.features)
    with pytest.raises(InputError, match="nothing is marked"):
        sampled_patch(maker, to_tensor(one, recipe), np.zeros(side, bool))


class HeatAnywhereInTheObject:
    """Stands in for a maker whose heat says nothing: it is somewhere in the central object, and the answer hangs on another place
    of it. What an image's places are its content tells."""

    def __init__(self, recipe: Recipe) -> None:
        self.model = self
        self.recipe, self.layers, self.classes = recipe, [], 2

    def misfit(self, shape: tuple[int, ...]) -> str:
        return ""

    def layer_for(self, method: str, layer: str | None) -> None:
        return None

    @staticmethod
    def _somewhere(tensor: np.ndarray, purpose: int) -> Mask:
        # The top row is outside all that is hidden, so it tells images apart covered and uncovered.
        rng = np.random.default_rng((purpose, *np.round(tensor[0, 0]).astype(int).tolist()))
        mask = np.zeros(tensor.shape[1:], bool)
        row, column = rng.integers(6, 14, 2)
        mask[row : row + 5, column : column + 5] = True
        return mask

    def laid_maps(self, batch: np.ndarray, *_: Any) -> list[np.ndarray]:
        return [np.stack([self._somewhere(one, 1).astype(np.float32) for one in batch])]

    def probabilities(self, batch: np.ndarray) -> np.ndarray:
        """The second class where the place that decides has lost its contrast."""
        lost = np.array([one[0][self._somewhere(one, 2)].std() < 42 for one in batch], float)
        return np.stack([0.8 - 0.6 * lost, 0.2 + 0.6 * lost], axis=1)

    def ranked(self, batch: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        p = self.probabilities(batch)
        return p, p


def own(image: int, pixels: np.ndarray, tensor: np.ndarray, target: int) -> Mask:
    return HeatAnywhereInTheObject._somewhere(tensor, 1)


@pytest.mark.slow
def test_heat_anywhere_in_an_object_raises_alarms_by_the_first_control_only(tmp_path: Path) -> None:
    rng = np.random.default_rng(7)
    alarms = np.zeros(2)
    studies, images = 40, 40
    for study in range(studies):
        files = {}
        for i in range(images):
            pixels = np.full((24, 24, 3), 120, np.uint8)
            pixels[0] = rng.integers(0, 255, (24, 1))
            pixels[6:19, 6:19] = rng.choice([70, 170], (13, 13, 1))
            files[i] = tmp_path / f"{study}-{i}.png"
            Image.fromarray(pixels).save(files[i])
        maker: Any = HeatAnywhereInTheObject(
            Recipe(resize=Resize(rule="stretch", size=(24, 24)), values={"scale": 1.0})
        )  # type: ignore[arg-type]
        second = HotElsewhere(maker, files, maker.recipe, None, "gradient", 0, 0)
        found = list(cover(maker, files, range(images), own, "mean", 0, second=second))  # type: ignore[arg-type]
        result = result_of(found, [0] * images)
        assert result.hot_elsewhere is not None
        assert result.hot_elsewhere.total == images
        alarms += [one.p < 0.05 and one.only_region > one.only_control for one in (result, result.hot_elsewhere)]
    assert alarms[0] > 0.5 * studies  # the control lies outside the object in most images
    assert alarms[1] <= 0.1 * studies


def test_the_second_control_is_the_hottest_part_of_another_image_whatever_the_order(tmp_path: Path) -> None:
    maker: Any = HeatAnywhereInTheObject(Recipe(resize=Resize(rule="stretch", size=(24, 24)), values={"scale": 1.0}))  # type: ignore[arg-type]
    rng = np.random.default_rng(1)
    files = {}
    for i in range(5):
        files[i] = tmp_path / f"{i}.png"
        Image.fromarray(rng.integers(0, 255, (24, 24, 3), dtype=np.uint8)).save(files[i])
    pixels = {i: np.asarray(Image.open(file)) for i, file in files.items()}
    hot = {i: HeatAnywhereInTheObject._somewhere(to_tensor(one, maker.recipe), 1) for i, one in pixels.items()}
    region = np.zeros((24, 24), bool)
    region[:5, :5] = True
    one, other = (
        HotElsewhere(maker, some, maker.recipe, None, "gradient", 0, 0)
        for some in (files, dict(reversed(files.items())))
    )
    for i in files:
        found = one(i, pixels[i], region)
        assert found is not None
        assert found.sum() == region.sum()
        assert any((found == mask).all() for j, mask in hot.items() if j != i)
        assert (other(i, pixels[i], region) == found).all()  # type: ignore[union-attr]
    alone = HotElsewhere(maker, {0: files[0]}, maker.recipe, None, "gradient", 0, 0)
    assert alone(0, pixels[0], region) is None
    assert one(0, pixels[0], np.zeros((24, 24), bool)) is None


@pytest.mark.parametrize("option", ["--colour", "--like"])
def test_the_ink_dot_is_found_by_what_it_is(option: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    arguments: dict[str, object] = {
        "model": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "late-summer-field.csv",
        "labelled": "plantain",
        "target": "ragweed",
        "hide": "mean",
        "out": tmp_path,
    }
    patch = f"{DATA / 'late-summer-field/plantain/pl_0001.jpg'}:0.03,0.07,0.2,0.2"

    def run(**further: object) -> int:
        every = {**arguments, **{key.replace("_", "-"): value for key, value in further.items()}}
        return run_command(["cover", *(str(part) for key, value in every.items() for part in (f"--{key}", value))])

    assert run(**{option[2:]: patch}) == 0
    told = json.loads((tmp_path / "cover.json").read_text(encoding="utf-8"))
    inked = told["total"]
    assert 28 <= inked <= 33  # not the images without a dot: in these nothing is found, and that is said
    assert capsys.readouterr().err.count("nothing in it") == 50 - inked
    assert told["region"]["changed"]["hits"] >= 0.8 * inked
    assert told["region"]["fixed"] >= 20
    assert told["p"] < 1e-4
    assert told["hot_elsewhere"]["total"] == inked
    assert told["hot_elsewhere"]["p"] < 0.01
    for bad in ({option[2:]: "no.png:0,0,1,1"}, {option[2:]: f"{patch[:-4]}"}, {option[2:]: patch, "hottest": 0.1}):
        with pytest.raises(InputError):
            run(**bad)
