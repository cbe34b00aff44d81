"""Places by geometry: where a dot goes, that there and back is the picture again, and what is covered."""

from __future__ import annotations

import numpy as np
import pytest

from mivrat.core.pictures.distorting import places


def dotted(x: float, y: float, height: int = 80, width: int = 120) -> np.ndarray:
    """A smooth bright dot at (x, y) from the middle."""
    down, across = np.indices((height, width)) + 0.5
    away = (across - width / 2 - x) ** 2 + (down - height / 2 - y) ** 2
    return np.round(255 * np.exp(-away / 8)).astype(np.uint8)[..., None]


def seen_at(pixels: np.ndarray, near: tuple[float, float] | None = None) -> tuple[float, float]:
    """Where the brightest spot lies, from the middle: its centre of mass; of several mirrored ones the one ``near`` a place."""
    height, width = pixels.shape[:2]
    light = np.where(pixels[..., 0] > 60, pixels[..., 0], 0).astype(float)
    down, across = np.indices((height, width)) + 0.5
    if near is not None:
        light[(across - width / 2 - near[0]) ** 2 + (down - height / 2 - near[1]) ** 2 > 100] = 0
    return float((light * across).sum() / light.sum() - width / 2), float(
        (light * down).sum() / light.sum() - height / 2
    )


def test_a_dot_goes_where_geometry_says() -> None:
    dot = dotted(20, 0)
    assert seen_at(places.rotated(dot, 90)) == pytest.approx((0, 20), abs=0.2)
    turn = np.radians(30)
    assert seen_at(places.rotated(dot, 30)) == pytest.approx((20 * np.cos(turn), 20 * np.sin(turn)), abs=0.2)
    assert seen_at(places.shifted(dot, 0.1, 0)) == pytest.approx((28, 0), abs=0.2)
    assert seen_at(places.shifted(dot, 0.1, 90)) == pytest.approx((20, 8), abs=0.2)
    assert seen_at(places.zoomed(dot, 0.5)) == pytest.approx((30, 0), abs=0.3)
    assert seen_at(places.zoomed(dot, -0.5), (10, 0)) == pytest.approx((10, 0), abs=0.3)
    assert seen_at(places.mirrored(dotted(20, 7), 1)) == pytest.approx((-20, 7), abs=0.1)
    assert seen_at(places.mirrored(dotted(20, 7), 0)) == pytest.approx((20, -7), abs=0.1)


@pytest.mark.parametrize("degrees", [20, -35])
def test_a_tilted_plane_is_seen_as_by_a_pinhole(degrees: float) -> None:
    """By hand: the plane turned in space, and each of its places projected to the picture."""
    turn, far = np.radians(degrees), 40 / np.tan(np.radians(25))
    for x, y in ((20, 12), (-30, -14)):
        nearer = y * np.sin(turn)
        expected = x * far / (far - nearer), y * np.cos(turn) * far / (far - nearer)
        assert seen_at(places.tilted(dotted(x, y), degrees), expected) == pytest.approx(expected, abs=0.5)


def test_there_and_back_is_the_picture_and_beyond_its_edges_it_is_mirrored() -> None:
    smooth = np.round(127 + 100 * np.sin(np.indices((60, 90)).sum(axis=0) / 9)).astype(np.uint8)[..., None].repeat(3, 2)
    back = places.rotated(places.rotated(smooth, 12), -12)
    assert np.abs(back.astype(int) - smooth)[15:-15, 15:-15].max() <= 3
    assert places.mirrored(places.mirrored(smooth, 0), 0).tobytes() == smooth.tobytes()
    moved = places.shifted(smooth, 0.5, 0)
    assert np.abs(moved[:, 30:].astype(int) - smooth[:, :60]).max() <= 1
    assert np.abs(moved[:, :30].astype(int) - smooth[:, 29::-1]).max() <= 1
    even = np.full((40, 50, 3), 90, np.uint8)
    for made in (
        places.rotated(even, 77),
        places.tilted(even, -45),
        places.zoomed(even, -0.5),
        places.shifted(even, 0.9, 225),
    ):
        assert (made == 90).all()


def test_a_patch_covers_its_share_and_a_mark_has_its_colour() -> None:
    photo = np.full((50, 80, 3), 200, np.uint8)
    found = places.covered(photo, 0.4, 0.5, 0.5)
    assert (found == places.GREY).all(axis=2).sum() == 20 * 20
    assert (found[15:35, 30:50] == places.GREY).all()
    found = places.marked(photo, 0.4, 1, 0, (106, 44, 200))
    assert found[10, 70].tolist() == [106, 44, 200]
    touched = (found != 200).any(axis=2)
    assert not touched[:, :60].any()
    assert not touched[20:].any()
    share = (200 - found[..., 1].astype(float)).sum() / (200 - 44)
    assert share == pytest.approx(np.pi * 10**2, rel=0.03)
    grey = places.marked(photo[..., :1], 0.4, 0, 0, (106, 44, 200))
    assert grey[10, 10, 0] == round(0.2126 * 106 + 0.7152 * 44 + 0.0722 * 200)
    assert (places.covered(np.zeros((1, 1, 3), np.uint8), 0.1, 0.3, 1) == places.GREY).all()
