"""What the Explain step is looking at: the model's layers, the maps known under one setup, regions and kept tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import duration
from mivrat.core.base.text import clipped, count, images
from mivrat.core.gradients.layers import Layer, stages
from mivrat.core.heatmaps.answers_only import answers_taken
from mivrat.core.heatmaps.maps import Map
from mivrat.core.heatmaps.methods import WITHOUT_LAYER, Method
from mivrat.core.heatmaps.reliance import Reliance
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.models.service.description import read_description
from mivrat.core.pictures.decode import Pixels
from mivrat.core.region_masking.cover_test import CoverPlan, CoverTest, how_done, plan_from_text
from mivrat.core.region_masking.regions import Shape
from mivrat.core.reporting import cover_report
from mivrat.core.study.kept_evidence import KeptTest, new_test_id, remove_test, save_regions, save_test
from mivrat.workspace import heat_jobs
from mivrat.workspace.edits import Changes, SmallEdit
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.heat_jobs import FoundCover, FoundMaps, FoundReliance, KeptEvidence, ModelLayers
from mivrat.workspace.jobs import Job
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace


class Explainer:
    """Shared by the pages of the step; topics tell which part has changed.

    ``maps`` holds the maps known under ``setup`` by position; ``rows`` are the layers put on the board (none: one of each
    stage); ``test`` is the cover test shown, ``reliance`` what was found of how far the maps can be relied on.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

        def is_open() -> bool:
            return workspace.is_open

        self.layers_changed, self.board_changed, self.setup_changed = Topic(is_open), Topic(is_open), Topic(is_open)
        self.maps_changed, self.regions_changed, self.tests_changed = Topic(is_open), Topic(is_open), Topic(is_open)
        self.test_changed, self.reliance_changed = Topic(is_open), Topic(is_open)
        self.workers = workspace.group(1)
        self.layers: list[Layer] = []
        self.filters: tuple[str, list[Pixels]] | str = ""
        self.remark, self.problem = "", ""
        self.rows: tuple[str, ...] = ()
        self.all_combined = False
        self.setup = MapSetup()
        self.maps: dict[int, Map] = {}
        self.zero: frozenset[int] = frozenset()
        self.regions: dict[int, tuple[Shape, ...]] = {}
        self.tests: tuple[KeptTest, ...] = ()
        self.test: CoverTest | None = None
        self.shown_test: KeptTest | None = None
        self.reliance: Reliance | None = None
        self._layers_of: tuple[str, str, str] | None = None
        # Whether the way of making maps was chosen for want of layers.
        self._without = False
        self._edits = 0
        self._reading = LatestOnly(self.workers)
        workspace.topics.run.connect(self._forget)
        workspace.topics.left.connect(self._leave)
        workspace.topics.contents.connect(self._read_evidence)
        workspace.jobs.event.connect(self._take)

    @property
    def can_explain(self) -> bool:
        """Whether the run's model can answer for images that are changed."""
        return self.workspace.shown.record.kind.can.scores

    @property
    def has_no_layers(self) -> str:
        """What the run's model is called, where it tells of no layers; else empty."""
        kind = self.workspace.shown.record.kind
        return "" if kind.can.gradients else kind.called

    @property
    def asks(self) -> bool:
        """Whether the run's model is asked over the network, so that each answer counts."""
        return self.workspace.shown.record.kind.can.asked

    def without_layers(self, method: Method) -> str:
        """Why a method cannot be used for want of layers, in a sentence; empty where it can."""
        if not self.has_no_layers or method in WITHOUT_LAYER:
            return ""
        return f"{self.workspace.shown.record.kind.lacks('Layers and gradients need')} Occlusion and random masks need answers alone."

    def answers_taken(self, method: Method, size: tuple[int, int] | None = None) -> int:
        """How many answers a map of one image takes; ``size`` is its height and width, where the recipe leaves them open."""
        return answers_taken(method, *(self.workspace.shown.record.recipe.output_size() or size or (224, 224)))

    def cost(self, answers: int) -> str:
        """So many answers as requests, with the time they take where the service may not be asked faster."""
        told = f"{count(answers)} requests"
        try:
            limits = read_description(self.workspace.shown.record.model_path).limits
        except InputError:
            return told
        requests = -(-answers // limits.per_request)
        told = f"{count(requests)} request{'s' if requests != 1 else ''}"
        return f"{told}, {duration(requests / limits.per_second)} or longer" if limits.per_second else told

    def _leave(self) -> None:
        if not self.layers:
            self._layers_of = None  # what was reading them has been dropped
        """Forget all that was kept of the study."""
        self.regions, self.tests, self._edits = {}, (), self._edits + 1
        self.setup, self.all_combined = MapSetup(), False
        self._forget_run()
        self._forget_model()

    def _forget_run(self) -> None:
        self.maps, self.zero, self.test, self.shown_test, self.reliance = {}, frozenset(), None, None, None

    def _forget_model(self) -> None:
        self.layers, self.rows, self.problem, self.filters, self.remark = [], (), "", "", ""
        self._layers_of = None
        self.setup = MapSetup(self.setup.method)

    def _forget(self) -> None:
        self._forget_run()
        if self.workspace.shown.record.model_key != self._layers_of:
            self._forget_model()
        if self.without_layers(self.setup.method):
            self.setup, self._without = MapSetup("occlusion"), True
        elif self._without and not self.has_no_layers:
            self.setup, self._without = MapSetup(), False
        self._read_evidence()
        self.setup_changed.emit()
        self.maps_changed.emit()
        self.test_changed.emit()
        self.reliance_changed.emit()

    def _read_evidence(self) -> None:
        """Read the regions and cover tests that the study keeps; decisions elsewhere may have changed them."""
        path, record, edits = self.workspace.path, self.workspace.shown.record, self._edits
        self.workers.start(
            lambda task: self.workspace.after_writing(lambda: heat_jobs.read_evidence(path, record.info.set_id)),
            done=lambda found: self._take_evidence(found, record.set_key, edits),
            failed=self.workspace.notices.fail,
        )

    def prepare(self) -> None:
        """Read what the step needs of the run shown, as far as it has not been read; asked for when a page is shown."""
        record = self.workspace.shown.record
        if self._layers_of != record.model_key and record.kind.can.gradients:
            self._layers_of = record.model_key

            def read(task: Task) -> ModelLayers:
                with self.workspace.makers.acquire(record) as maker:
                    return heat_jobs.read_layers(record, maker)

            self.workers.start(read, done=self._take_layers, failed=self._no_layers)
        if not self.maps and record.kind.can.scores:
            self.read_maps()

    def _take_layers(self, found: ModelLayers) -> None:
        if self.workspace.is_open and found.model == self.workspace.shown.record.model_key:
            self.layers, self.filters, self.remark = found.layers, found.filters, found.remark
            self.layers_changed.emit()
            self.board_changed.emit()

    def _no_layers(self, error: InputError) -> None:
        self.problem = f"{error.what}. {error.hint}"
        self.layers_changed.emit()

    def _take_evidence(self, found: KeptEvidence, set_key: tuple[str, str], edits: int) -> None:
        if not self.workspace.shows_set(set_key):
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

    def combine_all(self, on: bool) -> None:
        """Put all layers of the board combined on it, as a further row."""
        self.all_combined = on
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
        if not self.can_explain:
            return
        snapshot, setup = self.workspace.shown.snapshot, self.setup
        self._reading.cancel()
        self._reading.start(
            lambda task: heat_jobs.read_maps(snapshot, setup), done=self._take, failed=self.workspace.notices.fail
        )

    def pending(self) -> list[int]:
        """The images shown that can have a map under the setup and have none yet."""
        some = self.workspace.shown.images
        possible = self.setup.possible(self.workspace.shown.judged)
        return [i for i in some[possible[some]].tolist() if i not in self.maps]

    def make_maps(self) -> None:
        """Work out the maps of the images shown, in the background."""
        workspace, setup = self.workspace, self.setup
        snapshot, some = workspace.shown.snapshot, workspace.shown.images.tolist()
        workspace.jobs.begin(
            Job("maps", f"Making maps of {images(len(some))}"),
            lambda: heat_jobs.make_maps(snapshot, setup, some, workspace.makers),
        )

    # --- regions ---

    def keep_regions(self, what: str, changes: Mapping[int, tuple[Shape, ...]]) -> None:
        """Keep the shapes drawn at some positions; it can be undone."""
        before, after = {i: self.regions.get(i, ()) for i in changes}, dict(changes)
        if before == after:
            return
        record = self.workspace.shown.record
        set_id, set_key = record.info.set_id, record.set_key

        def put(changes: dict[int, tuple[Shape, ...]]) -> Changes:
            self._edits += 1
            told = {i: [one.as_json() for one in shapes] for i, shapes in changes.items()}
            self.workspace.edits.write(lambda study: save_regions(study, set_id, told))
            if self.workspace.shows_set(set_key):
                self.regions = {i: shapes for i, shapes in {**self.regions, **changes}.items() if shapes}
                yield self.regions_changed

        self.workspace.edits.take_at_once(SmallEdit(what, lambda: put(after), lambda: put(before)))

    # --- cover tests ---

    def cover(self, plan: CoverPlan) -> None:
        """Do a cover test in the background."""
        workspace = self.workspace
        path, snapshot = workspace.path, workspace.shown.snapshot
        workspace.jobs.begin(
            Job("cover", f"Covering {images(len(plan.images))}"),
            lambda: heat_jobs.cover_selection(path, snapshot, plan, workspace.makers),
        )

    def tests_of_run(self) -> list[KeptTest]:
        """The tests kept of the run shown."""
        return [one for one in self.tests if one.run_id == self.workspace.shown.record.info.id]

    def keep_test(self, test: CoverTest, name: str) -> None:
        """Keep a cover test as evidence, under a name."""
        record = self.workspace.shown.record
        done = how_done(test.plan, record.info.model, record.model_sha256, record.image_set)
        outcome = cover_report.as_json(test.result, done, test.found)
        day, plan = date.today().isoformat(), test.plan.as_text(record.names)
        kept = KeptTest(new_test_id(), record.info.id, day, name, plan, cover_report.as_text(outcome))
        self.keep(kept)
        self.shown_test = kept
        self.test_changed.emit()

    def keep(self, test: KeptTest) -> None:
        """Keep a test that is made up; it can be undone."""
        self._change_test(f"Kept: {clipped(test.name, 40)}", test.id, test, None)

    def repeat(self, kept: KeptTest) -> None:
        """Do a kept cover test again, on the run shown. InputError where it cannot be read."""
        self.cover(plan_from_text(kept.plan, self.workspace.shown.record.names))

    def change_test(self, test: KeptTest, name: str | None) -> None:
        """Give a kept test another name, or with None take it away."""
        if name is None:
            self._change_test(f"Taken away: {clipped(test.name, 40)}", test.id, None, test)
        elif name:
            self._change_test("Name of a test", test.id, replace(test, name=name), test)

    def _change_test(self, what: str, test_id: int, now: KeptTest | None, before: KeptTest | None) -> None:
        """Put one test in the place of another, of itself, or of none; the others, read or not yet read, stay."""

        def put(test: KeptTest | None) -> Changes:
            self._edits += 1
            others = [one for one in self.tests if one.id != test_id]
            self.tests = tuple(sorted([*others, *([test] if test else [])], key=lambda one: one.id))
            self.workspace.edits.write(
                lambda study: remove_test(study, test_id) if test is None else save_test(study, test)
            )
            yield self.tests_changed

        self.workspace.edits.take_at_once(SmallEdit(what, lambda: put(now), lambda: put(before)))

    # --- how far maps can be relied on ---

    def examine(self, positions: Sequence[int]) -> None:
        """Examine how far the maps of some images can be relied on, in the background."""
        workspace, setup, some = self.workspace, self.setup, list(positions)
        snapshot = workspace.shown.snapshot
        workspace.jobs.begin(
            Job("reliance", f"Examining {count(len(some))} {'map' if len(some) == 1 else 'maps'}"),
            lambda: heat_jobs.examine(snapshot, setup, some, workspace.makers),
        )

    # --- news ---

    def _take(self, event: FoundMaps | FoundCover | FoundReliance) -> None:
        if not self.workspace.shows(event.run):
            return
        if isinstance(event, FoundMaps) and event.setup == self.setup:
            self.maps, self.zero = event.maps, event.zero
            self.maps_changed.emit()
        elif isinstance(event, FoundCover):
            self.test, self.shown_test = event.test, None
            self.test_changed.emit()
        elif isinstance(event, FoundReliance):
            self.reliance = event.reliance
            self.reliance_changed.emit()

    @property
    def settled(self) -> bool:
        return not self.workers.busy

    def stop(self) -> None:
        self.workers.stop_all()
