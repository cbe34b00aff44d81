"""The kinds of distortion, one record each: name, unit, levels, what it does; and how they are spelled."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import minus
from mivrat.core.pictures.distorting import light, optics, places, sensor

Pixels = NDArray[np.uint8]
# A mark's colour, where none is said.
VIOLET = "6a2cc8"


class Setting(NamedTuple):
    """What a distortion is done with beside its level: ``scale`` pixels of the photo make one of the prepared image, ``rng`` tells what is
    left to chance, ``given`` what is not."""

    scale: float
    rng: np.random.Generator
    given: Mapping[str, str]

    def number(self, name: str, otherwise: float | None = None) -> float:
        """What is given by this name; else ``otherwise``, or drawn evenly from 0 to 1."""
        if name in self.given:
            return float(self.given[name])
        return float(self.rng.random()) if otherwise is None else otherwise

    def direction(self) -> float:
        """The angle in degrees, drawn where none is given."""
        return float(self.given["angle"]) if "angle" in self.given else float(self.rng.random() * 360)


@dataclass(frozen=True)
class Kind:
    """A kind of distortion. ``levels`` are sensible ones, from mild to severe; a level lies from ``low`` to ``high``, and at 0 the photo is
    untouched. ``given`` are the names of what else may be said, with what holds where it is not. ``falling``: the lower, the more
    severe (0 aside). ``source`` is that of its model."""

    key: str
    name: str
    unit: str
    meaning: str
    levels: tuple[float, ...]
    low: float
    high: float
    apply: Callable[[Pixels, float, Setting], Pixels]
    given: Mapping[str, str] = field(default_factory=dict)
    falling: bool = False
    whole: bool = False
    source: str = ""


def _by_value(change: Callable[[light.Values, float], light.Values]) -> Callable[[Pixels, float, Setting], Pixels]:
    """A change of each value by itself as one of pixels."""
    return lambda pixels, level, how: light.by_value(pixels, lambda values: change(values, level))


def _contrast(pixels: Pixels, level: float, how: Setting) -> Pixels:
    mean = float(pixels.mean(dtype=np.float64)) / 255
    return light.by_value(pixels, lambda values: light.contrast(values, level, mean))


def _saturation(pixels: Pixels, level: float, how: Setting) -> Pixels:
    return light.eight_bit(light.saturation(pixels.astype(np.float32) / np.float32(255), level))


_ANGLE = {"angle": "drawn for each image"}
_PLACE = {"x": "drawn for each image", "y": "drawn for each image"}
_DAYLIGHT = "CIE 15:2004, the D illuminants"

# fmt: off
KINDS: tuple[Kind, ...] = (
    Kind("brightness", "Brightness", "stops", "more light (less, where negative); each stop doubles it", (-2, -1, 1, 2), -6, 6,
         _by_value(light.brightness), source="IEC 61966-2-1"),
    Kind("contrast", "Contrast", "share", "values farther from their mean by this share", (-0.75, -0.5, -0.25, 0.5, 1), -1, 4,
         _contrast),
    Kind("gamma", "Gamma", "doublings", "values to the power of 2 to this: middle tones darker, black and white kept", (-1, -0.5, 0.5, 1), -3, 3,
         _by_value(light.gamma)),
    Kind("cast", "Colour cast", "mired", "another daylight, warmer by this (cooler, where negative)", (-80, -40, 40, 80), -110, 95,
         _by_value(light.colour_cast), source=_DAYLIGHT),
    Kind("saturation", "Saturation", "share", "colours farther from grey by this share; -1 leaves grey", (-1, -0.5, 0.5, 1), -1, 4,
         _saturation),
    Kind("uneven", "Uneven light", "stops", "light that falls off by this from one side to the other", (1, 2, 3), 0, 8,
         lambda pixels, level, how: light.uneven(pixels, level, how.direction()), given=_ANGLE),
    Kind("blur", "Out of focus", "px", "a point becomes an even disc of this standard deviation, in pixels of the prepared image",
         (0.5, 1, 1.5, 2, 3), 0, 50, lambda pixels, level, how: optics.defocus(pixels, level * how.scale), source="geometrical optics"),
    Kind("motion", "Motion blur", "px", "a point becomes a line of this length, in pixels of the prepared image", (2, 4, 8), 0, 200,
         lambda pixels, level, how: optics.motion(pixels, level * how.scale, how.direction()), given=_ANGLE),
    Kind("resolution", "Fewer pixels", "px", "one pixel stands for this many of the prepared image, side by side", (2, 3, 4, 6), 0, 100,
         lambda pixels, level, how: optics.fewer_pixels(pixels, level * how.scale)),
    Kind("jpeg", "JPEG quality", "1 to 100", "compressed as JPEG of this quality; 0 is untouched", (70, 40, 20, 10, 5), 0, 100,
         lambda pixels, level, how: optics.compressed(pixels, round(level)), falling=True, whole=True, source="ISO/IEC 10918-1"),
    Kind("noise", "Noise", "of 0 to 1", "normal noise of this standard deviation in each channel, of the prepared image's pixels",
         (0.02, 0.05, 0.1, 0.2), 0, 1, lambda pixels, level, how: sensor.noise(pixels, level, how.scale, how.rng)),
    Kind("shot", "Shot noise", "of white", "light counted in photons: white varies by this", (0.05, 0.1, 0.2), 0, 1,
         lambda pixels, level, how: sensor.shot_noise(pixels, level, how.scale, how.rng), source="Poisson's law"),
    Kind("faulty", "Faulty pixels", "share", "this share of the prepared image's pixels black or white", (0.005, 0.02, 0.05), 0, 1,
         lambda pixels, level, how: sensor.faulty_pixels(pixels, level, how.scale, how.rng)),
    Kind("rotation", "Rotation", "degrees", "turned clockwise about the middle", (-30, -15, 15, 30), -180, 180,
         lambda pixels, level, how: places.rotated(pixels, level)),
    Kind("tilt", "Tilt", "degrees", "seen from above or below by this", (-30, -15, 15, 30), -45, 45,
         lambda pixels, level, how: places.tilted(pixels, level), source="pinhole camera, vertical field of view 50°"),
    Kind("shift", "Shift", "of the side", "moved by this share of the shorter side", (0.05, 0.1, 0.2), 0, 0.9,
         lambda pixels, level, how: places.shifted(pixels, level, how.direction()), given=_ANGLE),
    Kind("zoom", "Zoom", "share", "enlarged about the middle by this share", (-0.4, -0.2, 0.25, 0.5, 1), -0.6, 9,
         lambda pixels, level, how: places.zoomed(pixels, level)),
    Kind("mirror-across", "Mirrored left to right", "yes or no", "mirrored left to right (1)", (1,), 0, 1,
         lambda pixels, level, how: places.mirrored(pixels, 1), whole=True),
    Kind("mirror-down", "Mirrored top to bottom", "yes or no", "mirrored top to bottom (1)", (1,), 0, 1,
         lambda pixels, level, how: places.mirrored(pixels, 0), whole=True),
    Kind("cover", "Covered patch", "of the side", "a grey square whose side is this share of the shorter one", (0.1, 0.2, 0.3, 0.5), 0, 1,
         lambda pixels, level, how: places.covered(pixels, level, how.number("x"), how.number("y")), given=_PLACE),
    Kind("mark", "Coloured mark", "of the side", "a round mark whose width is this share of the shorter side", (0.05, 0.1, 0.15, 0.2), 0, 1,
         lambda pixels, level, how: places.marked(pixels, level, how.number("x", 0.9), how.number("y", 0.9), _colour(how.given)),
         given={"x": "0.9", "y": "0.9", "colour": VIOLET}),
)
# fmt: on
BY_KEY = {one.key: one for one in KINDS}
# Of a kind it is said by this name what is done to the photo after it.
WITH = "with"


def _colour(given: Mapping[str, str]) -> tuple[int, int, int]:
    red, green, blue = bytes.fromhex(given.get("colour", VIOLET))
    return red, green, blue


@dataclass(frozen=True)
class Distortion:
    """A kind at a level; ``given`` is what else was said, by name."""

    kind: str
    level: float
    given: tuple[tuple[str, str], ...] = ()

    @property
    def spelled(self) -> str:
        """As it is known in files: kind, what was said, level."""
        return f"{spelled_kind(self.kind, self.given)}:{self.level:g}"

    def apply(self, pixels: Pixels, scale: float, content: bytes, seed: int) -> Pixels:
        """The photo (height x width x channels, 8-bit) distorted; the same at level 0. ``scale`` pixels of it make one of the prepared image;
        what is left to chance is told by its ``content`` and the seed, alike for all levels of a kind."""
        if self.level == 0:
            return pixels
        drawn = hashlib.sha256(content + spelled_kind(self.kind, self.given).encode()).digest()[:16]
        rng = np.random.default_rng((seed, *np.frombuffer(drawn, np.uint32).tolist()))
        found = BY_KEY[self.kind].apply(pixels, self.level, Setting(scale, rng, dict(self.given)))
        return found if self.further is None else self.further.apply(found, scale, content, seed)

    @property
    def further(self) -> Distortion | None:
        """What is done to the photo after it, where two are combined."""
        said = dict(self.given).get(WITH)
        if said is None:
            return None
        kind, _, level = said.partition(" ")
        return Distortion(kind, float(level))


# Units that are said after a number as they are; others are shares and whole numbers that go without saying.
SAID = ("px", "stops", "degrees", "mired", "doublings")


def level_in_words(one: Distortion) -> str:
    """A level of a kind, such as ``defocus blur 1.5 px``."""
    kind = BY_KEY[one.kind]
    name = kind.name if kind.name[:2].isupper() else kind.name.lower()
    return f"{name} {minus(f'{one.level:g}')}{f' {kind.unit}' if kind.unit in SAID else ''}{given_in_words(one.given)}"


def given_in_words(given: Sequence[tuple[str, str]]) -> str:
    """What was said of a kind beside its level, to stand behind it; empty without."""
    told = "".join(f", {word} {value}" for word, value in given if word != WITH)
    further = Distortion("", 0.0, tuple(given)).further
    return told if further is None else f"{told}, then {level_in_words(further)}"


def kind_in_words(kind: str, given: Sequence[tuple[str, str]]) -> str:
    """A kind's name with what was said of it."""
    return BY_KEY[kind].name + given_in_words(given)


