"""The work of the Explain step, done in workers: maps over a selection, cover tests, trust, what the study keeps of them."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from platformdirs import user_cache_path
from PySide6.QtGui import QImage

from mivrat.core.base.job import Stopped
from mivrat.core.covering.cover_test import CoverPlan, CoverTest, donors_of, region_of, run_cover_test
from mivrat.core.covering.one_image import Hidden, cover_one
from mivrat.core.covering.regions import Shape, shape_from_json
from mivrat.core.gradients.filters import as_pictures, first_filters
from mivrat.core.gradients.layers import Layer, short_name
from mivrat.core.heatmaps.board import Cell, Column, Row, board_cells
from mivrat.core.heatmaps.kept_maps import KeptMaps
from mivrat.core.heatmaps.maps import BY_GRADIENT, WITHOUT_LAYER, HeatmapMaker, Map, Method
from mivrat.core.heatmaps.overlay import edge_drawing, overlay
from mivrat.core.heatmaps.reliance import Trust, examine_trust
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.prepare import Geometry, to_tensor
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_stamps
from mivrat.core.study.kept_evidence import KeptTest, load_regions, load_tests
from mivrat.core.study.models import list_models
from mivrat.core.study.records import RunKey, RunRecord
from mivrat.ui.close_look.evidence import Look, MakerCache
from mivrat.ui.pictures import to_image
from mivrat.ui.session import Snapshot
from mivrat.ui.work import Work

SECONDS_BETWEEN_MAPS = 1.0
BASES = ("over the photo", "over its edges", "over the prepared input")


@dataclass(frozen=True)
class ModelLayers:
    """What a model's layers are; ``filters`` are the first layer's pictures with its name, or why there are none."""

    model: tuple[str, str, str]
    layers: list[Layer]
    filters: tuple[str, list[QImage]] | str
    remark: str


@dataclass(frozen=True)
class KeptEvidence:
    """What the study keeps: regions of an image set by position, and all cover tests."""

    regions: dict[int, tuple[Shape, ...]]
    tests: tuple[KeptTest, ...]


@dataclass(frozen=True)
class FoundMaps:
    """Maps of a run's images under a setup, as far as they are known, and which of them are all zero."""

    run: RunKey
    setup: MapSetup
    maps: dict[int, Map]
    zero: frozenset[int]


def found_maps(run: RunKey, kept: KeptMaps) -> FoundMaps:
    """What is known by now."""
    maps = dict(kept.maps)
    return FoundMaps(run, kept.setup, maps, frozenset(i for i, heat in maps.items() if not heat.any()))


@dataclass(frozen=True)
class FoundCover:
    """A cover test that has been done on a run."""

    run: RunKey
    test: CoverTest


@dataclass(frozen=True)
class FoundTrust:
    """What is known so far of how far maps can be trusted."""

    run: RunKey
    trust: Trust


def read_layers(record: RunRecord, maker: HeatmapMaker) -> ModelLayers:
    """A model's layers and first filters."""
    found = first_filters(maker.view)
    filters = (
        found
        if isinstance(found, str)
        else (found[0], [to_image(p) for p in as_pictures(found[1], record.recipe.picture.mode)])
    )
    remark = "quantised: gradients are passed straight through the rounding" if maker.view.quantised else ""
    return ModelLayers(record.model_key, maker.layers, filters, remark)


def read_evidence(path: Path, set_id: int) -> KeptEvidence:
    """What the study keeps of regions and cover tests."""
    study = Study.open(path, again=True)
    try:
        regions = {
            i: tuple(shape_from_json(one) for one in shapes) for i, shapes in load_regions(study, set_id).items()
        }
        return KeptEvidence(regions, load_tests(study))
    finally:
        study.close()


def _kept_maps(path: Path, snapshot: Snapshot, setup: MapSetup) -> KeptMaps:
    study = Study.open(path, again=True)
    try:
        stamps = load_stamps(study, snapshot.record.info.set_id)
    finally:
        study.close()
    contents = {i: stamp.content for i, stamp in stamps.items()}
    folder = user_cache_path("mivrat", appauthor=False) / "maps"
    return KeptMaps(snapshot.record, snapshot.judged, setup, contents, folder)


def read_maps(path: Path, snapshot: Snapshot, setup: MapSetup) -> FoundMaps:
    """The maps that are known already."""
    return found_maps(snapshot.record.key, _kept_maps(path, snapshot, setup))


def make_maps(
    path: Path, snapshot: Snapshot, setup: MapSetup, images: Sequence[int], makers: MakerCache, work: Work
) -> bool:
    """Work out the maps of some images, telling of those done now and then; whether all were done."""
    kept, told = _kept_maps(path, snapshot, setup), time.monotonic()
    run = snapshot.record.key
    for progress in kept.run(makers.get(snapshot.record), images, work.stop):
        work.report(progress)
        if time.monotonic() - told > SECONDS_BETWEEN_MAPS:
            work.report(found_maps(run, kept))
            told = time.monotonic()
    work.report(found_maps(run, kept))
    return not work.stop.stopped


