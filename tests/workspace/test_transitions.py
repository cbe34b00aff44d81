"""Whatever is done in whatever order, what is shown is of one run: random walks through two studies with sets of unequal size."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

from mivrat.core.selecting.ordering import BY_BOTH, NO_BANDS, ORDERS, ORDERS_OF_BOTH
from mivrat.core.selecting.selection import Labelled, Outcome, OutcomeOfBoth, Picked, Predicted, Reviewed
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import Review, load_reviews
from mivrat.workspace import study_edits
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.loop import HeadlessLoop
from mivrat.workspace.measuring import Measurer
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace
from tests.support.studies import scored_study
from tests.support.workspaces import Remembered, settle


@pytest.fixture(scope="module")
def studies(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("two")
    return (
        scored_study(folder / "a", 4, {"large": [100] * 4, "tiny": [3, 4, 0, 0]}, 2),
        scored_study(folder / "b", 3, {"middle": [120, 60, 60], "small": [5, 5, 5]}, 2),
    )


class Walk(RuleBasedStateMachine):
    """A person who does anything that the window offers, in any order, while listeners look at everything they are told of."""

    sources: tuple[Path, Path]

    def __init__(self) -> None:
        super().__init__()
        # Beside the study, where its pictures and models are.
        self.paths = [Path(shutil.copy(path, path.with_name("walk.mivrat"))) for path in self.sources]
        self.loop = HeadlessLoop()
        self.workspace = Workspace(self.loop, Remembered())
        self.workspace.allow(*(path.parent for path in self.sources))
        self.comparer, self.concluder = Comparer(self.workspace), Concluder(self.workspace)
        self.measurer, self.reviewer = Measurer(self.workspace), Reviewer(self.workspace)
        self.problems: list[str] = []
        self.workspace.notices.failed.connect(lambda error: self.problems.append(error.line()))
        # Content and study of what was decided, as it was on screen at that moment; None: nothing stands there any more.
        self.decided: dict[tuple[Path, str, bytes], str] = {}
        self.last_note = 0
        for name, topic in vars(self.workspace.topics).items():
            if isinstance(topic, Topic):
                topic.connect(self.is_whole, always=name != "left")
        self.workspace.topics.arrangement_wanted.connect(self.arrange)

    def teardown(self) -> None:
        for part in (self.comparer, self.measurer, self.concluder):
            part.stop()
        self.workspace.stop_all()
        for path in self.paths:
            path.unlink()

    def arrange(self) -> None:
        """What the light table does when an order takes long."""
        shown = self.workspace.shown
        images, wanted = shown.to_arrange(), (shown.order.by, shown.order.band_by, shown.order.about)
        self.loop.post(
            lambda: shown.take_arrangement(images.judged, images.arranged(*wanted)) if self.workspace.is_open else None
        )

    def wait(self) -> None:
        workspace, parts = self.workspace, (self.comparer, self.measurer, self.concluder)
        settle(
            self.loop,
            lambda: (
                not workspace.reading.busy
                and not workspace.writing.busy
                and not workspace.busy
                and all(part.settled for part in parts)
                and not self.loop.turn()
            ),
        )

    def edit(self, edit: study_edits.StudyEdit) -> None:
        self.workspace.edits.take(edit)
        self.wait()

    # --- what has to be so after every step, and whenever anybody is told of anything ---

    def is_whole(self, *_: object) -> None:
        if not self.workspace.is_open:
            return
        shown, record = self.workspace.shown, self.workspace.shown.record
        total = len(record.image_set.items)
        assert self.workspace.study_path is not None
        assert record.info.id in {run.id for run in self.workspace.runs}
        assert len(shown.judged.labels) == total == shown.snapshot.counts.listed
        mask = shown.selection.mask(shown.judged)
        assert mask.shape == (total,)
        assert len(np.unique(shown.images)) == len(shown.images) <= total
        assert ((shown.images >= 0) & (shown.images < total)).all()
        assert sum(band.stop - band.start for band in shown.bands) in (0, len(shown.images))
        assert all(0 <= i < total for i in shown.focus.marked)
        assert shown.focus.current is None or 0 <= shown.focus.current < total
        assert all(0 <= i < total for i in shown.reviews.by_position)
        assert shown.accuracy().total <= len(shown.images)
        assert shown.results.measured.figures.total <= total
        assert (shown.held is None) == (shown.held_other.other is None) or shown.held.on_sets is not None
        if shown.held is not None:
            assert shown.held.a.record.key == record.key
            assert shown.held.other is shown.other
        if shown.other is not None:
            assert len(shown.other.at) == total
        else:
            assert shown.order.by not in ORDERS_OF_BOTH
            assert shown.order.band_by != BY_BOTH
            assert not any(isinstance(one, OutcomeOfBoth) for one in shown.conditions)
        if shown.compared is not None:  # until it has been worked out again, that of the same two runs stands
            assert shown.held is not None
            for before, now in ((shown.compared.held.a, shown.held.a), (shown.compared.held.b, shown.held.b)):
                assert before.record.key == now.record.key
        assert all(len(kept.mask(shown.judged)) == total for kept in shown.conditions)

    @invariant()
    def all_is_of_one_run(self) -> None:
        self.is_whole()
        if self.workspace.is_open:
            shown = self.workspace.shown
            assert set(shown.images) <= set(np.flatnonzero(shown.selection.mask(shown.judged))) or any(
                isinstance(one, Reviewed) for one in shown.conditions
            )
            assert shown.focus.current is None or shown.focus.current in shown.images

    # --- what a person does ---

    @rule(which=st.integers(0, 1))
    def open(self, which: int) -> None:
        self.workspace.open(self.paths[which])
        self.wait()
        assert self.workspace.study_path == self.paths[which]

    @rule()
    @precondition(lambda self: self.workspace.is_open)
    def close(self) -> None:
        self.workspace.close()
        assert not self.workspace.is_open

    @rule(which=st.integers(0, 8))
    @precondition(lambda self: self.workspace.is_open)
    def show_run(self, which: int) -> None:
        runs = self.workspace.runs
        wanted = runs[which % len(runs)]
        self.workspace.open(self.workspace.path, wanted.id)
        self.wait()
        assert self.workspace.shown.record.info.id == wanted.id

    @rule(which=st.integers(0, 8), waiting=st.booleans())
    @precondition(lambda self: self.workspace.is_open)
    def compare(self, which: int, waiting: bool) -> None:
        choices = [run for _, some in self.comparer.choices() for run in some]
        if choices:
            self.comparer.hold(choices[which % len(choices)])
            if waiting:
                self.wait()

    @rule()
    @precondition(lambda self: self.workspace.is_open)
    def stop_comparing(self) -> None:
        self.comparer.let_go()

    @rule(k=st.integers(0, 3), how=st.integers(0, 5), beside=st.booleans())
    @precondition(lambda self: self.workspace.is_open)
    def select(self, k: int, how: int, beside: bool) -> None:
        shown = self.workspace.shown
        k = k % len(shown.classes)
        last = len(shown.judged.labels) - 1
        some = (
            Labelled(frozenset({k})),
            Predicted(frozenset({k})),
            Outcome(frozenset({"wrong"})),
            Picked("hand", (last, 0)),
            Reviewed(frozenset({"reviewed"}), shown.reviews),
            OutcomeOfBoth(frozenset({"fixed"}), shown.held_other),
        )[how]
        if not isinstance(some, OutcomeOfBoth) or shown.other is not None:
            shown.choose(some, beside=beside)

    @rule(what=st.sampled_from(["back", "forward", "clear", "remove_last"]))
    @precondition(lambda self: self.workspace.is_open)
    def walk_the_history(self, what: str) -> None:
        getattr(self.workspace.shown, what)()

    @rule(order=st.sampled_from(ORDERS))
    @precondition(lambda self: self.workspace.is_open)
    def order(self, order: str) -> None:
        if order not in ORDERS_OF_BOTH or self.workspace.shown.other is not None:
            self.workspace.shown.set_order(order)

    @rule(by=st.sampled_from([NO_BANDS, "label", "prediction", BY_BOTH]))
    @precondition(lambda self: self.workspace.is_open)
    def band(self, by: str) -> None:
        if by != BY_BOTH or self.workspace.shown.other is not None:
            self.workspace.shown.set_bands(by)

    @rule(k=st.integers(0, 3))
    @precondition(lambda self: self.workspace.is_open)
    def called_and_labelled(self, k: int) -> None:
        self.workspace.shown.show_called_and_labelled(k % len(self.workspace.shown.classes))

    @rule(by=st.integers(-3, 400))
    @precondition(lambda self: self.workspace.is_open)
    def look(self, by: int) -> None:
        self.workspace.shown.focus.step(by)

    @rule(up_to=st.integers(0, 30))
    @precondition(lambda self: self.workspace.is_open and len(self.workspace.shown.images) > 0)
    def mark(self, up_to: int) -> None:
        self.workspace.shown.focus.mark_up_to(up_to % len(self.workspace.shown.images))

    def key_of(self, image: int) -> tuple[Path, str, bytes]:
        record = self.workspace.shown.record
        return self.workspace.path, record.info.image_set, record.answers.contents[image]

    @rule()
    @precondition(lambda self: self.workspace.is_open and self.workspace.shown.focus.acted_on)
    def review(self) -> None:
        """A note on the image looked at: it has to be kept with the content that is on screen."""
        self.last_note += 1
        image = self.workspace.shown.focus.acted_on[0]
        key = self.key_of(image)
        if self.reviewer.write_note(image, f"note {self.last_note}"):
            self.decided[key] = f"note {self.last_note}"

    @rule()
    @precondition(lambda self: self.workspace.edits.last is not None)
    def undo(self) -> None:
        edit = self.workspace.edits.last
        self.workspace.edits.undo()
        self.wait()
        if edit is not None and edit.words.startswith("note"):
            self.decided = {key: note for key, note in self.decided.items() if key[0] != self.workspace.path}

    @rule()
    @precondition(lambda self: self.workspace.is_open and self.workspace.contents is not None)
    def draw_a_subset(self) -> None:
        contents = self.workspace.contents
        assert contents is not None
        of = next(one for one in contents.sets if one.id == self.workspace.shown.record.info.set_id)
        if of.labelled:
            self.edit(study_edits.draw_subset(of, max(1, of.images * 3 // 5), 1, False))
            self.wait()
            made = self.workspace.contents
            assert made is not None
            path = self.workspace.shown.record.model_path
            self.edit(study_edits.add_run("begun", path, made.sets[-1].id, None, self.workspace.shown.record.recipe))

    @rule(mean=st.sampled_from([0.4, 0.5]))
    @precondition(lambda self: self.workspace.is_open)
    def change_the_recipe(self, mean: float) -> None:
        record = self.workspace.shown.record
        values = record.recipe.values.model_copy(update={"mean": [mean]})
        other = record.recipe.model_copy(update={"values": values})
        self.edit(study_edits.add_run("recipe adopted", record.model_path, record.info.set_id, other))

    @rule(which=st.integers(0, 8), kind=st.sampled_from(["set", "model"]))
    @precondition(lambda self: self.workspace.is_open and self.workspace.contents is not None)
    def remove(self, which: int, kind: str) -> None:
        contents = self.workspace.contents
        assert contents is not None
        if kind == "set":
            self.edit(study_edits.remove_set(contents.sets[which % len(contents.sets)]))
        else:
            self.edit(study_edits.remove_model(contents.models[which % len(contents.models)]))
        self.problems = [one for one in self.problems if "every run of this study" not in one]

    @rule()
    def wait_for_all(self) -> None:
        self.wait()
        assert self.problems == []

    @rule()
    @precondition(lambda self: self.workspace.is_open)
    def what_was_decided_is_kept_with_its_content(self) -> None:
        self.wait()
        path = self.workspace.path
        with Study.open(path, again=True) as study:
            info = self.workspace.shown.record.info
            reviews: dict[int, Review] = load_reviews(study, info.set_id).by_position
        contents = self.workspace.shown.record.answers.contents
        for (of, name, content), note in self.decided.items():
            if (of, name) == (path, info.image_set):
                assert [one.note for i, one in reviews.items() if contents[i] == content] == [note]


def test_every_walk_shows_one_run_at_a_time(studies: tuple[Path, Path]) -> None:
    walk: Callable[[], RuleBasedStateMachine] = type("ThisWalk", (Walk,), {"sources": studies})
    run_state_machine_as_test(
        walk,
        settings=settings(
            max_examples=int(os.environ.get("MIVRAT_WALKS", "4")),
            stateful_step_count=30,
            deadline=None,
            derandomize=True,
            phases=[Phase.generate],  # a walk takes a second: what fails is found again by what was printed
            report_multiple_bugs=False,
            suppress_health_check=list(HealthCheck),
        ),
    )
