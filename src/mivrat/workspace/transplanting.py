"""The transplant test of the run shown: whose images give and receive, doing it in the background, and what is kept of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.text import images
from mivrat.core.heatmaps.hottest import Mask
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.one_image import prepared, seeded
from mivrat.core.region_masking.pasting import piece_of
from mivrat.core.region_masking.region_plan import RegionPlan, region_of
from mivrat.core.region_masking.transplant import (
    DONORS,
    Transplanted,
    TransplantPlan,
    TransplantTest,
    drawn_by_content,
    paste_one,
    run_transplant,
    transplant_from_text,
)
from mivrat.core.reporting import transplant_report
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.study.kept_evidence import KeptTest, new_test_id
from mivrat.core.study.records import RunKey
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.heat_jobs import heat_of
from mivrat.workspace.image_view import ImageView
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.topics import Topic


@dataclass(frozen=True)
class FoundTransplant:
    """A transplant test that has been done on a run."""

    run: RunKey
    test: TransplantTest


@dataclass(frozen=True)
class TransplantWish:
    """A test as it is wished for: the ``region`` of a sample of the images ``givers`` (positions) goes onto ``most`` of the others at most, of
    one ``label`` or any (-1). What is said in words, the class counted, the place and the edge are as in the plan."""

    region: RegionPlan
    givers: NDArray[np.int64]
    label: int
    most: int
    target: str
    at: tuple[float, float] | None
    soft: bool
    donors_are: str
    receivers_are: str

    def others(self, snapshot: Snapshot) -> NDArray[np.int64]:
        """The images that the piece could go onto. What gives does not receive, even where only a sample of it gives."""
        judged = snapshot.judged
        can = judged.predicted >= 0
        can[self.givers] = False
        if self.label >= 0:
            can &= judged.labels == self.label
        return np.flatnonzero(can)

    def numbers(self, snapshot: Snapshot) -> tuple[int, int]:
        """How many images give, and how many receive."""
        answered = snapshot.judged.predicted[self.givers] >= 0
        return min(DONORS, int(answered.sum())), min(self.most, len(self.others(snapshot)))

    def plan(self, snapshot: Snapshot) -> TransplantPlan:
        """The test with the images drawn; takes a while for very many of them."""
        contents = snapshot.record.answers.contents
        givers = self.givers[snapshot.judged.predicted[self.givers] >= 0]

        def drawn(some: NDArray[np.int64], most: int) -> tuple[int, ...]:
            return drawn_by_content({i: contents[i] for i in some.tolist() if i in contents}, most)

        donors, receivers = drawn(givers, DONORS), drawn(self.others(snapshot), self.most)
        how = self.target, self.at, self.soft, 0, self.donors_are, self.receivers_are
        return TransplantPlan(donors, receivers, self.region, *how)


class Transplanter:
    """``test`` is the one done last on the run shown, ``shown_test`` a kept one whose result is shown instead; ``test_changed`` tells."""

    def __init__(self, explainer: Explainer) -> None:
        self.explainer, self.workspace = explainer, explainer.workspace
        self.test: TransplantTest | None = None
        self.shown_test: KeptTest | None = None
        self.test_changed = Topic(lambda: self.workspace.is_open)
        self.workspace.topics.run.connect(self._forget)
        self.workspace.topics.left.connect(self._forget)
        self.workspace.jobs.event.connect(self._take)

    def _forget(self) -> None:
        self.test, self.shown_test = None, None
        self.test_changed.emit()

    def _take(self, event: object) -> None:
        if isinstance(event, FoundTransplant) and self.workspace.shows(event.run):
            self.test, self.shown_test = event.test, None
            self.test_changed.emit()

    def run(self, wish: TransplantWish) -> None:
        """Do a transplant test in the background."""
        snapshot = self.workspace.shown.snapshot
        self._begin(wish.numbers(snapshot)[1], lambda: wish.plan(snapshot))

    def _begin(self, number: int, plan: Callable[[], TransplantPlan]) -> None:
        snapshot, workspace = self.workspace.shown.snapshot, self.workspace
        path = workspace.path
        workspace.jobs.begin(
            Job("transplant", f"Pasting onto {images(number)}"),
            lambda: transplant_run(path, snapshot, plan(), workspace.makers),
        )

    def repeat(self, kept: KeptTest) -> None:
        """Do a kept test again, on the run shown. InputError where it cannot be read."""
        plan = transplant_from_text(kept.plan, self.workspace.shown.record.names)
        self._begin(len(plan.receivers), lambda: plan)

    def keep(self, test: TransplantTest, name: str) -> None:
        """Keep a test as evidence, under a name."""
        record = self.workspace.shown.record
        told = transplant_report.as_json(test, record.info.model, record.model_sha256, record.image_set)
        plan, outcome = test.plan.as_text(record.names), transplant_report.as_text(told)
        kept = KeptTest(new_test_id(), record.info.id, date.today().isoformat(), name, plan, outcome, "transplant")
        self.explainer.keep(kept)
        self.shown_test = kept
        self.test_changed.emit()


def transplant_run(path: Path, snapshot: Snapshot, plan: TransplantPlan, makers: MakerPool) -> Running:
    """Do a transplant test, with the heat of the model the plan names where the study has it; whether it came to its end."""
    record, total = snapshot.record, None
    with makers.acquire(record) as maker, heat_of(path, record, plan.region, maker, makers) as heat:
        for event in run_transplant(record.classes, record.image_set, plan, maker, heat):
            total = event if isinstance(event, TransplantTest) else total
            yield FoundTransplant(record.key, event) if isinstance(event, TransplantTest) else event
    return total is not None and len(total.found) == len(plan.receivers)


@dataclass(frozen=True)
class PastedOne:
    """What pasting the region of the image looked at did to one receiver: the answers, the prepared receiver as it is, with the piece and
    with the control; and the region. ``problem`` tells why nothing was pasted."""

    answers: Transplanted | None
    pixels: tuple[Pixels, ...]
    mask: Mask | None
    problem: str = ""


def paste_looked(look: ImageView, snapshot: Snapshot, wish: TransplantWish, makers: MakerPool) -> PastedOne:
    """Paste the region of the image looked at onto one of the others, drawn by its content, just as the test does."""
    record, judged = snapshot.record, snapshot.judged
    recipe = record.recipe
    with makers.acquire(record) as maker:
        pixels = look.prepared(recipe)
        tensor = to_tensor(pixels, recipe)
        own = wish.target == "predicted"
        target = int(maker.ranked(tensor[None])[1][0].argmax()) if own else record.classes.index(wish.target)
        mask = region_of(wish.region, maker, recipe.picture.mode, own=own)(look.image, pixels, tensor, target)
        if isinstance(mask, str):
            return PastedOne(None, (), None, mask)
        if not mask.any() or mask.all():
            return PastedOne(None, (), mask, "the region is empty, or the whole image")
        piece = piece_of(pixels, mask, seeded(0, pixels, "piece"))
        others = wish.others(snapshot)
        others = others[
            (judged.predicted[others] != target) & (judged.labels[others] != target) & (others != look.image)
        ]
        if not len(others):
            return PastedOne(None, (), mask, "no other image is left to paste onto")
        receiver = int(others[seeded(0, pixels, "receiver").integers(len(others))])
        try:
            other = prepared(record.image_set.file(receiver), recipe)
        except UnreadablePicture as error:
            return PastedOne(None, (), mask, str(error))
        answers, three = paste_one(maker, receiver, other, (look.image, target, piece), wish.at, wish.soft)
        return PastedOne(answers, three, mask, answers.problem)
