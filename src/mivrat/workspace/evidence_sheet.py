"""The evidence sheet of the images shown: cut out in the background, grouped, and a group put to a test."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.base.text import images
from mivrat.core.heatmaps.maps import HeatmapMaker
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.likeness.pieces import MOST_IMAGES, Cutting, EvidenceSheet, cut_pieces, group_pieces
from mivrat.core.region_masking.cover_test import CoverPlan
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.transplant import RECEIVERS, drawn_by_content
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.study.records import RunKey
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.topics import Topic
from mivrat.workspace.transplanting import Transplanter, TransplantWish


@dataclass(frozen=True)
class FoundSheet:
    """A sheet of a run: whose evidence, which share of the area, of what, and the pieces in groups."""

    run: RunKey
    setup: MapSetup
    part: float
    of: str
    sheet: EvidenceSheet


class SheetMaker:
    """``found`` is the sheet of the run shown, ``number`` how many groups are wished for (None: as many as fit best)."""

    def __init__(self, transplanter: Transplanter) -> None:
        self.transplanter, self.explainer = transplanter, transplanter.explainer
        self.workspace = transplanter.workspace
        self.found: FoundSheet | None = None
        self.number: int | None = None
        self.changed = Topic(lambda: self.workspace.is_open)
        self._workers = self.workspace.group(1)
        self._grouping = LatestOnly(self._workers)
        self.workspace.topics.run.connect(self._forget)
        self.workspace.topics.left.connect(self._forget)
        self.workspace.jobs.event.connect(self._take)

    def _forget(self) -> None:
        self._grouping.cancel()
        self.found = None
        self.changed.emit()

    def _take(self, event: object) -> None:
        if isinstance(event, FoundSheet) and self.workspace.shows(event.run):
            self.found = event
            self.changed.emit()

    @property
    def can_cut(self) -> bool:
        """Whether the run's model shows its layers."""
        return self.workspace.shown.record.kind.can.gradients

    def make(self, part: float, of: str) -> None:
        """Cut out the hottest pieces of the images shown, in the background; ``of`` says what they are."""
        workspace, setup, number = self.workspace, self.explainer.setup, self.number
        snapshot, some = workspace.shown.snapshot, workspace.shown.images.copy()
        title = f"Cutting pieces out of {images(min(len(some), MOST_IMAGES))}"
        workspace.jobs.begin(
            Job("sheet", title), lambda: sheet_run(snapshot, some, setup, part, of, number, workspace.makers)
        )

    def group(self, number: int | None) -> None:
        """Group the pieces anew."""
        self.number, found = number, self.found
        if found is None:
            return
        judged = self.workspace.shown.judged
        pieces, total = found.sheet.pieces, found.sheet.images
        self._grouping.cancel()
        self._grouping.start(
            lambda task: FoundSheet(
                found.run, found.setup, found.part, found.of, group_pieces(pieces, total, judged, number)
            ),
            done=self._take,
        )

    def cover(self, group: int) -> None:
        """Hide a group's pieces, each in its own image."""
        found = self.found
        if found is not None:
            each = found.sheet.regions(group)
            region, said = RegionPlan("each", each=each), f"evidence sheet, group {group + 1}"
            self.explainer.cover(CoverPlan(tuple(sorted(each)), region, "blur", "predicted", 0, said))

    def transplant(self, group: int, label: int) -> None:
        """Paste a group's pieces onto other images, of one label or any (-1)."""
        found = self.found
        if found is not None:
            each = found.sheet.regions(group)
            onto = "all other images" if label < 0 else f"labelled {self.workspace.shown.classes[label]}"
            wish = TransplantWish(
                RegionPlan("each", each=each),
                np.array(sorted(each), np.int64),
                label,
                RECEIVERS,
                "predicted",
                None,
                True,
                f"evidence sheet, group {group + 1}",
                onto,
            )
            self.transplanter.run(wish)

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def sheet_run(
    snapshot: Snapshot,
    some: np.ndarray,
    setup: MapSetup,
    part: float,
    of: str,
    number: int | None,
    makers: MakerPool,
) -> Running:
    """Make a sheet of some images (positions; of very many a sample); whether it came to its end. InputError where the model shows no
    layers, or no image has a piece."""
    record, judged = snapshot.record, snapshot.judged
    contents = record.answers.contents
    chosen = drawn_by_content({i: contents[i] for i in some.tolist() if i in contents}, MOST_IMAGES)
    pieces: tuple[Cutting, ...] = ()
    done = 0
    with makers.acquire(record) as maker:
        if not isinstance(maker, HeatmapMaker):
            raise InputError(record.kind.lacks("An evidence sheet needs"))
        for event in cut_pieces(maker, record.image_set, judged, chosen, setup, part):
            if isinstance(event, Progress):
                done = event.done
                yield event
            else:
                pieces = event
    if done or not chosen:
        yield FoundSheet(record.key, setup, part, of, group_pieces(pieces, done, judged, number))
    return not current_stop().stopped
