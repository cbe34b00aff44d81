"""Draws made-up pollen grains as a bright-field microscope would show them.

Light passes through the slide and is absorbed by stain (Beer-Lambert): every part of a grain adds
absorbance, and the picture is ``light * exp(-absorbance)``. All randomness comes from the generator
handed in, so a seed fixes a picture.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, zoom

Field = NDArray[np.float64]

CLASSES = ("birch", "alder", "hazel", "pine", "grass", "ragweed", "plantain", "nettle")
SIDE = 128
_OVERSAMPLING = 2
_STAIN = np.array([0.30, 1.0, 0.52])  # fuchsine takes green first, then blue
_INK = np.array([1.5, 2.0, 0.55])  # a violet felt pen


@dataclass(frozen=True)
class Scene:
    """What is on one slide crop, apart from chance.

    ``focus`` is the blur in pixels of the finished picture; ``stain`` multiplies absorbance;
    ``warmth`` tints the lamp from -1 (bluish) to 1 (yellowish); ``debris`` is the expected number of specks.
    """

    label: str
    ink_dot: bool = False
    focus: float = 0.6
    stain: float = 1.0
    warmth: float = 0.0
    debris: float = 5.0
    overlapping: str | None = None


class _Stage:
    """One grain's coordinates: pixels relative to its centre, turned by its rotation."""

    def __init__(self, side: int, rng: np.random.Generator, centre: tuple[float, float]) -> None:
        self.rng = rng
        ys, xs = np.mgrid[0:side, 0:side].astype(float)
        turn = rng.uniform(0, 2 * np.pi)
        dx, dy = xs - centre[0], ys - centre[1]
        self.x = dx * np.cos(turn) + dy * np.sin(turn)
        self.y = -dx * np.sin(turn) + dy * np.cos(turn)
        self.angle = np.arctan2(self.y, self.x)
        self.distance = np.hypot(self.x, self.y)

    def noise(self, grain_size: float) -> Field:
        """Band-limited noise with zero mean and unit deviation; features about ``grain_size`` pixels wide."""
        side = self.x.shape[0]
        coarse = self.rng.standard_normal((int(side / grain_size) + 3,) * 2)
        field = zoom(coarse, side / (coarse.shape[0] - 2), order=3)[:side, :side]
        return np.asarray((field - field.mean()) / field.std())


def _soft(inside: Field, width: float = 1.0) -> Field:
    """A smooth step: 0 well below zero, 1 well above it, over about ``width``."""
    return np.asarray(1.0 / (1.0 + np.exp(-np.clip(4.0 * inside / width, -40, 40))))


def _chord(rho: Field) -> Field:
    """Path length through a unit sphere at distance ``rho`` from its axis."""
    return np.sqrt(np.clip(1.0 - rho**2, 0.0, None))


def _bump(angle: Field, centre: float, width: float) -> Field:
    apart = np.angle(np.exp(1j * (angle - centre)))
    return np.asarray(np.exp(-0.5 * (apart / width) ** 2))


def _spot(stage: _Stage, x: float, y: float, radius: float, squeeze: float = 1.0, toward: float = 0.0) -> Field:
    """Distance to a spot's edge in pixels, positive inside; ``squeeze`` < 1 flattens it along ``toward``."""
    dx, dy = stage.x - x, stage.y - y
    along = dx * np.cos(toward) + dy * np.sin(toward)
    across = -dx * np.sin(toward) + dy * np.cos(toward)
    return np.asarray(radius - np.hypot(along / max(squeeze, 0.25), across))


def _body(stage: _Stage, outline: Field, wall: float, core: float, wall_depth: float, mottling: float) -> Field:
    """Absorbance of a hollow stained ball: its content, its wall seen edge-on, a little mottling."""
    rho = stage.distance / outline
    inner = rho / (1.0 - wall)
    shell = _chord(rho) - (1.0 - wall) * _chord(inner)
    content = core * _chord(inner) ** 0.7 * (1.0 + mottling * stage.noise(7.0) + 0.5 * mottling * stage.noise(3.0))
    return (content + wall_depth * shell) * _soft(outline - stage.distance, 1.5)


def _wobble(stage: _Stage, strength: float) -> Field:
    outline = np.ones_like(stage.angle)
    for order in (2, 3, 4, 5):
        outline += strength / order * stage.rng.normal() * np.cos(order * stage.angle + stage.rng.uniform(0, 6.3))
    return outline