def spelled_kind(kind: str, given: Sequence[tuple[str, str]]) -> str:
    """A kind with what was said of it, such as ``motion@angle=30``."""
    return kind + ("@" + ";".join(f"{name}={value}" for name, value in given) if given else "")


def sweep_from_text(text: str) -> list[Distortion]:
    """The levels of a kind, from mild to severe, as ``blur:0,0.5,1``, ``motion@angle=30:2,4``, or ``blur`` for the kind's own ones.
    Two kinds make a grid, the second done after the first: ``blur:1,2+noise:0.05,0.1``. InputError where it is no such thing.

    >>> [one.spelled for one in sweep_from_text("blur:1,0,0.5")]
    ['blur:0', 'blur:0.5', 'blur:1']
    >>> [one.spelled for one in sweep_from_text("blur:1,2+noise:0,0.1")]
    ['blur:1', 'blur:2', 'blur@with=noise 0.1:1', 'blur@with=noise 0.1:2']
    """
    first, joined, second = text.partition("+")
    if joined:
        return _grid(sweep_from_text(first.strip()), second.strip(), text)
    head, _, tail = text.partition(":")
    name, _, said = head.partition("@")
    kind = BY_KEY.get(name.strip())
    if kind is None:
        raise InputError(
            f"{name.strip()!r} is not a kind of distortion", where=text, hint=f"use one of {', '.join(BY_KEY)}"
        )
    given = _given(kind, said, text)
    levels = kind.levels
    if tail.strip():
        try:
            levels = tuple(float(part) for part in tail.split(","))
        except ValueError:
            raise InputError(
                "is not a list of levels", where=text, hint=f"such as {kind.key}:{_listed(kind.levels)}"
            ) from None
    for level in levels:
        if not kind.low <= level <= kind.high or (kind.whole and level != round(level)):
            whole = "a whole number " if kind.whole else ""
            raise InputError(
                f"{level:g} is out of range",
                where=text,
                hint=f"a level of {kind.key} is {whole}from {kind.low:g} to {kind.high:g}",
            )
    if len(set(levels)) < len(levels):
        raise InputError("names a level twice", where=text, hint="leave one out")
    return [Distortion(kind.key, level, given) for level in sorted(levels, key=lambda one: severity(kind, one))]


