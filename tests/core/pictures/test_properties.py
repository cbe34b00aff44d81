"""Each property against a picture whose value is known by construction, and against slow loops."""

from __future__ import annotations

import io
import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from PIL import Image
from scipy import ndimage

from mivrat.core.pictures.decode import PictureFile, Stamp, whole_picture
from mivrat.core.pictures.properties import NAMES, PROPERTIES, measure_file, measured


def encoded(pixels: NDArray[np.generic] | Image.Image, kind: str = "PNG", **options: object) -> PictureFile:
    picture = pixels if isinstance(pixels, Image.Image) else Image.fromarray(np.asarray(pixels, np.uint8))
    out = io.BytesIO()
    picture.save(out, kind, **options)
    return PictureFile(out.getvalue(), Stamp(b"", len(out.getvalue()), 0), "x")


def of(pixels: NDArray[np.generic] | Image.Image, kind: str = "PNG", **options: object) -> dict[str, float]:
    return dict(zip(NAMES, measure_file(encoded(pixels, kind, **options)).tolist(), strict=True))


def flat(red: int, green: int, blue: int, shape: tuple[int, int] = (20, 30)) -> NDArray[np.uint8]:
    return np.broadcast_to(np.array([red, green, blue], np.uint8), (*shape, 3)).copy()


def test_size_light_and_colour_of_plain_pictures() -> None:
    white, black, red = of(flat(255, 255, 255)), of(flat(0, 0, 0)), of(flat(255, 0, 0))
    assert (white["width"], white["height"], white["aspect ratio"]) == (30, 20, 1.5)
    assert (white["luminance"], black["luminance"]) == (1.0, 0.0)
    assert red["luminance"] == pytest.approx(0.2126)
    assert (white["white share"], white["black share"], black["black share"], red["white share"]) == (1, 0, 1, 0)
    assert (white["contrast"], white["colourfulness"], white["noise"]) == (0, 0, 0)
    # Red alone: the differences are 255 and 127.5, without spread, and count three tenths.
    assert red["colourfulness"] == pytest.approx(0.3 * math.hypot(255, 127.5), rel=1e-6)
    # A grey of 188 sends out half of white's light (sRGB, IEC 61966-2-1).
    assert of(flat(188, 188, 188))["luminance"] == pytest.approx(0.5029, abs=1e-4)
    half = flat(0, 0, 0, (40, 40))
    half[:, 20:] = 255
    assert (of(half)["luminance"], of(half)["contrast"]) == (0.5, 0.5)


def test_bytes_quality_and_orientation() -> None:
    picture = np.random.default_rng(0).integers(0, 256, (60, 90, 3), np.uint8)
    for quality in (5, 30, 50, 75, 92, 100):
        assert of(picture, "JPEG", quality=quality)["JPEG quality"] == quality
    assert math.isnan(of(picture)["JPEG quality"])
    file = encoded(picture)
    assert of(picture)["bytes per pixel"] == pytest.approx(len(file.data) / 5400)
    exif = Image.Exif()
    exif[274] = 6  # to be seen turned by a quarter
    turned = encoded(picture, "JPEG", exif=exif)
    as_seen, as_stored = measured(turned, whole_picture(turned)), measured(turned, whole_picture(turned, False))
    assert as_seen[:2].tolist() == as_stored[:2].tolist() == [60, 90]
    assert as_seen[3] == pytest.approx(as_stored[3], abs=0.002)


@pytest.mark.parametrize("sigma", [2.0, 5.0, 12.0])
def test_noise_of_known_size_is_found(sigma: float) -> None:
    rng = np.random.default_rng(1)
    slope = np.linspace(80, 170, 300)[None, :] * np.ones((200, 1))
    grey = np.clip(np.round(slope + rng.normal(0, sigma, slope.shape)), 0, 255)
    assert of(np.repeat(grey[..., None], 3, axis=2))["noise"] == pytest.approx(sigma, rel=0.04)


def test_sharpness_is_the_variance_of_the_laplacian_and_falls_with_blur() -> None:
    rng = np.random.default_rng(2)
    grey = rng.integers(0, 256, (256, 256)).astype(np.uint8)
    laplace = ndimage.laplace(grey.astype(float))[1:-1, 1:-1]
    picture = np.repeat(grey[..., None], 3, axis=2)
    assert of(picture)["sharpness"] == pytest.approx(math.log(laplace.var()), abs=1e-4)
    found = [of(ndimage.gaussian_filter(picture.astype(float), (s, s, 0)))["sharpness"] for s in (0.5, 1, 2, 4)]
    assert found == sorted(found, reverse=True)
    # The same photo at twice the size is about as sharp.
    wide = np.asarray(Image.fromarray(picture).resize((768, 768), Image.Resampling.NEAREST))
    assert of(wide)["sharpness"] == pytest.approx(of(picture)["sharpness"], abs=0.01)


def test_colourfulness_of_a_photo_is_that_of_the_paper() -> None:
    pixels = np.random.default_rng(3).integers(0, 256, (64, 80, 3)).astype(float)
    rg, yb = pixels[..., 0] - pixels[..., 1], (pixels[..., 0] + pixels[..., 1]) / 2 - pixels[..., 2]
    expected = math.hypot(rg.std(), yb.std()) + 0.3 * math.hypot(rg.mean(), yb.mean())
    assert of(pixels)["colourfulness"] == pytest.approx(expected, rel=1e-6)


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 40), st.integers(1, 400), st.sampled_from(["L", "RGB", "P", "LA", "RGBA", "CMYK", "I;16", "1"]))
def test_pictures_of_every_mode_and_size_are_measured(height: int, width: int, mode: str) -> None:
    values = np.random.default_rng(width).integers(0, 256, (height, width, 3), np.uint8)
    if mode == "I;16":
        picture = Image.fromarray(values[..., 0].astype(np.uint16) * 257)
    else:
        picture = Image.fromarray(values).convert(mode)
    found = of(picture, "TIFF")
    assert (found["width"], found["height"]) == (width, height)
    small = {"sharpness", "noise", "JPEG quality"}
    assert all(math.isfinite(value) for name, value in found.items() if name not in small)
    assert 0 <= found["luminance"] <= 1
    assert math.isfinite(found["noise"]) == (min(height, width) >= 3)


def test_every_property_says_what_it_is(tmp_path: Path) -> None:
    assert len({one.name for one in PROPERTIES}) == len(PROPERTIES) == 12
    assert all(one.definition.endswith(".") for one in PROPERTIES)