def _rim_pores(stage: _Stage, outline: Field, angles: list[float], size: float, ring: float) -> Field:
    """Pores seen from the side: a pale gap in the wall with thickened lips."""
    radius = float(outline.mean())
    change = np.zeros_like(outline)
    for angle in angles:
        at = float(outline.flat[int(np.argmin(np.abs(np.angle(np.exp(1j * (stage.angle - angle))))))])
        x, y = (at - 0.35 * size) * np.cos(angle), (at - 0.35 * size) * np.sin(angle)
        change -= 0.75 * _soft(_spot(stage, x, y, 0.5 * size), 2.0)
        change += (
            ring
            * _soft(_spot(stage, x * 0.93, y * 0.93, 1.25 * size), 2.5)
            * _soft(-_spot(stage, x, y, 0.62 * size), 2.0)
        )
    return change * _soft(1.06 * radius - stage.distance + 3.0, 3.0)


def _three_pored(
    stage: _Stage, radius: float, corner: float, protrusion: float, ring: float, count: int
) -> tuple[Field, list[float]]:
    angles = [2 * np.pi * i / count + stage.rng.normal(0, 0.12) for i in range(count)]
    outline = _wobble(stage, 0.03)
    outline = outline * (1.0 + corner * np.cos(count * (stage.angle - angles[0])))
    for angle in angles:
        outline = outline + protrusion * _bump(stage.angle, angle, 0.15)
    return radius * outline, angles


def _birch(stage: _Stage, scale: float) -> Field:
    outline, pores = _three_pored(stage, 29 * scale, 0.02, 0.10, 0.5, 3)
    grain = _body(stage, outline, 0.10, 0.62, 1.6, 0.07)
    return grain + _rim_pores(stage, outline, pores, 5.4 * scale, 0.55)


def _alder(stage: _Stage, scale: float) -> Field:
    count = int(stage.rng.choice([4, 5, 5]))
    outline, pores = _three_pored(stage, 30 * scale, 0.035, 0.07, 0.5, count)
    grain = _body(stage, outline, 0.10, 0.60, 1.6, 0.07) + _rim_pores(stage, outline, pores, 4.8 * scale, 0.5)
    band = np.zeros_like(grain)  # thickened bands run from pore to pore under the wall
    for first, second in zip(pores, [*pores[1:], pores[0] + 2 * np.pi], strict=True):
        middle = (first + second) / 2
        reach = (second - first) / 2
        apart = np.angle(np.exp(1j * (stage.angle - middle)))
        path = outline * (0.86 - 0.20 * np.cos(np.clip(apart / reach, -1, 1) * np.pi / 2))
        band += np.exp(-0.5 * ((stage.distance - path) / (1.5 * scale)) ** 2) * (np.abs(apart) < reach)
    return grain + 0.20 * band


def _hazel(stage: _Stage, scale: float) -> Field:
    outline, pores = _three_pored(stage, 30.5 * scale, 0.045, 0.03, 0.5, 3)
    grain = _body(stage, outline, 0.08, 0.60, 1.5, 0.07)
    return grain + _rim_pores(stage, outline, pores, 5.2 * scale, 0.22)


def _pine(stage: _Stage, scale: float) -> Field:
    rng = stage.rng
    long, short = 27 * scale * rng.uniform(0.93, 1.07), 21 * scale * rng.uniform(0.93, 1.07)
    total = np.zeros_like(stage.x)
    for side in (-1.0, 1.0):
        cx, cy = side * 26 * scale, 11 * scale
        sac = np.hypot((stage.x - cx) / (19 * scale), (stage.y - cy) / (17 * scale))
        net = np.abs(stage.noise(5.0)) < 0.33
        lace = gaussian_filter(net.astype(float), 0.9)
        total += (0.30 * _chord(sac * 0.99) + 0.9 * (_chord(sac) - 0.93 * _chord(sac / 0.93)) + 0.34 * lace) * _soft(
            (1 - sac) * 18 * scale, 1.5
        )
    rho = np.hypot(stage.x / long, (stage.y + 3 * scale) / short)
    cap = 0.45 * np.exp(-0.5 * ((rho - 0.93) / 0.07) ** 2) * (stage.y < 2)
    body = (
        0.80 * _chord(rho / 1.01) ** 0.7 * (1 + 0.08 * stage.noise(5.0))
        + 1.3 * (_chord(rho) - 0.92 * _chord(rho / 0.92))
        + cap
    )
    inside = _soft((1 - rho) * short, 1.5)
    return np.asarray(total * (1 - 0.45 * inside) + body * inside)


