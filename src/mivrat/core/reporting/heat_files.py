"""Writes heatmaps of image files: the raw map and the overlay, on demand with a legend and as a board, and an index."""

from __future__ import annotations

import io
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.answers.where import Where
from mivrat.core.base.files import write_whole
from mivrat.core.base.text import escaped
from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.board import BoardColumn, Row, board_cells
from mivrat.core.heatmaps.combining import combined
from mivrat.core.heatmaps.maps import Map, MapMaker, Target, kept_maker_of, shortcomings
from mivrat.core.heatmaps.methods import SIGNED, WITHOUT_LAYER, Method
from mivrat.core.heatmaps.overlay import edge_drawing, overlay
from mivrat.core.models.model import Model
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import Geometry, fitted_pixels, to_tensor
from mivrat.core.reporting.heat_folder import INDEX, edges_in_index, free_stem, index_as_csv
from mivrat.core.reporting.heat_pictures import BoardPicture, board_as_image, board_as_svg, with_legend

BATCH = 16


@dataclass(frozen=True)
class HeatmapChoices:
    """What is made of each image: ``targets`` with None standing for its predicted class; several ``layers`` or targets are put
    together in the map, and targets stand side by side on a ``board`` with ``board_layers`` for its rows."""

    layers: Sequence[Layer] = ()
    board_layers: Sequence[Layer] = ()
    targets: Sequence[Target | None] = (None,)
    method: Method = "gradient"
    seed: int = 0
    scale: str = "heat"
    edges: bool = False
    legend: bool = False
    board: Literal["", "png", "svg"] = ""

    @property
    def colours(self) -> str:
        """The scale drawn: maps with a sign are drawn on the difference scale."""
        return "difference" if self.method in SIGNED else self.scale


@dataclass(frozen=True)
class HeatmapOutcome:
    """What came of one image: the overlay written, its targets, the map's peak and what has to be said of it, or the problem
    with the file."""

    path: Path
    written: Path | None
    targets: tuple[Target, ...]
    peak: float
    said: tuple[str, ...] = ()
    problem: str | None = None


@dataclass(frozen=True)
class _Read:
    pixels: Pixels
    place: Geometry
    tensor: NDArray[Any]


def name_of(target: Target, names: Sequence[str]) -> str:
    """A target in words."""
    return names[target.of] + (f" rather than {names[target.against]}" if target.against is not None else "")


@dataclass(frozen=True)
class _Made:
    """What was made of one image: the contents of its files by what stands behind its stem, the probabilities of all classes, and what is
    told of it."""

    files: tuple[tuple[str, bytes], ...]
    targets: tuple[Target, ...]
    p: NDArray[np.float64]
    peak: float
    edges: tuple[str, ...]
    said: tuple[str, ...]


@dataclass(frozen=True)
class HeatmapWork:
    """Makes the heatmaps of a block of images with what is ``wanted``; ``names`` are the classes, ``kind`` is that of the scores."""

    names: Sequence[str]
    wanted: HeatmapChoices
    kind: Kind | None

    def do(self, model: Model, files: Mapping[int, Path], threads: int) -> list[_Made | str]:
        """What was made of each image, or why it cannot be read."""
        return list(_one_by_one(kept_maker_of(model, self.kind), list(files.values()), self.names, self.wanted))


