"""Heatmaps as pictures to hand on: an overlay with its legend, and a board of layers and targets as PNG or SVG."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from dataclasses import dataclass, replace
from xml.sax.saxutils import escape

import numpy as np
from PIL import Image, ImageDraw

from mivrat.core.heatmaps.overlay import heat_colours
from mivrat.core.pictures.decode import Pixels
from mivrat.core.reporting.typeface import fitting, typeface, wrapped

MARGIN, LINE, TITLE, BAR = 12, 18, 20, (160, 10)
SIDE, HEAD = 200, 46
# What the names of rows may take; a smaller picture is enlarged, pixel by pixel, to about this much before a legend goes below it.
LEAST_NAMES, MOST_NAMES, LARGE_ENOUGH = 80, 340, 320


@dataclass(frozen=True)
class BoardPicture:
    """A board ready to be drawn: the names of its rows and columns, each cell's picture (None: no map) and words below it."""

    title: str
    rows: Sequence[str]
    columns: Sequence[str]
    pictures: Sequence[Sequence[Pixels | None]]
    notes: Sequence[Sequence[str]]
    scale: str = "heat"


def _bar(scale: str) -> Image.Image:
    values = np.linspace(-1.0 if scale == "difference" else 0.0, 1.0, BAR[0])
    colours = np.round(heat_colours(values, scale)).astype(np.uint8)
    return Image.fromarray(np.repeat(colours[None], BAR[1], axis=0))


def ends_of(scale: str, peak: float | None) -> tuple[str, str]:
    """What stands at either end of a scale's bar; without a ``peak`` each map has its own."""
    high = "own peak" if peak is None else f"{peak:.3g}"
    return (f"−{high}" if peak is not None else "against") if scale == "difference" else "0", high


