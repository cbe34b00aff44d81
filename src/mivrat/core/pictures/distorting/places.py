"""Another place: rotation, tilt, shift, zoom, mirror; and things in the way: a covered patch, a coloured mark.

Pixels are 8-bit (height x width x channels). What comes in from beyond an edge is the picture, mirrored.
"""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray
from PIL import Image

Pixels = NDArray[np.uint8]
# The vertical field of view of the camera that is tilted, in degrees.
FIELD = 50.0
# Grey of a covered patch: the middle of the values.
GREY = 128


def rotated(pixels: Pixels, degrees: float) -> Pixels:
    """Turned clockwise about the middle."""
    turn = np.radians(degrees)
    # From places in the result to places in the picture: turned back.
    back = np.array([[np.cos(turn), np.sin(turn), 0], [-np.sin(turn), np.cos(turn), 0], [0, 0, 1]])
    return _taken(pixels, back)


def tilted(pixels: Pixels, degrees: float) -> Pixels:
    """Seen by a camera (vertical field of view 50°) that stands tilted about the horizontal axis against the plane of the picture, still
    pointed at its middle: above 0 what is on top is farther away."""
    height, turn = pixels.shape[0], np.radians(degrees)
    far = height / 2 / np.tan(np.radians(FIELD / 2))
    # A place (x, y) of the plane stands at (x, y cos t) and y sin t nearer than the middle; it is seen at far / (far - y sin t) of that.
    seen = np.array([[far, 0, 0], [0, far * np.cos(turn), 0], [0, -np.sin(turn), far]])
    return _taken(pixels, np.linalg.inv(seen))


def shifted(pixels: Pixels, share: float, degrees: float) -> Pixels:
    """Moved by this share of the shorter side, in whole pixels, in the direction ``degrees`` (0 right, 90 down)."""
    by = share * min(pixels.shape[:2])
    across, down = round(by * np.cos(np.radians(degrees))), round(by * np.sin(np.radians(degrees)))
    around = ((abs(down), abs(down)), (abs(across), abs(across)), (0, 0))
    top, left = abs(down) - down, abs(across) - across
    return np.pad(pixels, around, "symmetric")[top : top + pixels.shape[0], left : left + pixels.shape[1]]


def zoomed(pixels: Pixels, change: float) -> Pixels:
    """Enlarged about the middle by this share (-0.5: half as large)."""
    height, width = pixels.shape[:2]
    beside, above = (max(0, ceil(side / 2 * (1 / (1 + change) - 1))) for side in (width, height))
    padded = np.pad(pixels, ((above, above), (beside, beside), (0, 0)), "symmetric")
    middle, half = (beside + width / 2, above + height / 2), (width / 2 / (1 + change), height / 2 / (1 + change))
    box = (middle[0] - half[0], middle[1] - half[1], middle[0] + half[0], middle[1] + half[1])
    grey = pixels.shape[2] == 1
    made = np.asarray(
        Image.fromarray(padded[..., 0] if grey else padded).resize((width, height), Image.Resampling.BICUBIC, box)
    )
    return made[..., None] if grey else made


def mirrored(pixels: Pixels, axis: int) -> Pixels:
    """Mirrored left to right (``axis`` 1) or top to bottom (0)."""
    return np.ascontiguousarray(np.flip(pixels, axis))


def covered(pixels: Pixels, share: float, x: float, y: float) -> Pixels:
    """A grey square, its side this share of the picture's shorter one, with its middle at ``x`` and ``y`` as shares of the room there is."""
    (top, left), side = _room(pixels, share, x, y)
    found = pixels.copy()
    found[top : top + side, left : left + side] = GREY
    return found


def marked(pixels: Pixels, share: float, x: float, y: float, colour: tuple[int, int, int]) -> Pixels:
    """A round mark of this ``colour`` with smooth edges, its width this share of the picture's shorter side, at ``x`` and ``y`` as shares of
    the room there is; in a grey picture it has the colour's luma."""
    (top, left), side = _room(pixels, share, x, y)
    at = np.arange(side) - (side - 1) / 2
    away = np.sqrt(at[:, None] ** 2 + at[None, :] ** 2)
    cover = np.clip(side / 2 - away + 0.5, 0, 1)[..., None]
    given = np.asarray(colour, float)
    if pixels.shape[2] == 1:
        given = np.array([given @ [0.2126, 0.7152, 0.0722]])
    found = pixels.copy()
    part = found[top : top + side, left : left + side]
    part[...] = np.round(cover * given + (1 - cover) * part)
    return found


def _room(pixels: Pixels, share: float, x: float, y: float) -> tuple[tuple[int, int], int]:
    """Where a square of this share of the shorter side stands (top, left), and its side in pixels."""
    height, width = pixels.shape[:2]
    side = min(height, width, max(1, round(share * min(height, width))))
    return (round((height - side) * y), round((width - side) * x)), side


def _taken(pixels: Pixels, back: NDArray[np.float64]) -> Pixels:
    """The picture as it is seen where each place of the result shows the place that ``back`` (3 x 3, about the middle, x before y) gives."""
    height, width = pixels.shape[:2]
    corners = np.array([[x, y, 1.0] for x in (-width / 2, width / 2) for y in (-height / 2, height / 2)]).T
    there = back @ corners
    reach = np.abs(there[:2] / there[2]).max(axis=1) - (width / 2, height / 2)
    beside, above = (min(max(0, ceil(one) + 2), side) for one, side in zip(reach, (width, height), strict=True))
    padded = np.pad(pixels, ((above, above), (beside, beside), (0, 0)), "symmetric")
    middle = np.array([[1, 0, -width / 2], [0, 1, -height / 2], [0, 0, 1.0]])
    into = np.array([[1, 0, width / 2 + beside], [0, 1, height / 2 + above], [0, 0, 1.0]])
    whole = into @ back @ middle
    whole = whole / whole[2, 2]
    grey = pixels.shape[2] == 1
    picture = Image.fromarray(padded[..., 0] if grey else padded)
    numbers, straight = whole.ravel()[:8].tolist(), not whole[2, :2].any()
    made = picture.transform(
        (width, height),
        Image.Transform.AFFINE if straight else Image.Transform.PERSPECTIVE,
        numbers[:6] if straight else numbers,
        Image.Resampling.BICUBIC,
    )
    found = np.asarray(made)
    return found[..., None] if grey else found