def cover_selection(path: Path, snapshot: Snapshot, plan: CoverPlan, makers: MakerCache, work: Work) -> bool:
    """Do a cover test, with the heat of the model the plan names where the study has it; whether it came to its end."""
    record, maker = snapshot.record, makers.get(snapshot.record)
    heat = maker
    if plan.region.place == "hottest" and plan.region.heat_model not in ("", record.model_sha256):
        study = Study.open(path, again=True)
        try:
            found = study.rows("SELECT id FROM model WHERE sha256 = ? AND kind = 'onnx'", plan.region.heat_model)
            model = next((one for one in list_models(study) if (one.id,) in found and one.path.is_file()), None)
        finally:
            study.close()
        if model is not None:
            heat = HeatmapMaker(OnnxModel(model.path, record.recipe, len(record.classes)))
    for news in run_cover_test(record.classes, record.image_set, plan, maker, heat, work.stop):
        work.report(FoundCover(record.key, news) if isinstance(news, CoverTest) else news)
    return not work.stop.stopped


def examine(snapshot: Snapshot, setup: MapSetup, images: Sequence[int], makers: MakerCache, work: Work) -> bool:
    """Examine how far the maps of some images can be trusted; whether it came to its end."""
    record = snapshot.record
    for news in examine_trust(record, snapshot.judged, setup, images, makers.get(record), 0, work.stop):
        work.report(FoundTrust(record.key, news) if isinstance(news, Trust) else news)
    return not work.stop.stopped


@dataclass(frozen=True)
class BoardWanted:
    """What a board is to show of one image; ``columns`` with None have no such target there."""

    image: int
    rows: tuple[Row, ...]
    columns: tuple[Column | None, ...]
    method: Method


def compute_board(
    look: Look, maker: HeatmapMaker, record: RunRecord, wanted: BoardWanted, work: Work
) -> Iterator[Cell]:
    """The board's cells as they are computed; columns are counted as wanted."""
    there = [(i, column) for i, column in enumerate(wanted.columns) if column is not None]
    maker.stopped = lambda: work.stop.stopped
    try:
        for cell in board_cells(
            maker,
            to_tensor(look.prepared(record.recipe), record.recipe),
            wanted.rows,
            [column for _, column in there],
            wanted.method,
        ):
            yield Cell(cell.row, there[cell.column][0], cell.heat)
            if work.stop.stopped:
                return
    except Stopped:
        return
    finally:
        maker.stopped = lambda: False


def rows_for(
    maker: HeatmapMaker, method: Method, names: Sequence[str], stages: Sequence[Layer], together: bool
) -> tuple[Row, ...]:
    """The board's rows: the layers named, else one of each stage, and all of them together where wanted."""
    if method in WITHOUT_LAYER:
        return (Row("the whole model\nno layer", ()),)
    if method == "activation":
        layer = maker.layer_for(method, None)
        assert layer is not None
        layers = [layer]
    else:
        usable = {
            one.tensor: one for one in maker.layers if one.heatmap or (method not in BY_GRADIENT and one.has_places)
        }
        layers = [usable[name] for name in names if name in usable] or list(stages)
        layers = layers or [one for one in [maker.layer_for(method, None)] if one is not None]
    rows = [Row(f"{short_name(one.tensor)}\n{one.grid[0]} × {one.grid[1]}", (one,)) for one in layers]
    if together and len(layers) > 1:
        rows.append(Row(f"these {len(layers)} together\nmean of maps", tuple(layers)))
    return tuple(rows)


def base_picture(look: Look, base: int) -> tuple[Pixels, Geometry]:
    """What heat is laid over: the photo, a drawing of its edges, or what the network receives."""
    if base == 2:
        size = look.received.shape[:2]
        return look.received, Geometry(size, size, (0, 0), size)
    return (look.photo if base == 0 else edge_drawing(look.photo)), look.place


def draw(look: Look, heat: NDArray[np.float32], base: int, opacity: float, scale: str, peak: float | None) -> Pixels:
    """A map over a base."""
    picture, place = base_picture(look, base)
    return overlay(picture, heat, place, opacity=opacity, scale=scale, peak=peak)


def cover_looked(look: Look, maker: HeatmapMaker, record: RunRecord, plan: CoverPlan) -> Hidden:
    """Cover the image looked at, just as the test over many images does."""
    target = None if plan.target == "predicted" else record.classes.index(plan.target)
    region = region_of(plan, maker)
    pixels, donors = look.prepared(record.recipe), donors_of(plan, record.image_set)
    return cover_one(maker, look.image, pixels, region, plan.hide, target, plan.seed, donors)
