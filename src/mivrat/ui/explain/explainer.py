"""What the Explain step is looking at: the model's layers, the maps known under one setup, regions and kept cover tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QImage

from mivrat.core.base.errors import InputError
from mivrat.core.covering.cover_test import CoverPlan, CoverTest, how_done
from mivrat.core.covering.regions import Shape
from mivrat.core.gradients.layers import Layer, stages
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.reliance import Trust
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.reporting import cover_report
from mivrat.core.study.kept_evidence import KeptTest, new_test_id, remove_test, save_regions, save_test
from mivrat.ui import words
from mivrat.ui.close_look.evidence import MakerCache
from mivrat.ui.explain import jobs
from mivrat.ui.explain.jobs import FoundCover, FoundMaps, FoundTrust, KeptEvidence, ModelLayers
from mivrat.ui.jobs import Job
from mivrat.ui.keeper import Keeper
from mivrat.ui.session import Session, Snapshot
from mivrat.ui.work import Work, Workers


class Explainer(QObject):
    """Shared by the pages of the step; signals tell which part has changed.

    ``maps`` holds the maps known under ``setup`` by position; ``rows`` are the layers put on the board (none: one of each
    stage); ``test`` is the cover test shown, ``trust`` what was found of the maps' trust.
    """

    layers_changed = Signal()
    board_changed = Signal()
    setup_changed = Signal()
    maps_changed = Signal()
    regions_changed = Signal()
    tests_changed = Signal()
    test_changed = Signal()
    trust_changed = Signal()

    def __init__(self, session: Session, keeper: Keeper) -> None:
        super().__init__()
        self.session, self.keeper = session, keeper
        # Makers for what is shown at once; a long job has one of its own, and lets go of it in the end with all it took.
        self.makers, self.workers = MakerCache(), Workers(1, self)
        self.layers: list[Layer] = []
        self.filters: tuple[str, list[QImage]] | str = ""
        self.remark, self.problem = "", ""
        self.rows: tuple[str, ...] = ()
        self.together = False
        self.setup = MapSetup()
        self.maps: dict[int, Map] = {}
        self.zero: frozenset[int] = frozenset()
        self.regions: dict[int, tuple[Shape, ...]] = {}
        self.tests: tuple[KeptTest, ...] = ()
        self.test: CoverTest | None = None
        self.shown_test: KeptTest | None = None
        self.trust: Trust | None = None
        self._layers_of: tuple[str, str, str] | None = None
        self._edits = 0
        self._reading: Work | None = None
        session.run_changed.connect(self._forget)
        session.left.connect(self._leave)
        session.contents_changed.connect(self._read_evidence)
        keeper.news.connect(self._take)

    @property
    def can_explain(self) -> bool:
        """Whether the run's model can answer for images that are changed."""
        return self.session.snapshot is not None and self.session.snapshot.record.kind.can.scores

    @property
    def has_no_layers(self) -> str:
        """What the run's model is called, where it tells of no layers; else empty."""
        snapshot = self.session.snapshot
        return snapshot.record.kind.called if snapshot is not None and not snapshot.record.kind.can.gradients else ""

    def _leave(self) -> None:
        """Forget all that was kept of the study."""
        self.regions, self.tests, self._edits = {}, (), self._edits + 1
        self.setup, self.together = MapSetup(), False
        self._forget()
        self.layers_changed.emit()
        self.regions_changed.emit()
        self.tests_changed.emit()

    def _forget(self) -> None:
        self.maps, self.zero, self.test, self.shown_test, self.trust = {}, frozenset(), None, None, None
        snapshot = self.session.snapshot
        if snapshot is None or snapshot.record.model_key != self._layers_of:
            self.layers, self.rows, self.problem, self.filters, self.remark = [], (), "", "", ""
            self._layers_of = None
            self.setup = MapSetup(self.setup.method)
        self._read_evidence()
        self.maps_changed.emit()
        self.test_changed.emit()
        self.trust_changed.emit()

    def _read_evidence(self) -> None:
        """Read the regions and cover tests that the study keeps; decisions elsewhere may have changed them."""
        snapshot, path = self.session.snapshot, self.session.study_path
        if snapshot is None or path is None:
            return
        set_id, edits = snapshot.record.info.set_id, self._edits
        self.workers.start(
            lambda work: self.keeper.after_writing(lambda: jobs.read_evidence(path, set_id)),
            done=lambda found: self._take_evidence(found, path, set_id, edits),
            failed=self.keeper.failed.emit,
        )

    def prepare(self) -> None:
        """Read what the step needs of the run shown, as far as it has not been read; asked for when a page is shown."""
        snapshot, path = self.session.snapshot, self.session.study_path
        if snapshot is None or path is None:
            return
        record = snapshot.record
        if self._layers_of != record.model_key and record.kind.can.gradients:
            self._layers_of = record.model_key
            self.workers.start(
                lambda work: jobs.read_layers(record, self.makers.get(record)),
                done=self._take_layers,
                failed=self._no_layers,
            )
        if not self.maps and record.kind.can.scores:
            self.read_maps()

    def _take_layers(self, found: ModelLayers) -> None:
        snapshot = self.session.snapshot
        if snapshot is not None and found.model == snapshot.record.model_key:
            self.layers, self.filters, self.remark = found.layers, found.filters, found.remark
            self.layers_changed.emit()
            self.board_changed.emit()

    def _no_layers(self, error: InputError) -> None:
        self.problem = f"{error.what}. {error.mend}"
        self.layers_changed.emit()

    def _take_evidence(self, found: KeptEvidence, path: Path, set_id: int, edits: int) -> None:
        snapshot = self.session.snapshot
        if snapshot is None or (self.session.study_path, snapshot.record.info.set_id) != (path, set_id):
            return
        if edits != self._edits:
            self._read_evidence()  # something was decided meanwhile
            return
        if (self.regions, self.tests) != (found.regions, found.tests):
            self.regions, self.tests = found.regions, found.tests
            self.regions_changed.emit()
            self.tests_changed.emit()

    def usable(self) -> list[Layer]:
        """The layers a map can be taken from, the last first."""
        return [one for one in reversed(self.layers) if one.heatmap]

    def stages(self) -> list[Layer]:
        return stages(self.layers)

    # --- the board ---

    def put_rows(self, names: Sequence[str]) -> None:
        """Put these layers on the board; none stands for one of each stage."""
        self.rows = tuple(names)
        self.board_changed.emit()

    def set_together(self, together: bool) -> None:
        self.together = together
        self.board_changed.emit()

    # --- maps of a selection ---

    def set_setup(self, setup: MapSetup) -> None:
        """Ask for other maps; those known under it are read."""
        if setup != self.setup:
            self.setup, self.maps, self.zero = setup, {}, frozenset()
            self.setup_changed.emit()
            self.maps_changed.emit()
            self.read_maps()

    def read_maps(self) -> None:
        """Look up which maps are known."""
        snapshot, path, setup = self.session.snapshot, self.session.study_path, self.setup
        if snapshot is None or path is None or not self.can_explain:
            return
        if self._reading is not None:
            self._reading.cancel()
        self._reading = self.workers.start(
            lambda work: jobs.read_maps(path, snapshot, setup), done=self._take, failed=self.keeper.failed.emit
        )

    def pending(self) -> list[int]:
        """The images shown that can have a map under the setup and have none yet."""
        snapshot = self.session.snapshot
        if snapshot is None:
            return []
        shown = self.session.shown
        return [i for i in shown[self.setup.possible(snapshot.judged)[shown]].tolist() if i not in self.maps]

    def make_maps(self) -> None:
        """Work out the maps of the images shown, in the background."""
        snapshot, path, setup = self.session.snapshot, self.session.study_path, self.setup
        images = self.session.shown.tolist()
        if snapshot is not None and path is not None:
            self.keeper.begin(
                Job("maps", f"Making maps of {words.images(len(images))}"),
                lambda work: jobs.make_maps(path, snapshot, setup, images, MakerCache(), work),
            )

    # --- regions ---

    def keep_regions(self, what: str, changes: Mapping[int, tuple[Shape, ...]]) -> None:
        """Keep the shapes drawn at some positions; it can be undone."""
        snapshot = self.session.snapshot
        before = {i: self.regions.get(i, ()) for i in changes}
        if snapshot is None or before == dict(changes):
            return
        set_id = snapshot.record.info.set_id  # decisions end with the study: a row of it is enough
        self.keeper.decide_at_once(
            what, lambda: self._put_regions(set_id, dict(changes)), lambda: self._put_regions(set_id, before)
        )

    def _put_regions(self, set_id: int, changes: dict[int, tuple[Shape, ...]]) -> None:
        self._edits += 1
        snapshot = self.session.snapshot
        if snapshot is not None and snapshot.record.info.set_id == set_id:
            self.regions = {i: shapes for i, shapes in {**self.regions, **changes}.items() if shapes}
            self.regions_changed.emit()
        told = {i: [one.as_json() for one in shapes] for i, shapes in changes.items()}
        self.keeper.write(lambda study: save_regions(study, set_id, told))

    # --- cover tests ---

    def cover(self, plan: CoverPlan) -> None:
        """Do a cover test in the background."""
        snapshot, path = self.session.snapshot, self.session.study_path
        if snapshot is not None and path is not None:
            self.keeper.begin(
                Job("cover", f"Covering {words.images(len(plan.images))}"),
                lambda work: jobs.cover_selection(path, snapshot, plan, MakerCache(), work),
            )

    def tests_of_run(self) -> list[KeptTest]:
        """The cover tests kept of the run shown."""
        snapshot = self.session.snapshot
        return [one for one in self.tests if snapshot is not None and one.run_id == snapshot.record.info.id]

    def keep_test(self, test: CoverTest, name: str) -> None:
        """Keep a cover test as evidence, under a name."""
        snapshot = self.session.snapshot
        if snapshot is None:
            return
        record = snapshot.record
        done = how_done(test.plan, record.info.model, record.model_sha256, record.image_set)
        outcome = cover_report.as_json(test.result, done, test.found)
        day = date.today().isoformat()
        kept = KeptTest(
            new_test_id(), record.info.id, day, name, test.plan.as_text(record.names), cover_report.as_text(outcome)
        )
        self._change_test(f"Kept: {words.clipped(name, 40)}", kept.id, kept, None)
        self.shown_test = kept
        self.test_changed.emit()

    def change_test(self, test: KeptTest, name: str | None) -> None:
        """Give a kept test another name, or with None take it away."""
        if name is None:
            self._change_test(f"Taken away: {words.clipped(test.name, 40)}", test.id, None, test)
        elif name:
            self._change_test("Name of a cover test", test.id, replace(test, name=name), test)

    def _change_test(self, what: str, test_id: int, now: KeptTest | None, before: KeptTest | None) -> None:
        """Put one test in the place of another, of itself, or of none; the others, read or not yet read, stay."""
        self.keeper.decide_at_once(what, lambda: self._put_test(test_id, now), lambda: self._put_test(test_id, before))

    def _put_test(self, test_id: int, test: KeptTest | None) -> None:
        self._edits += 1
        others = [one for one in self.tests if one.id != test_id]
        self.tests = tuple(sorted([*others, *([test] if test else [])], key=lambda one: one.id))
        self.tests_changed.emit()
        if test is None:
            self.keeper.write(lambda study: remove_test(study, test_id))
        else:
            self.keeper.write(lambda study: save_test(study, test))

    # --- trust ---

    def examine(self, images: Sequence[int]) -> None:
        """Examine how far the maps of some images can be trusted, in the background."""
        snapshot, setup = self.session.snapshot, self.setup
        if snapshot is not None:
            some = list(images)
            self.keeper.begin(
                Job("trust", f"Examining {words.count(len(some))} {'map' if len(some) == 1 else 'maps'}"),
                lambda work: jobs.examine(snapshot, setup, some, MakerCache(), work),
            )

    # --- news ---

    def _take(self, news: object) -> None:
        snapshot: Snapshot | None = self.session.snapshot
        if snapshot is None or getattr(news, "run", None) != snapshot.record.key:
            return
        if isinstance(news, FoundMaps) and news.setup == self.setup:
            self.maps, self.zero = news.maps, news.zero
            self.maps_changed.emit()
        elif isinstance(news, FoundCover):
            self.test, self.shown_test = news.test, None
            self.test_changed.emit()
        elif isinstance(news, FoundTrust):
            self.trust = news.trust
            self.trust_changed.emit()

    @property
    def settled(self) -> bool:
        return not self.workers.busy

    def stop(self) -> None:
        self.workers.stop_all()