def _grid(firsts: Sequence[Distortion], second: str, text: str) -> list[Distortion]:
    """Every level of the first kind with every level of the second; with level 0 of either the other alone is left."""
    seconds = sweep_from_text(second)
    if any(one.given for one in (*seconds, *(one for one in firsts if WITH in dict(one.given)))):
        raise InputError(
            "two kinds can be combined, and what else is said is said of the first",
            where=text,
            hint="such as blur:1,2+noise:0.05,0.1",
        )
    if seconds[0].kind == firsts[0].kind:
        raise InputError("combines a kind with itself", where=text, hint="name two kinds")
    found = []
    for other in seconds:
        for one in firsts:
            if not other.level:
                found.append(one)
            elif one.level:
                found.append(replace(one, given=tuple(sorted((*one.given, (WITH, f"{other.kind} {other.level:g}"))))))
    return found


def severity(kind: Kind, level: float) -> float:
    """What levels of a kind are put in order by: from the lowest to the highest; of JPEG quality untouched first, then falling."""
    return level if not kind.falling else (-1000.0 if level == 0 else -level)


def _given(kind: Kind, said: str, text: str) -> tuple[tuple[str, str], ...]:
    found = {}
    for part in filter(None, said.split(";")):
        name, _, value = (one.strip() for one in part.partition("="))
        if name == WITH:
            other, _, level = value.partition(" ")
            _grid([Distortion(kind.key, 1.0)], f"{other}:{level or 'none'}", text)
            found[name] = f"{other} {float(level):g}"
            continue
        if name not in kind.given:
            known = ", ".join(kind.given) or "nothing"
            raise InputError(f"{name!r} cannot be said of {kind.key}", where=text, hint=f"{known} can be said of it")
        good = re.fullmatch(r"[0-9a-fA-F]{6}", value) if name == "colour" else _is_number(value, name)
        if not good:
            hint = {"colour": "six hexadecimal digits", "angle": "degrees"}.get(name, "a share from 0 to 1")
            raise InputError(f"{value!r} is not what {name} takes", where=text, hint=f"give {hint}")
        found[name] = value.lower()
    return tuple(sorted(found.items()))


def _is_number(text: str, name: str) -> bool:
    try:
        value = float(text)
    except ValueError:
        return False
    return -360 <= value <= 360 if name == "angle" else 0 <= value <= 1


def _listed(levels: Sequence[float]) -> str:
    return ",".join(f"{one:g}" for one in levels)