def write_heatmaps(
    maker: MapMaker,
    files: Sequence[Path],
    folder: Path,
    names: Sequence[str],
    wanted: HeatmapChoices,
    where: Where | None = None,
) -> Iterator[HeatmapOutcome]:
    """Write ``<stem>.npy`` (the map as it is, float32) and ``<stem>.png`` (over the picture) for each file, in order, and
    ``index.csv`` after each batch. Files of the same stem get ``-2``, ``-3`` … behind it. ``where`` they are made, if not here.
    """
    taken, lines = set[str](), list[list[str]]()
    for chunk in _chunks(maker, files, names, wanted, where):
        for path, made in chunk:
            if isinstance(made, str):
                lines.append([escaped(str(path)), *[""] * (len(INDEX) - 2), made])
                yield HeatmapOutcome(path, None, (), 0.0, problem=made)
                continue
            stem, of = free_stem(path, taken), made.targets[0]
            for behind, content in made.files:
                write_whole(folder / f"{stem}{behind}", content)
            lines.append(
                [
                    escaped(str(path)),
                    "",
                    names[int(made.p.argmax())],
                    f"{made.p.max():.6f}",
                    " + ".join(names[t.of] for t in made.targets),
                    names[of.against] if of.against is not None else "",
                    wanted.method,
                    " + ".join(layer.tensor for layer in wanted.layers),
                    f"{made.peak:.6g}",
                    f"{stem}.png",
                    f"{stem}.npy",
                    *made.edges,
                    "",
                ]
            )
            yield HeatmapOutcome(path, folder / f"{stem}.png", made.targets, made.peak, made.said)
        write_whole(folder / "index.csv", index_as_csv(lines))


def _chunks(
    maker: MapMaker, files: Sequence[Path], names: Sequence[str], wanted: HeatmapChoices, where: Where | None
) -> Iterator[Iterator[tuple[Path, _Made | str]]]:
    """What is made of the files, some at a time; elsewhere once the kind of scores is known here."""
    parts = deque(files[first : first + BATCH] for first in range(0, len(files), BATCH))
    while parts and (where is None or maker.kind is None):
        some = parts.popleft()
        yield zip(some, _one_by_one(maker, some, names, wanted), strict=True)
    if where is not None and parts:
        work, todo = HeatmapWork(names, wanted, maker.kind), range(len(files) - sum(map(len, parts)), len(files))
        found = where.work(files, todo, maker.model, lambda _: work, in_block=BATCH)
        yield from (zip(part, made, strict=True) for part, made in zip(parts, found, strict=False))


def _one_by_one(
    maker: MapMaker, files: Sequence[Path], names: Sequence[str], wanted: HeatmapChoices
) -> Iterator[_Made | str]:
    chunk = [_read(maker, path) for path in files]
    maps = iter(_maps(maker, [one for one in chunk if isinstance(one, _Read)], wanted))
    for path, one in zip(files, chunk, strict=True):
        if isinstance(one, str):
            yield one
            continue
        own, heat, targets, p = next(maps)
        said = shortcomings(own, wanted.method, float(p[targets[0].of]), maker.by_probability)
        yield _Made(
            tuple(_pictures(maker, one, own, heat, targets, path.name, names, wanted)),
            targets,
            p,
            float(np.abs(own).max(initial=0.0)),
            tuple(edges_in_index(own_layer(maker, one.tensor[None], wanted))),
            tuple(said),
        )


@dataclass(frozen=True)
class ImageHeat:
    """One picture's map in the layer's own grid (``own``), laid over the picture (``drawn``), its targets, the probabilities of all classes,
    and what is to be said of the map."""

    own: Map
    drawn: Pixels
    targets: tuple[Target, ...]
    p: NDArray[np.float64]
    said: tuple[str, ...]


def heat_of_image(maker: MapMaker, path: Path, wanted: HeatmapChoices) -> ImageHeat | str:
    """The heatmap of one picture, or why it cannot be read."""
    one = _read(maker, path)
    if isinstance(one, str):
        return one
    own, heat, targets, p = next(_maps(maker, [one], wanted))
    said = shortcomings(own, wanted.method, float(p[targets[0].of]), maker.by_probability)
    return ImageHeat(own, overlay(one.pixels, heat, one.place, scale=wanted.colours), targets, p, tuple(said))


def _read(maker: MapMaker, path: Path) -> _Read | str:
    recipe = maker.model.recipe
    try:
        pixels = read_picture(path, recipe.picture.mode, recipe.picture.exif_rotate, recipe.picture.window)
    except UnreadablePicture as error:
        return str(error)
    fitted, place = fitted_pixels(pixels, recipe)
    return _Read(pixels[..., ::-1] if recipe.picture.mode == "BGR" else pixels, place, to_tensor(fitted, recipe))


