"""Optics by their physics: how far a point spreads, that no light is lost, what smaller pixels cannot show."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.pictures.distorting import light, optics


def spread_of(kernel: np.ndarray) -> np.ndarray:
    """The variances of a kernel, down and across, and their covariance, by loops over its pixels."""
    middle = len(kernel) // 2
    found = np.zeros(3)
    for (y, x), part in np.ndenumerate(kernel):
        found += part * np.array([(y - middle) ** 2, (x - middle) ** 2, (y - middle) * (x - middle)])
    return found


@pytest.mark.parametrize("sigma", [0.7, 1.5, 4.0])
def test_a_point_becomes_a_disc_of_this_deviation(sigma: float) -> None:
    kernel = optics.disc(2 * sigma)
    assert kernel.sum() == pytest.approx(1)
    # A pixel itself has a variance of 1/12, which the disc's points within pixels take off again.
    assert spread_of(kernel)[:2] == pytest.approx([sigma**2, sigma**2], rel=0.12 / sigma)
    assert (kernel == kernel.T).all()
    assert (kernel == kernel[::-1, ::-1]).all()


@pytest.mark.parametrize("degrees", [0, 90, 30, -45])
def test_a_point_becomes_a_line_of_this_length(degrees: float) -> None:
    kernel = optics.line(12, degrees)
    assert kernel.sum() == pytest.approx(1)
    down, across, both = spread_of(kernel)
    turn = np.radians(degrees)
    # An even line of length l has the variance l²/12 along it; sharing out between pixels adds up to a quarter.
    assert down == pytest.approx(12 * np.sin(turn) ** 2, abs=0.3)
    assert across == pytest.approx(12 * np.cos(turn) ** 2, abs=0.3)
    assert both == pytest.approx(12 * np.sin(turn) * np.cos(turn), abs=0.3)


def test_light_is_spread_and_none_is_lost() -> None:
    """A point of light, whose spread is seen in amounts of light; and an even picture, which stays as it is."""
    black = np.zeros((41, 61, 1), np.uint8)
    black[20, 30] = 255
    found = light.light_of(optics.defocus(black, 2.0))[..., 0]
    assert found.sum() == pytest.approx(1, abs=0.03)
    assert found[14:27, 24:37] == pytest.approx(np.pad(optics.disc(4), 2)[:13, :13], abs=2e-3)
    even = np.full((7, 5, 3), 77, np.uint8)
    for changed in (optics.defocus(even, 3), optics.motion(even, 9, 20), optics.fewer_pixels(even, 3)):
        assert (changed == even).all()


def test_edges_are_mirrored() -> None:
    """Where the kernel reaches over the edge the picture itself counts again: by loops."""
    pixels = np.random.default_rng(1).integers(0, 256, (6, 8, 1), dtype=np.uint8)
    kernel = optics.disc(2.6)
    reach, amount = len(kernel) // 2, light.light_of(pixels)[..., 0]
    expected = np.zeros((6, 8))
    for y in range(6):
        for x in range(8):
            for (dy, dx), part in np.ndenumerate(kernel):
                yy, xx = y + dy - reach, x + dx - reach
                yy = -yy - 1 if yy < 0 else 11 - yy if yy > 5 else yy
                xx = -xx - 1 if xx < 0 else 15 - xx if xx > 7 else xx
                expected[y, x] += part * amount[yy, xx]
    as_values = np.round(255 * light.encoded(expected.astype(np.float32)))
    assert np.abs(optics.defocus(pixels, 1.3)[..., 0] - as_values).max() <= 1


def test_fewer_pixels_lose_what_is_finer_and_keep_what_is_coarser() -> None:
    board = (np.indices((24, 24)).sum(axis=0) % 2 * 200).astype(np.uint8)[..., None]
    assert (optics.fewer_pixels(board, 2) == 100).all()
    halves = np.repeat(np.uint8([50, 200]), 12)[None, :, None].repeat(24, axis=0)
    assert np.abs(optics.fewer_pixels(halves, 2)[:, [0, 8, -9, -1]] - halves[:, [0, 8, -9, -1]].astype(int)).max() <= 8
    assert optics.fewer_pixels(halves, 1) is halves


def test_compression_loses_more_at_lower_quality() -> None:
    photo = np.random.default_rng(2).integers(0, 256, (32, 40, 3), dtype=np.uint8)
    off = [np.abs(optics.compressed(photo, q).astype(int) - photo).mean() for q in (95, 60, 20, 1)]
    assert off == sorted(off)
    assert off[0] < off[-1]
    grey = photo[..., :1]
    assert optics.compressed(grey, 100).shape == grey.shape
    assert np.abs(optics.compressed(grey, 100).astype(int) - grey).max() <= 2
