"""The heatmaps of a selection as a folder: overlays, the arrays as they are, and an index of what they are of."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import cannot_be_written
from mivrat.core.base.files import free_name, write_whole
from mivrat.core.base.job import Meter, Progress, Written, current_stop
from mivrat.core.base.text import escaped, safe_cell
from mivrat.core.gradients.layers import Layer
from mivrat.core.gradients.placement import Placement
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.methods import SIGNED
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.decode import UnreadablePicture, read_picture
from mivrat.core.pictures.prepare import geometry
from mivrat.core.study.records import RunRecord

INDEX = (
    "path",
    "label",
    "predicted",
    "confidence",
    "target",
    "rather_than",
    "method",
    "layer",
    "peak",
    "overlay",
    "array",
    "top",
    "left",
    "bottom",
    "right",
    "axes",
    "problem",
)


def edges_in_index(layer: Layer | None) -> list[str]:
    """Where the array's outer edges lie in what the network receives, as shares, and which way its axes run; None: a map of the
    whole image."""
    place = layer.placement if layer is not None else Placement()
    edges = [f"{edge:.4f}" for edge in (place.top, place.left, place.bottom, place.right)]
    return [*edges, "across down" if place.swapped else "down across"]


def free_stem(path: Path, taken: set[str]) -> str:
    """A file name without ending that is not taken yet, which it then is."""
    stem, number = path.stem, 1
    while stem in taken:
        number += 1
        stem = f"{path.stem}-{number}"
    taken.add(stem)
    return stem


def index_as_csv(lines: list[list[str]]) -> str:
    """The index: one line an image, under INDEX."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([INDEX, *([safe_cell(cell) for cell in line] for line in lines)])
    return out.getvalue()


def write_selection(
    record: RunRecord,
    judged: EvaluatedRun,
    setup: MapSetup,
    maps: Mapping[int, Map],
    folder: Path,
) -> Iterator[Progress | Written]:
    """Write ``<stem>.png``, ``<stem>.npy`` and ``index.csv``, yielding progress; stopped, the index tells of what was written.

    Nothing that is there already is written over: it takes another name then. InputError where the folder cannot be written.
    """
    meter, lines, taken, written = Meter(len(maps)), list[list[str]](), set[str](), 0
    read = record.recipe.picture
    scale = "difference" if setup.method in SIGNED else "heat"
    layer = " + ".join(setup.layers) or "default"
    yield meter.at(0)
    try:
        for done, (image, heat) in enumerate(maps.items(), 1):
            if current_stop().stopped:
                break
            item, target = record.image_set.items[image], setup.target(judged, image)
            assert target is not None
            called, labelled = int(judged.predicted[image]), int(judged.labels[image])
            about = [
                escaped(item.path),
                record.classes[labelled] if labelled >= 0 else "",
                record.classes[called] if called >= 0 else "",
                f"{judged.confidence[image]:.6f}",
                record.classes[target.of],
                record.classes[target.against] if target.against is not None else "",
                setup.method,
                layer,
                f"{np.abs(heat).max():.6g}",
            ]
            try:
                pixels = read_picture(record.image_set.file(image), read.mode, read.exif_rotate, read.window)
            except UnreadablePicture as error:
                lines.append([*about, *[""] * 7, str(error)])
                continue
            place = geometry(pixels.shape[0], pixels.shape[1], record.recipe)
            stem = free_stem(Path(item.path), taken)
            while any((folder / f"{stem}{ending}").exists() for ending in (".npy", ".png")):
                stem = free_stem(Path(item.path), taken)
            raw, drawn = io.BytesIO(), io.BytesIO()
            np.save(raw, heat)
            shown = pixels[..., ::-1] if read.mode == "BGR" else pixels
            Image.fromarray(overlay(shown, heat, place, scale=scale)).save(drawn, "PNG")
            write_whole(folder / f"{stem}.npy", raw.getvalue())
            write_whole(folder / f"{stem}.png", drawn.getvalue())
            written += 1
            lines.append([*about, f"{stem}.png", f"{stem}.npy", *edges_in_index(None), ""])
            yield meter.at(done)
        write_whole(free_name(folder / "index.csv"), index_as_csv(lines))
        yield Written(written, folder, len(lines) - written)
    except OSError as error:
        raise cannot_be_written(error, folder) from error