def own_layer(maker: MapMaker, batch: NDArray[Any], wanted: HeatmapChoices) -> Layer | None:
    """The layer whose own grid a map is written in; None where it is one of the whole image (of several layers, or of none)."""
    if len(wanted.layers) != 1 or wanted.method in WITHOUT_LAYER:
        return None
    return maker.layers_for(batch, wanted.layers)[0]


def _maps(
    maker: MapMaker, read: Sequence[_Read], wanted: HeatmapChoices
) -> Iterator[tuple[Map, Map, tuple[Target, ...], NDArray[np.float64]]]:
    """For each image its map in the layer's own grid (where it is of one), that of the whole image, its targets, and the model's
    probabilities."""
    if not read:
        return
    alike = len({one.tensor.shape for one in read}) == 1
    batches = [np.stack([one.tensor for one in read])] if alike else [one.tensor[None] for one in read]
    for batch in batches:
        p = maker.probabilities(batch)
        called = p.argmax(axis=1)
        targets = [tuple(Target(int(k)) if t is None else t for t in wanted.targets) for k in called]
        parts: list[list[Map]] = [[] for _ in batch]
        layer = own_layer(maker, batch, wanted)
        for at in range(len(wanted.targets)):
            some = [each[at] for each in targets]
            make = maker.laid_maps if layer is None else maker.maps
            for of_layer in make(batch, some, wanted.layers, wanted.method, wanted.seed):
                for i, heat in enumerate(of_layer):
                    parts[i].append(heat)
        for i, maps in enumerate(parts):
            own = maps[0] if len(maps) == 1 else combined(maps)
            yield own, (own if layer is None else layer.placement.laid(own)), targets[i], p[i]


def _pictures(
    maker: MapMaker,
    one: _Read,
    own: Map,
    heat: Map,
    targets: tuple[Target, ...],
    name: str,
    names: Sequence[str],
    wanted: HeatmapChoices,
) -> Iterator[tuple[str, bytes]]:
    """The contents of an image's files by what stands behind its stem."""
    base = edge_drawing(one.pixels) if wanted.edges else one.pixels
    drawn = overlay(base, heat, one.place, scale=wanted.colours)
    raw = io.BytesIO()
    np.save(raw, own)
    yield ".npy", raw.getvalue()
    yield ".png", _as_png(Image.fromarray(drawn))
    about = [f"evidence for {' + '.join(name_of(t, names) for t in targets)}", name]
    from_layers = " + ".join(layer.tensor for layer in wanted.layers)
    about.append(f"{maker.model.name}, {wanted.method}{f', {from_layers}' if from_layers else ''}")
    if wanted.legend:
        peak = float(np.abs(heat).max(initial=0.0))
        yield "-legend.png", _as_png(with_legend(drawn, wanted.colours, peak, about))
    if wanted.board:
        rows = [Row(f"{layer.tensor}\n{layer.grid[0]} × {layer.grid[1]}", (layer,)) for layer in wanted.board_layers]
        columns = [BoardColumn(name_of(t, names), (t,)) for t in dict.fromkeys(targets)]
        cells = {
            (c.row, c.column): c
            for c in board_cells(maker, one.tensor, rows or [Row("no layer", ())], columns, wanted.method, wanted.seed)
        }
        size = max(1, len(rows)), len(columns)
        pictures: list[list[Pixels | None]] = [
            [overlay(base, cells[r, c].heat, one.place, scale=wanted.colours) for c in range(size[1])]
            for r in range(size[0])
        ]
        notes = [
            [f"peak {cells[r, c].peak:.3g}" if cells[r, c].peak else "all zero" for c in range(size[1])]
            for r in range(size[0])
        ]
        title = f"{name}; {maker.model.name}, {wanted.method}"
        board = BoardPicture(
            title,
            [row.name for row in rows] or ["no layer"],
            [column.name for column in columns],
            pictures,
            notes,
            wanted.colours,
        )
        if wanted.board == "svg":
            yield "-board.svg", board_as_svg(board).encode()
        else:
            yield "-board.png", _as_png(board_as_image(board))


def _as_png(image: Image.Image) -> bytes:
    data = io.BytesIO()
    image.save(data, "PNG")
    return data.getvalue()
