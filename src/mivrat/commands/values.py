"""What the values of options are: each reads one from its text, or says what it should have been."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable
from pathlib import Path

from mivrat.core.base.errors import InputError


def whole(least: int) -> Callable[[str], int]:
    """Whole numbers of at least ``least``."""

    def number(text: str) -> int:
        if not text.isascii() or not text.isdigit() or len(text) > 18 or int(text) < least:
            raise argparse.ArgumentTypeError(f"{text!r} is not a whole number of at least {least}")
        return int(text)

    return number


def ks(text: str) -> list[int]:
    """The k of top-k accuracies, such as ``1,3,5``."""
    return sorted({whole(1)(part.strip()) for part in text.split(",")})


def _between(text: str, least: float, most: float, what: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not least <= value <= most:
        raise argparse.ArgumentTypeError(f"{text!r} is not {what}")
    return value


def share(text: str) -> float:
    """A share, 0 to 1."""
    return _between(text, 0, 1, "a number from 0 to 1")


def level(text: str) -> float:
    """A share that is to be reached: above 0 and below 1."""
    found = _between(text, 0, 1, "a number between 0 and 1")
    if found in (0, 1):
        raise argparse.ArgumentTypeError(f"{text!r} is not between 0 and 1")
    return found


def seconds(text: str) -> float:
    """A time of at most an hour, in seconds."""
    return _between(text, 0, 3600, "a number of seconds")


def costs(text: str) -> tuple[float, float]:
    """The cost of a false alarm and of a miss, such as ``1,5``."""
    try:
        alarm, miss = (float(part) for part in text.split(","))
    except ValueError:
        alarm = miss = -1.0
    if not (0 <= alarm < math.inf and 0 <= miss < math.inf):
        raise argparse.ArgumentTypeError(f"{text!r} is not two costs such as 1,5")
    return alarm, miss


def check_names(text: str) -> list[str]:
    """Names of checks, separated by commas."""
    from mivrat.core.checks.catalogue import BY_NAME

    names = [part.strip() for part in text.split(",") if part.strip()]
    for name in names:
        if name not in BY_NAME:
            raise argparse.ArgumentTypeError(f"unknown check {name!r}; the checks are {', '.join(BY_NAME)}")
    return names


def model_place(text: str) -> Path:
    """Where a model is: a file, or a service's address."""
    if not text.startswith(("https://", "http://")):
        return Path(text)
    from mivrat.core.models.service.places import place_of

    try:
        return place_of(text)
    except InputError as error:
        raise argparse.ArgumentTypeError(error.line()) from None
