"""Preprocessing against brute force: resampling by loops over the filter's definition, geometry by hand."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from mivrat.core.pictures.prepare import fitted_pixels, geometry, prepare_file, to_tensor
from mivrat.core.pictures.recipe import Crop, Picture, Recipe, Resize, Tensor, Values

SUPPORT = {"bilinear": 1.0, "bicubic": 2.0, "box": 0.5, "lanczos": 3.0}


def kernel(kind: str, x: float) -> float:
    """The filters by their textbook definitions; bicubic is Keys' with a = -0.5."""
    a = abs(x)
    if kind == "box":
        return 1.0 if -0.5 < x <= 0.5 else 0.0
    if kind == "bilinear":
        return max(0.0, 1 - a)
    if kind == "bicubic":
        if a < 1:
            return 1.5 * a**3 - 2.5 * a**2 + 1
        return -0.5 * a**3 + 2.5 * a**2 - 4 * a + 2 if a < 2 else 0.0
    if a == 0:
        return 1.0
    return 3 * math.sin(math.pi * a) * math.sin(math.pi * a / 3) / (math.pi * a) ** 2 if a < 3 else 0.0


def brute_line(line: list[float], size: int, kind: str, antialias: bool) -> list[float]:
    """Resample one line by loops. Antialiased: the filter is widened when shrinking and cut off at the edge;
    otherwise it keeps its width and the edge pixel repeats."""
    n, out = len(line), []
    ratio = n / size
    for i in range(size):
        centre = (i + 0.5) * ratio
        if kind == "nearest":
            out.append(line[min(n - 1, int(centre))])
            continue
        wide = max(1.0, ratio) if antialias else 1.0
        reach = SUPPORT[kind] * wide
        taps = range(math.floor(centre - reach) - 1, math.ceil(centre + reach) + 2)
        if antialias:
            taps = range(max(0, math.floor(centre - reach + 0.5)), min(n, math.floor(centre + reach + 0.5)))
        weights = [kernel(kind, (t + 0.5 - centre) / wide) for t in taps]
        total = sum(weights)
        out.append(sum(w * line[min(n - 1, max(0, t))] for w, t in zip(weights, taps, strict=True)) / total)
    return out


def along_rows(pixels: np.ndarray, size: int, kind: str, antialias: bool) -> np.ndarray:
    lines = [[brute_line(row[:, c].tolist(), size, kind, antialias) for c in range(row.shape[1])] for row in pixels]
    return np.array(lines).transpose(0, 2, 1)


def brute(pixels: np.ndarray, size: tuple[int, int], kind: str, antialias: bool, rows_first: bool) -> np.ndarray:
    """Both passes, in either order; the antialiased path keeps 8 bits between them."""
    out = pixels.astype(float)
    for turn in (False, True) if rows_first else (True, False):
        out = out.transpose(1, 0, 2) if turn else out
        out = along_rows(out, size[0 if turn else 1], kind, antialias)
        out = out.transpose(1, 0, 2) if turn else out
        if antialias:
            out = np.clip(np.floor(out + 0.5), 0, 255)
    return np.clip(np.floor(out + 0.5), 0, 255)


@pytest.mark.parametrize("antialias", [True, False])
@pytest.mark.parametrize("kind", ["nearest", "bilinear", "bicubic", "box", "lanczos"])
@pytest.mark.parametrize(
    ("given_size", "wanted"), [((17, 23), (8, 11)), ((9, 7), (20, 13)), ((31, 5), (7, 9)), ((11, 11), (3, 5))]
)
def test_resampling_by_loops(kind: str, antialias: bool, given_size: tuple[int, int], wanted: tuple[int, int]) -> None:
    pixels = np.random.default_rng(4).integers(0, 256, (*given_size, 3), dtype=np.uint8)
    recipe = Recipe(resize=Resize(rule="stretch", size=wanted, filter=kind, antialias=antialias))  # type: ignore[arg-type]
    found, _ = fitted_pixels(pixels, recipe)
    # Which pass comes first is the library's choice, and shows in the last bits.
    apart = [np.abs(found - brute(pixels, wanted, kind, antialias, rows_first)) for rows_first in (True, False)]
    assert min(a.max() for a in apart) <= 1  # fixed-point weights may round the last bit the other way
    assert min((a > 0).mean() for a in apart) < 0.04


def test_geometry_by_hand() -> None:
    shorter = Recipe(resize=Resize(rule="shorter-side", size=256), crop=Crop(size=(224, 224)))
    place = geometry(375, 500, shorter)
    assert place.resized == (256, 341)  # 341.33 rounds down
    assert place.offset == (-16, -58)  # (341 - 224) / 2 = 58.5 goes to the even side
    top, left, bottom, right = place.seen()
    assert (top, bottom) == pytest.approx((16 * 375 / 256, 240 * 375 / 256))
    assert (left, right) == pytest.approx((58 * 500 / 341, 282 * 500 / 341))
    padded = geometry(100, 50, Recipe(resize=Resize(rule="fit-pad", size=(64, 64))))
    assert (padded.resized, padded.offset, padded.output) == ((64, 32), (0, 16), (64, 64))
    assert padded.seen() == (0, 0, 100, 50)


@settings(max_examples=60)
@given(
    st.integers(1, 40),
    st.integers(1, 40),
    st.integers(1, 24),
    st.integers(1, 24),
    st.sampled_from(["shorter-side", "fit-pad", "none"]),
)
def test_any_picture_comes_out_at_the_crop_size(height: int, width: int, high: int, wide: int, rule: str) -> None:
    pixels = np.full((height, width, 3), 200, np.uint8)
    size = None if rule == "none" else 16
    recipe = Recipe(resize=Resize(rule=rule, size=size, pad_value=[9, 9, 9]), crop=Crop(size=(high, wide)))  # type: ignore[arg-type]
    found, place = fitted_pixels(pixels, recipe)
    assert found.shape == (high, wide, 3)
    assert set(np.unique(found)) <= {9, 200}
    top, left, bottom, right = place.seen()
    assert (200 in found) == (top < bottom and left < right)  # a small crop of a padded picture can miss it
    assert 0 <= top <= bottom <= height + 1e-9
    assert 0 <= left <= right <= width + 1e-9


def test_values_and_axes_by_hand(tmp_path: Path) -> None:
    pixels = np.array([[[0, 51, 255]]], np.uint8)
    recipe = Recipe(
        values=Values(scale=1 / 255, mean=[0.5, 0.0, 0.25], std=[0.5, 2.0, 0.5]), tensor=Tensor(order="NHWC")
    )
    np.testing.assert_allclose(to_tensor(pixels, recipe), [[[-1.0, 0.1, 1.5]]], atol=1e-6)
    assert to_tensor(pixels, Recipe(values=Values(scale=1.0), tensor=Tensor(dtype="uint8"))).dtype == np.uint8
    Image.fromarray(pixels).save(tmp_path / "one.png")
    bgr = Recipe(picture=Picture(mode="BGR"), values=Values(scale=1.0, mean=[5.0], std=[1.0]))
    np.testing.assert_allclose(prepare_file(tmp_path / "one.png", bgr).ravel(), [250, 46, -5])
