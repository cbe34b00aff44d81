"""What workers do with heatmaps: a board of one image, maps over a selection, cover tests, how far maps can be relied on."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, current_stop
from mivrat.core.gradients.filters import as_pictures, first_filters
from mivrat.core.gradients.layers import Layer, corresponding, short_name
from mivrat.core.heatmaps.board import BoardColumn, BoardMap, Row, board_cells
from mivrat.core.heatmaps.kept_maps import KeptMaps
from mivrat.core.heatmaps.maps import HeatmapMaker, Map, MapMaker
from mivrat.core.heatmaps.methods import BY_GRADIENT, WITHOUT_LAYER, Method
from mivrat.core.heatmaps.overlay import edge_drawing, overlay
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.heatmaps.reliance import Reliance, examine_reliance
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.decode import Pixels
from mivrat.core.pictures.prepare import Geometry, to_tensor
from mivrat.core.region_masking.cover_test import CoverPlan, CoverTest, donors_of, run_cover_test
from mivrat.core.region_masking.lookalikes import ColourRule, PatchRule, sampled_colour, sampled_patch
from mivrat.core.region_masking.one_image import Hidden, cover_one, prepared
from mivrat.core.region_masking.region_plan import RegionPlan, region_of
from mivrat.core.region_masking.regions import Shape, mask_of, shape_from_json
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.study.file import Study
from mivrat.core.study.kept_evidence import KeptTest, load_regions, load_tests
from mivrat.core.study.models import model_with_content
from mivrat.core.study.records import RunKey, RunRecord
from mivrat.workspace.image_view import ImageView
from mivrat.workspace.study_jobs import Running

SECONDS_BETWEEN_MAPS = 1.0
BASES = ("over the photo", "over its edges", "over the prepared input")


@dataclass(frozen=True)
class ModelLayers:
    """What a model's layers are; ``filters`` are the first layer's pictures with its name, or why there are none."""

    model: tuple[str, str, str]
    layers: list[Layer]
    filters: tuple[str, list[Pixels]] | str
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
class FoundReliance:
    """What is known so far of how far maps can be trusted."""

    run: RunKey
    reliance: Reliance


def read_layers(record: RunRecord, maker: MapMaker) -> ModelLayers:
    """A model's layers and first filters."""
    found = first_filters(maker.view) if isinstance(maker, HeatmapMaker) else ""
    filters = found if isinstance(found, str) else (found[0], as_pictures(found[1], record.recipe.picture.mode))
    return ModelLayers(record.model_key, maker.layers, filters, maker.remark)


def read_evidence(path: Path, set_id: int) -> KeptEvidence:
    """What the study keeps of regions and cover tests."""
    with Study.open(path, again=True) as study:
        regions = {
            i: tuple(shape_from_json(one) for one in shapes) for i, shapes in load_regions(study, set_id).items()
        }
        return KeptEvidence(regions, load_tests(study))


def _kept_maps(snapshot: Snapshot, setup: MapSetup) -> KeptMaps:
    return KeptMaps(snapshot.record, snapshot.judged, setup, snapshot.record.answers.contents)


def read_maps(snapshot: Snapshot, setup: MapSetup) -> FoundMaps:
    """The maps that are known already."""
    return found_maps(snapshot.record.key, _kept_maps(snapshot, setup))


def make_maps(snapshot: Snapshot, setup: MapSetup, images: Sequence[int], makers: MakerPool) -> Running:
    """Work out the maps of some images, telling of those done now and then; whether all were done."""
    kept, told = _kept_maps(snapshot, setup), time.monotonic()
    run = snapshot.record.key
    with makers.acquire(snapshot.record) as maker:
        for progress in kept.run(maker, images):
            yield progress
            if time.monotonic() - told > SECONDS_BETWEEN_MAPS:
                yield found_maps(run, kept)
                told = time.monotonic()
    yield found_maps(run, kept)
    return not current_stop().stopped


def cover_selection(path: Path, snapshot: Snapshot, plan: CoverPlan, makers: MakerPool) -> Running:
    """Do a cover test, with the heat of the model the plan names where the study has it; whether it came to its end."""
    record = snapshot.record
    with makers.acquire(record) as maker, heat_of(path, record, plan.region, maker, makers) as heat:
        for event in run_cover_test(record.classes, record.image_set, plan, maker, heat):
            yield FoundCover(record.key, event) if isinstance(event, CoverTest) else event
    return not current_stop().stopped


@contextmanager
def heat_of(
    path: Path, record: RunRecord, region: RegionPlan, maker: MapMaker, makers: MakerPool
) -> Iterator[MapMaker]:
    """What makes the heat, or the features, that a region is found by: of the model the region names where the study has it, else the
    run's own ``maker``."""
    other = None
    if region.model not in ("", record.model_sha256):
        with Study.open(path, again=True) as study:
            other = model_with_content(study, region.model)
    if other is None or not other.path.is_file():
        yield maker
        return
    heat_from = replace(record, model_path=other.path, model_sha256=region.model)
    with makers.acquire(heat_from, kind_known=False) as heat:
        yield heat


