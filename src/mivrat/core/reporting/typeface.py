"""The bundled typeface, for words drawn into pictures, and texts cut to fit."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PIL import ImageFont

FONTS = Path(__file__).resolve().parents[2] / "fonts"


@lru_cache(maxsize=16)
def typeface(size: int) -> ImageFont.FreeTypeFont:
    """The regular weight at a size in pixels."""
    return ImageFont.truetype(str(FONTS / "Inter-Regular.otf"), size)


def wrapped(text: str, size: int, width: float) -> list[str]:
    """A text on as many lines of so many pixels as it takes, broken between words, and within one that fills a line alone."""
    font, lines = typeface(size), [""]
    for word in text.split():
        joined = f"{lines[-1]} {word}".strip()
        if font.getlength(joined) <= width:
            lines[-1] = joined
            continue
        if lines[-1]:
            lines.append("")
        for letter in word:
            if lines[-1] and font.getlength(lines[-1] + letter) > width:
                lines.append("")
            lines[-1] += letter
    return lines


def fitting(text: str, size: int, width: float) -> str:
    """A text on one line, cut in its middle until it fits so many pixels."""
    font, text = typeface(size), " ".join(text.split())
    # No letter is narrower than an eighth of its size: so many cannot fit, and are not tried.
    kept = min(len(text), int(8 * width / size) + 2)
    shown = text if kept == len(text) else f"{text[: kept // 2]}…{text[len(text) - (kept - kept // 2) :]}"
    while kept > 2 and font.getlength(shown) > width:
        kept -= 1
        shown = f"{text[: kept // 2]}…{text[len(text) - (kept - kept // 2) :]}"
    return shown