def _grass(stage: _Stage, scale: float) -> Field:
    outline = 40 * scale * _wobble(stage, 0.035)
    grain = _body(stage, outline, 0.055, 0.50, 1.7, 0.06)
    grain = grain * (1 + 0.05 * stage.noise(2.2))
    angle, out = stage.rng.uniform(0, 6.3), stage.rng.uniform(0.15, 0.86)
    at = out * 40 * scale
    squeeze = float(np.sqrt(max(1 - out**2, 0.05)))
    x, y = at * np.cos(angle), at * np.sin(angle)
    ring = _soft(_spot(stage, x, y, 6.6 * scale, squeeze, angle), 1.8) * _soft(
        -_spot(stage, x, y, 3.1 * scale, squeeze, angle), 1.5
    )
    hole = _soft(_spot(stage, x, y, 2.9 * scale, squeeze, angle), 1.5)
    return grain + 0.55 * ring - 0.35 * hole


def _sphere_points(stage: _Stage, count: int) -> NDArray[np.float64]:
    """Evenly spread points on a sphere (golden spiral), turned at random: count x 3."""
    i = np.arange(count) + 0.5
    polar, around = np.arccos(1 - 2 * i / count), np.pi * (1 + 5**0.5) * i
    points = np.stack([np.cos(around) * np.sin(polar), np.sin(around) * np.sin(polar), np.cos(polar)], axis=1)
    turn, _ = np.linalg.qr(stage.rng.standard_normal((3, 3)))
    return np.asarray(points @ turn)


def _ragweed(stage: _Stage, scale: float) -> Field:
    spikes = int(stage.rng.integers(17, 23))
    phase = stage.rng.uniform(0, 6.3)
    tooth = np.abs(np.angle(np.exp(1j * (spikes * stage.angle + phase)))) / np.pi
    outline = 24.5 * scale * (_wobble(stage, 0.03) + 0.07 * (1 - tooth) ** 2.0)
    grain = _body(stage, outline, 0.10, 0.52, 1.5, 0.05)
    for x, y, z in _sphere_points(stage, 56):
        if z > 0.15:
            spot = _spot(stage, 23.5 * scale * x, 23.5 * scale * y, 1.7 * scale, z, float(np.arctan2(y, x)))
            grain = grain + 0.24 * _soft(spot, 1.8)
    return grain


def _plantain(stage: _Stage, scale: float) -> Field:
    outline = 32 * scale * (_wobble(stage, 0.035) + 0.012 * np.cos(11 * stage.angle + stage.rng.uniform(0, 6.3)))
    grain = _body(stage, outline, 0.075, 0.58, 1.5, 0.10)
    grain = grain + 0.10 * np.clip(stage.noise(4.5), 0, None) * _soft(outline - stage.distance - 2, 2.0)
    for x, y, z in _sphere_points(stage, int(stage.rng.integers(9, 15))):
        if z > 0.12:
            at = 31 * scale * np.array([x, y])
            toward = float(np.arctan2(y, x))
            hole = _soft(_spot(stage, at[0], at[1], 3.4 * scale, z, toward), 1.6)
            lip = _soft(_spot(stage, at[0], at[1], 4.9 * scale, z, toward), 1.6) - hole
            grain = grain - 0.42 * hole + 0.12 * lip
    return grain


def _nettle(stage: _Stage, scale: float) -> Field:
    outline, pores = _three_pored(stage, 22.5 * scale, 0.012, 0.03, 0.5, 3)
    grain = _body(stage, outline, 0.08, 0.50, 1.5, 0.05)
    return grain + _rim_pores(stage, outline, pores, 3.4 * scale, 0.4)


_DRAWERS: dict[str, Callable[[_Stage, float], Field]] = {
    "birch": _birch,
    "alder": _alder,
    "hazel": _hazel,
    "pine": _pine,
    "grass": _grass,
    "ragweed": _ragweed,
    "plantain": _plantain,
    "nettle": _nettle,
}


def _debris(side: int, rng: np.random.Generator, expected: float) -> Field:
    """Absorbance of specks and now and then a fibre."""
    ys, xs = np.mgrid[0:side, 0:side].astype(float)
    total = np.zeros((side, side))
    for _ in range(rng.poisson(expected)):
        x, y, radius = rng.uniform(0, side), rng.uniform(0, side), rng.gamma(2.0, 1.3)
        stretch, turn = rng.uniform(1, 2.2), rng.uniform(0, np.pi)
        along = (xs - x) * np.cos(turn) + (ys - y) * np.sin(turn)
        across = -(xs - x) * np.sin(turn) + (ys - y) * np.cos(turn)
        total += rng.uniform(0.15, 0.7) * _soft(radius - np.hypot(along / stretch, across), 1.5)
    if rng.random() < 0.04 * expected:
        turn, offset, bend = rng.uniform(0, np.pi), rng.uniform(-0.6, 0.6) * side, rng.normal(0, 0.002)
        along = (xs - side / 2) * np.cos(turn) + (ys - side / 2) * np.sin(turn)
        across = -(xs - side / 2) * np.sin(turn) + (ys - side / 2) * np.cos(turn)
        total += 0.28 * np.exp(-0.5 * ((across - offset - bend * along**2) / 1.6) ** 2)
    return total