def examine(snapshot: Snapshot, setup: MapSetup, images: Sequence[int], makers: MakerPool) -> Running:
    """Examine how far the maps of some images can be relied on; whether it came to its end."""
    record = snapshot.record
    with makers.acquire(record) as maker:
        for event in examine_reliance(record, snapshot.judged, setup, images, maker, 0):
            yield FoundReliance(record.key, event) if isinstance(event, Reliance) else event
    return not current_stop().stopped


@dataclass(frozen=True)
class BoardWanted:
    """What a board is to show of one image; ``columns`` with None have no such target there. With another run held, ``other`` names
    it and where the image stands there: each row is followed by one of that run's model."""

    image: int
    rows: tuple[Row, ...]
    columns: tuple[BoardColumn | None, ...]
    method: Method
    other: tuple[RunKey, int] | None = None


def compute_board(look: ImageView, maker: MapMaker, record: RunRecord, wanted: BoardWanted) -> Iterator[BoardMap]:
    """The board's cells as they are computed; columns are counted as wanted."""
    there = [(i, column) for i, column in enumerate(wanted.columns) if column is not None]
    try:
        for cell in board_cells(
            maker,
            to_tensor(look.prepared(record.recipe), record.recipe),
            wanted.rows,
            [column for _, column in there],
            wanted.method,
        ):
            yield BoardMap(cell.row, there[cell.column][0], cell.heat)
            if current_stop().stopped:
                return
    except Stopped:
        return


def rows_without_layer() -> tuple[Row, ...]:
    """The board's only row, for a method that looks at no layer."""
    return (Row("the whole model\nno layer", ()),)


def rows_for(
    maker: MapMaker, method: Method, names: Sequence[str], stages: Sequence[Layer], all_combined: bool
) -> tuple[Row, ...]:
    """The board's rows: the layers named, else one of each stage, and all of them together where wanted."""
    if method in WITHOUT_LAYER:
        return rows_without_layer()
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
    if all_combined and len(layers) > 1:
        rows.append(Row(f"these {len(layers)} together\nmean of maps", tuple(layers)))
    return tuple(rows)


def rows_of_other(rows: Sequence[Row], maker: MapMaker, other: MapMaker, method: Method) -> tuple[Row, ...]:
    """The rows of another model at the layers that correspond to these."""
    found = []
    for row in rows:
        layers = [corresponding(one, maker.layers, other.layers) for one in row.layers]
        if method == "activation":
            layers = [other.layer_for(method, None)]
        some = tuple(one for one in layers if one is not None)
        name = f"{short_name(some[0].tensor)}\n{some[0].grid[0]} × {some[0].grid[1]}" if len(some) == 1 else row.name
        found.append(Row(name, some))
    return tuple(found)


def base_picture(look: ImageView, base: int) -> tuple[Pixels, Geometry]:
    """What heat is laid over: the photo, a drawing of its edges, or what the network receives."""
    if base == 2:
        size = look.received.shape[:2]
        return look.received, Geometry(size, size, (0, 0), size)
    return (look.photo if base == 0 else edge_drawing(look.photo)), look.place


def draw(
    look: ImageView, heat: NDArray[np.float32], base: int, opacity: float, scale: str, peak: float | None
) -> Pixels:
    """A map over a base."""
    picture, place = base_picture(look, base)
    return overlay(picture, heat, place, opacity=opacity, scale=scale, peak=peak)


def sampled(
    record: RunRecord, maker: MapMaker, image: int, shapes: Sequence[Shape], layer: tuple[str | None] | None
) -> ColourRule | PatchRule:
    """The colour of a patch marked on an image, or (``layer`` given, None in it for the default one) its features."""
    recipe = record.recipe
    pixels = prepared(record.image_set.file(image), recipe)
    marked = mask_of(shapes, *pixels.shape[:2])
    if layer is None:
        return sampled_colour(pixels, recipe.picture.mode, marked)
    if not isinstance(maker, HeatmapMaker):
        raise InputError(record.kind.lacks("Places like a marked patch need"))
    return sampled_patch(maker, to_tensor(pixels, recipe), marked, layer[0])


def cover_looked(look: ImageView, maker: MapMaker, record: RunRecord, plan: CoverPlan) -> Hidden:
    """Cover the image looked at, just as the test over many images does."""
    target = None if plan.target == "predicted" else record.classes.index(plan.target)
    region = region_of(plan.region, maker, record.recipe.picture.mode, own=target is None)
    pixels, donors = look.prepared(record.recipe), donors_of(plan, record.image_set)
    return cover_one(maker, look.image, pixels, region, plan.hide, target, plan.seed, donors)
