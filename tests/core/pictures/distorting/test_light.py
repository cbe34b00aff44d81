"""Light by its physics: stops double it, daylight is that of the standard, what must not change does not."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.pictures.distorting import light

RNG = np.random.default_rng(0)
PHOTO = RNG.random((9, 14, 3), np.float32)
GREY = RNG.random((9, 14, 1), np.float32)


def test_values_and_light_are_those_of_the_standard() -> None:
    """IEC 61966-2-1 by single numbers, and there and back."""
    assert light.linear(np.float32([[[0.0, 0.04045, 0.5, 1.0]]])).ravel() == pytest.approx(
        [0, 0.04045 / 12.92, 0.21404, 1], abs=1e-5
    )
    assert light.encoded(light.linear(PHOTO)) == pytest.approx(PHOTO, abs=1e-6)


def test_each_stop_doubles_the_light() -> None:
    dim = PHOTO * np.float32(0.5)
    for stops in (-2.0, -0.5, 1.0):
        assert light.linear(light.brightness(dim, stops)) == pytest.approx(light.linear(dim) * 2**stops, abs=1e-6)


def test_contrast_keeps_the_mean_and_gamma_black_and_white() -> None:
    for change in (-0.5, 1.0):
        found = light.contrast(PHOTO, change, float(PHOTO.mean()))
        assert found.mean() == pytest.approx(PHOTO.mean(), abs=1e-5)
        assert found.std() == pytest.approx(PHOTO.std() * (1 + change), rel=1e-4)
    assert np.ptp(light.contrast(PHOTO, -1, 0.4)) == pytest.approx(0, abs=1e-6)
    ends = np.float32([[[0.0, 1.0, 0.25]]])
    assert light.gamma(ends, 1).ravel() == pytest.approx([0, 1, 0.0625])
    assert light.gamma(light.gamma(PHOTO, 0.7), -0.7) == pytest.approx(PHOTO, abs=1e-5)


def test_daylight_is_that_of_the_standard() -> None:
    """The chromaticity of D50, D65 and D75 (CIE 15), told by their linear sRGB; the white of the picture stays white at 0."""
    for kelvin, x, y in ((5003, 0.3457, 0.3585), (6504, 0.3127, 0.3290), (7504, 0.2990, 0.3149)):
        to_xyz = np.linalg.inv(light._FROM_XYZ)
        found = to_xyz @ light.daylight(1e6 / kelvin)
        assert found[:2] / found.sum() == pytest.approx([x, y], abs=6e-4)
        assert found[1] == pytest.approx(1, abs=1e-9)
    assert light.colour_cast(PHOTO, 0) == pytest.approx(PHOTO, abs=1e-5)


def test_a_cast_is_warm_or_cool_and_white_keeps_its_luminance() -> None:
    dim = np.full((2, 2, 3), light.encoded(np.float32([0.2]))[0], np.float32)
    for mired, redder in ((60, True), (-60, False)):
        found = light.linear(light.colour_cast(dim, mired))[0, 0]
        assert (found[0] > found[2]) == redder
        assert found @ light.LUMINANCE == pytest.approx(0.2, abs=2e-3)


def test_saturation_keeps_the_luma_and_grey() -> None:
    for change in (-1.0, 0.5):
        found = light.saturation(PHOTO, change)
        assert found @ light.LUMINANCE == pytest.approx(PHOTO @ light.LUMINANCE, abs=1e-5)
    assert np.ptp(light.saturation(PHOTO, -1), axis=2) == pytest.approx(0, abs=1e-6)
    assert light.saturation(np.repeat(GREY, 3, axis=2), 3) == pytest.approx(np.repeat(GREY, 3, axis=2), abs=1e-5)


@pytest.mark.parametrize(
    ("degrees", "bright", "dark"), [(0, (4, 0), (4, -1)), (90, (0, 6), (-1, 6)), (180, (4, -1), (4, 0))]
)
def test_uneven_light_falls_to_its_side_by_so_many_stops(
    degrees: float, bright: tuple[int, int], dark: tuple[int, int]
) -> None:
    found = light.light_of(light.uneven(np.full((9, 13, 1), 204, np.uint8), 2, degrees))
    assert found[bright] / found[dark] == pytest.approx(4, rel=0.02)
    assert found.max() == pytest.approx(light.linear(np.float32([0.8]))[0], rel=1e-3)


def test_pixels_are_changed_as_their_values_are_and_light_is_written_as_it_was_read() -> None:
    pixels = np.random.default_rng(1).integers(0, 256, (7, 8, 3), dtype=np.uint8)
    every = np.arange(256, dtype=np.uint8)[None, :, None]
    assert (light.pixels_of_light(light.light_of(every)) == every).all()
    for change in (
        lambda v: light.gamma(v, 0.4),
        lambda v: light.colour_cast(v, -70),
        lambda v: light.brightness(v, 1.5),
    ):
        directly = np.round(np.clip(change(pixels.astype(np.float32) / 255), 0, 1) * 255)
        assert np.abs(light.by_value(pixels, change).astype(int) - directly).max() <= 1
        assert light.by_value(pixels[..., :1], change).shape == (7, 8, 1)


def test_grey_pictures_have_no_colour_to_change() -> None:
    for change in (lambda v: light.colour_cast(v, 50), lambda v: light.saturation(v, 1)):
        assert (change(GREY) == GREY).all()