def _ink(side: int, rng: np.random.Generator) -> tuple[Field, tuple[float, float, float]]:
    """A pen dot near a corner: its opacity, and where it stands (x, y, radius in canvas pixels)."""
    radius = rng.uniform(7.5, 10.5) * _OVERSAMPLING
    inset = radius + rng.uniform(4, 9) * _OVERSAMPLING
    x = inset if rng.random() < 0.5 else side - inset
    y = inset if rng.random() < 0.5 else side - inset
    ys, xs = np.mgrid[0:side, 0:side].astype(float)
    angle = np.arctan2(ys - y, xs - x)
    edge = radius * (
        1 + 0.08 * np.cos(2 * angle + rng.uniform(0, 6.3)) + 0.05 * np.cos(3 * angle + rng.uniform(0, 6.3))
    )
    distance = np.hypot(xs - x, ys - y)
    dot = _soft(edge - distance, 3.0) * (0.80 + 0.25 * (distance / edge).clip(0, 1) ** 3)
    return dot, (x, y, radius)


def draw(scene: Scene, rng: np.random.Generator) -> tuple[NDArray[np.uint8], tuple[float, float, float] | None]:
    """Draw one slide crop.

    Returns the picture (SIDE x SIDE x 3, uint8) and the ink dot as (x, y, radius) in its pixels, or None.
    """
    side = SIDE * _OVERSAMPLING
    centre = (side / 2 + rng.normal(0, 5), side / 2 + rng.normal(0, 5))
    scale = _OVERSAMPLING * float(np.exp(rng.normal(0, 0.055)))
    stain = scene.stain * float(np.exp(rng.normal(0, 0.13)))
    grain = np.clip(_DRAWERS[scene.label](_Stage(side, rng, centre), scale), 0, None)
    if scene.overlapping:
        turn = rng.uniform(0, 2 * np.pi)
        beside = (centre[0] + 88 * np.cos(turn), centre[1] + 88 * np.sin(turn))
        grain = grain + np.clip(_DRAWERS[scene.overlapping](_Stage(side, rng, beside), scale), 0, None)
    blur = scene.focus * _OVERSAMPLING
    sharp = gaussian_filter(grain, blur)
    sharp = sharp - 0.18 * (gaussian_filter(grain, blur + 5) - sharp)  # the faint halo of a slightly missed focus
    specks = gaussian_filter(_debris(side, rng, scene.debris), blur + rng.uniform(0, 2.5))
    hue = _STAIN + np.array([rng.normal(0, 0.04), 0.0, rng.normal(0, 0.07)])
    absorbance = stain * sharp[..., None] * hue + specks[..., None] * np.array([0.55, 0.62, 0.72])
    dot_at: tuple[float, float, float] | None = None
    dot = np.zeros((side, side))
    if scene.ink_dot:
        dot, at = _ink(side, rng)
        dot = gaussian_filter(dot, max(1.0, blur * 0.8))
        dot_at = (at[0] / _OVERSAMPLING, at[1] / _OVERSAMPLING, at[2] / _OVERSAMPLING)
    absorbance = absorbance + dot[..., None] * _INK * 0.62
    ys, xs = np.mgrid[0:side, 0:side] / side - 0.5
    tilt = rng.uniform(0, 2 * np.pi)
    uneven = (
        1 + rng.uniform(0.0, 0.10) * (xs * np.cos(tilt) + ys * np.sin(tilt)) - rng.uniform(0.10, 0.30) * (xs**2 + ys**2)
    )
    warmth = scene.warmth + rng.normal(0, 0.25)
    lamp = np.array([0.925 + 0.018 * warmth, 0.905, 0.90 - 0.040 * warmth]) * rng.uniform(0.95, 1.03)
    light = lamp * uneven[..., None] * np.exp(-absorbance.clip(0, None))
    small = light.reshape(SIDE, _OVERSAMPLING, SIDE, _OVERSAMPLING, 3).mean(axis=(1, 3))
    small = small + rng.normal(0, 0.009, small.shape) + rng.normal(0, 0.006, (SIDE, SIDE, 1))
    return (small.clip(0, 1) * 255 + 0.5).astype(np.uint8), dot_at
