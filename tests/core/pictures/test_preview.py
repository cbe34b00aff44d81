"""What the recipe editor shows of a picture, against the tensor the network really gets; usual value ranges by meaning."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.preview import preview
from mivrat.core.pictures.recipe import Crop, Picture, Recipe, Resize, Tensor, Values
from mivrat.core.pictures.value_ranges import VALUE_RANGES, in_order, meaning_of


@pytest.fixture
def picture(tmp_path: Path) -> Path:
    pixels = np.random.default_rng(0).integers(0, 256, (60, 90, 3), dtype=np.uint8)
    pixels[..., 0] //= 2
    Image.fromarray(pixels).save(tmp_path / "a.png")
    return tmp_path / "a.png"


@pytest.mark.parametrize("mode", ["RGB", "BGR", "L"])
@pytest.mark.parametrize("order", ["NCHW", "NHWC"])
def test_channels_are_those_of_the_tensor(picture: Path, mode: str, order: str) -> None:
    recipe = Recipe(
        picture=Picture(mode=mode),  # type: ignore[arg-type]
        resize=Resize(rule="shorter-side", size=30),
        crop=Crop(size=(30, 30)),
        values=Values(scale=1 / 255, mean=[0.5], std=[0.25]),
        tensor=Tensor(order=order),  # type: ignore[arg-type]
    )
    shown, tensor = preview(picture, recipe, 800), prepare_file(picture, recipe)
    planes = tensor if order == "NCHW" else tensor.transpose(2, 0, 1)
    names = {"RGB": ["red", "green", "blue"], "BGR": ["blue", "green", "red"], "L": ["grey"]}[mode]
    assert [one.name for one in shown.channels] == names
    for one, plane in zip(shown.channels, planes, strict=True):
        assert (one.lowest, one.highest) == (pytest.approx(plane.min()), pytest.approx(plane.max()))
        assert (one.mean, one.deviation) == (
            pytest.approx(plane.mean(), abs=1e-6),
            pytest.approx(plane.std(), abs=1e-6),
        )
        assert one.bounds == (-2.0, 2.0)
    if mode != "L":
        # Shown in true colours, whatever order the network wants: the red that was halved stays the darkest.
        assert shown.received[..., 0].mean() < shown.received[..., 2].mean() - 30
        assert shown.photo[..., 0].max() <= 127
    assert shown.lost == pytest.approx(1 - 60 * 60 / (60 * 90))


def test_large_photos_are_shown_smaller_and_nothing_is_lost_where_nothing_is_cut(picture: Path) -> None:
    shown = preview(picture, Recipe(resize=Resize(rule="fit-pad", size=(40, 40))), 45)
    assert shown.photo.shape == (30, 45, 3)
    assert shown.place.picture == (60, 90)
    assert shown.lost == pytest.approx(0)
    picture.write_bytes(b"")
    with pytest.raises(InputError, match="empty"):
        preview(picture, Recipe(), 45)


def test_values_are_known_by_meaning_however_they_are_written() -> None:
    for name, values in VALUE_RANGES.items():
        for mode in ("RGB", "BGR"):
            recipe = Recipe(picture=Picture(mode=mode), values=in_order(values, mode))  # type: ignore[arg-type]
            assert meaning_of(recipe) == name
    other_way = Recipe(values=Values(scale=1 / 127.5, mean=[1.0, 1.0, 1.0], std=[1.0]))
    assert meaning_of(other_way) == "values from −1 to 1"
    assert meaning_of(Recipe(picture=Picture(mode="L"), values=Values(scale=1.0))) == "values from 0 to 255"
    assert meaning_of(Recipe(values=Values(mean=[0.1]))) == ""
    crossed = Recipe(
        picture=Picture(mode="BGR"), values=VALUE_RANGES["per-channel mean and deviation of common photos"]
    )
    assert meaning_of(crossed) == ""