def with_legend(overlay: Pixels, scale: str, peak: float, lines: Sequence[str]) -> Image.Image:
    """The overlay with, below it, a bar of its scale from 0 (or minus the peak) to the peak and lines of text."""
    picture = Image.fromarray(overlay)
    times = -(-LARGE_ENOUGH // max(picture.size))
    if times > 1:
        picture = picture.resize((picture.width * times, picture.height * times), Image.Resampling.NEAREST)
    width = max(picture.width, BAR[0] + 110) + 2 * MARGIN
    made = Image.new("RGB", (width, picture.height + 3 * MARGIN + LINE * (1 + len(lines))), "white")
    draw = ImageDraw.Draw(made)
    made.paste(picture, (MARGIN, MARGIN))
    top = picture.height + 2 * MARGIN
    low, high = ends_of(scale, peak)
    start = MARGIN + 8 + int(typeface(13).getlength(low))
    draw.text((MARGIN, top - 2), low, fill="black", font=typeface(13))
    made.paste(_bar(scale), (start, top + 2))
    draw.text((start + BAR[0] + 8, top - 2), high, fill="black", font=typeface(13))
    for n, text in enumerate(lines, 1):
        draw.text((MARGIN, top + n * LINE), fitting(text, 13, width - 2 * MARGIN), fill="black", font=typeface(13))
    return made


def _names(board: BoardPicture) -> int:
    """The width that the names of the rows take."""
    lines = [line for name in board.rows for line in name.split("\n")]
    longest = max((typeface(13).getlength(line) for line in lines), default=0.0)
    return int(min(MOST_NAMES, max(LEAST_NAMES, longest + 12)))


@dataclass(frozen=True)
class _Layout:
    """Where the parts of a board stand: the title's lines, which say all of it, the lines of each row's name, and the size."""

    names: int
    title: list[str]
    rows: list[list[str]]
    width: int
    height: int

    @property
    def head(self) -> int:
        """Where the names of the columns stand."""
        return MARGIN + HEAD + TITLE * (len(self.title) - 1)

    def place(self, row: int, column: int) -> tuple[int, int]:
        return MARGIN + self.names + column * (SIDE + MARGIN), self.head + 22 + row * (SIDE + LINE + MARGIN)


def _layout(board: BoardPicture) -> _Layout:
    names = _names(board)
    width = max(MARGIN + names + len(board.columns) * (SIDE + MARGIN), 460)
    rows = [[part for line in name.split("\n") for part in wrapped(line, 13, names - 8)] for name in board.rows]
    made = _Layout(names, wrapped(board.title, 15, width - 2 * MARGIN), rows, width, 0)
    return replace(made, height=made.place(len(board.rows), 0)[1] + LINE + MARGIN)


def _cell(picture: Pixels) -> tuple[Image.Image, tuple[int, int]]:
    """A cell's picture at the board's size, and where it stands within its square."""
    shown = Image.fromarray(picture)
    scale = SIDE / max(shown.size)
    shown = shown.resize(
        (max(1, round(shown.width * scale)), max(1, round(shown.height * scale))), Image.Resampling.BICUBIC
    )
    return shown, ((SIDE - shown.width) // 2, (SIDE - shown.height) // 2)


def board_as_image(board: BoardPicture) -> Image.Image:
    """The board as one picture."""
    at = _layout(board)
    made = Image.new("RGB", (at.width, at.height), "white")
    draw = ImageDraw.Draw(made)
    for n, line in enumerate(at.title):
        draw.text((MARGIN, MARGIN + n * TITLE), line, fill="black", font=typeface(15))
    for c, name in enumerate(board.columns):
        draw.text((at.place(0, c)[0], at.head - 4), fitting(name, 13, SIDE), fill="black", font=typeface(13))
    for r, lines in enumerate(at.rows):
        for n, line in enumerate(lines):
            draw.text((MARGIN, at.place(r, 0)[1] + n * LINE), line, fill="black", font=typeface(13))
        for c, picture in enumerate(board.pictures[r]):
            x, y = at.place(r, c)
            if picture is not None:
                shown, (dx, dy) = _cell(picture)
                made.paste(shown, (x + dx, y + dy))
            else:
                draw.rectangle((x, y, x + SIDE, y + SIDE), outline="silver")
            draw.text((x, y + SIDE + 1), fitting(board.notes[r][c], 12, SIDE), fill="dimgrey", font=typeface(12))
    low, high = ends_of(board.scale, None)
    x, y = at.place(len(board.rows), 0)
    draw.text((MARGIN, y), low, fill="black", font=typeface(13))
    made.paste(_bar(board.scale), (MARGIN + 60, y + 4))
    draw.text((MARGIN + 70 + BAR[0], y), high, fill="black", font=typeface(13))
    return made


def board_as_svg(board: BoardPicture) -> str:
    """The board as a drawing whose words stay words; the pictures are held in it."""
    at = _layout(board)
    width, height = at.width, at.height
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" viewBox="0 0 {width} {height}" '
        'font-family="Inter, sans-serif">',
        f'<rect width="{width}" height="{height}" fill="white"/>',
    ]

    def text(x: float, y: float, words: str, size: int = 13, ink: str = "black") -> None:
        parts.append(f'<text x="{x}" y="{y}" font-size="{size}" fill="{ink}">{escape(words)}</text>')

    def picture(x: float, y: float, image: Image.Image) -> None:
        data = io.BytesIO()
        image.save(data, "PNG")
        coded = base64.b64encode(data.getvalue()).decode()
        size = f'width="{image.width}" height="{image.height}"'
        parts.append(f'<image x="{x}" y="{y}" {size} href="data:image/png;base64,{coded}"/>')

    for n, line in enumerate(at.title):
        text(MARGIN, MARGIN + 14 + n * TITLE, line, 15)
    for c, name in enumerate(board.columns):
        text(at.place(0, c)[0], at.head + 10, fitting(name, 13, SIDE))
    for r, lines in enumerate(at.rows):
        for n, line in enumerate(lines):
            text(MARGIN, at.place(r, 0)[1] + 13 + n * LINE, line)
        for c, pixels in enumerate(board.pictures[r]):
            x, y = at.place(r, c)
            if pixels is not None:
                shown, (dx, dy) = _cell(pixels)
                picture(x + dx, y + dy, shown)
            text(x, y + SIDE + 14, fitting(board.notes[r][c], 12, SIDE), 12, "dimgrey")
    low, high = ends_of(board.scale, None)
    x, y = at.place(len(board.rows), 0)
    text(MARGIN, y + 13, low)
    picture(MARGIN + 60, y + 4, _bar(board.scale))
    text(MARGIN + 70 + BAR[0], y + 13, high)
    return "\n".join([*parts, "</svg>", ""])
