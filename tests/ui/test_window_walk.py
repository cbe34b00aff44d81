"""A random walk through the real window, over all pages and runs of unequal size: whatever is done, what stands on screen is of one run."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Labelled, Outcome
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import load_reviews
from mivrat.ui import words
from mivrat.ui.window import BENCH, MainWindow
from mivrat.workspace import study_edits
from tests.support.studies import scored_study

Settle = Callable[[], None]


@pytest.fixture(scope="module")
def studies(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("walked")
    return (
        scored_study(folder / "a", 4, {"large": [30] * 4, "tiny": [3, 4, 0, 0]}, 2),
        scored_study(folder / "b", 3, {"middle": [20, 9, 9], "small": [2, 2, 2]}, 1),
    )


class Walker:
    """Somebody who clicks and types at random."""

    def __init__(self, window: MainWindow, studies: tuple[Path, Path], settle: Settle, seed: int) -> None:
        self.window, self.studies, self.settle, self.rng = window, studies, settle, random.Random(seed)
        self.decided: dict[tuple[Path, int, bytes], frozenset[int]] = {}

    @property
    def is_open(self) -> bool:
        return self.window.workspace.is_open and self.window.pages.currentIndex() == BENCH

    def open(self) -> None:
        path = self.rng.choice(self.studies)
        self.window.workspace.allow(path.parent)
        self.window.open_study(path)

    def show_run(self) -> None:
        self.window.show_run(self.rng.choice(self.window.workspace.runs).id)

    def page(self) -> None:
        bench = self.window.bench
        bench.show_step(self.rng.randrange(len(bench.steps)))
        bench.step.tabs.choose(self.rng.randrange(len(bench.step.tabs.names)))

    def compare(self) -> None:
        found = [run for _, some in self.window.bench.comparer.choices() for run in some]
        if found and self.rng.random() < 0.7:
            self.window.bench.comparer.hold(self.rng.choice(found))
        else:
            self.window.bench.comparer.let_go()

    def select(self) -> None:
        shown = self.window.workspace.shown
        k = self.rng.randrange(len(shown.classes))
        shown.choose(
            self.rng.choice([Labelled(frozenset({k})), Outcome(frozenset({"wrong"}))]), beside=self.rng.random() < 0.3
        )

    def scope(self) -> None:
        self.window.bench.measure.scope.setCurrentIndex(self.rng.randrange(2))

    def key(self) -> None:
        """A key on the light table or the close look."""
        bench = self.window.bench
        target = bench.close_look if bench.looks_closely else bench.light_table.thumbs
        target.setFocus()
        QTest.keyClick(
            QApplication.focusWidget() or target,
            self.rng.choice(
                [
                    Qt.Key.Key_Right,
                    Qt.Key.Key_M,
                    Qt.Key.Key_N,
                    Qt.Key.Key_Return,
                    Qt.Key.Key_Escape,
                    Qt.Key.Key_Backspace,
                ]
            ),
        )

    def decide(self) -> None:
        """A cause by its key: it has to go to the content that is on screen."""
        shown = self.window.workspace.shown
        shown.focus.step(self.rng.randrange(1, 9))
        if shown.focus.current is None:
            return
        content = shown.record.answers.contents.get(shown.focus.current)
        if content is None:
            return  # nobody has read it yet
        if self.window.bench.reviewer.toggle_key(1):
            where = self.window.workspace.path, shown.record.info.set_id, content
            self.decided[where] = shown.reviews[shown.focus.current].causes

    def subset(self) -> None:
        workspace = self.window.workspace
        contents = workspace.contents
        of = (
            next((one for one in contents.sets if one.id == workspace.shown.record.info.set_id), None)
            if contents
            else None
        )
        if of is None or not of.labelled or len(workspace.runs) > 8:
            return
        record = workspace.shown.record
        workspace.edits.take(study_edits.draw_subset(of, max(1, of.images * 3 // 5), 1, False))
        self.settle()
        assert workspace.contents is not None
        made = workspace.contents.sets[-1].id
        workspace.edits.take(study_edits.add_run("begun", record.model_path, made, record.recipe))

    def close(self) -> None:
        self.window.close_study()

    def step(self) -> str:
        ways = [self.show_run, self.page, self.page, self.compare, self.select, self.scope, self.key, self.decide]
        ways += [self.subset, self.open, self.close] if self.rng.random() < 0.25 else []
        way = self.rng.choice(ways) if self.is_open else self.open
        way()
        return way.__name__

    def look(self) -> None:
        """Header, selection line, light table, close look and figures are of the run shown."""
        workspace, bench = self.window.workspace, self.window.bench
        if not self.is_open:
            return
        shown = workspace.shown
        total, info = len(shown.judged.labels), shown.record.info
        assert bench.header.run_button.text().removesuffix(" ▾") == words.clipped(info.image_set, 34)
        assert words.images(total) in bench.header.facts.full_text
        ticked = [one.text() for one in bench.header.runs_menu.actions() if one.isChecked()]
        assert len(ticked) == 1
        assert ticked[0].startswith(info.image_set)
        assert bench.line.summary.text().startswith(
            (f"{len(shown.images)} of {total} images", f"{total} images", "All")
        )
        assert all(0 <= i < total for i in shown.images)
        assert len(shown.results.measured.figures.matrix) == len(shown.classes)
        if bench.looks_closely and shown.focus.current is not None:
            assert (
                shown.record.image_set.items[shown.focus.current].path.rpartition("/")[2]
                in bench.close_look.path.full_text
            )
        thumbs = bench.light_table.thumbs
        assert thumbs._starts[-1] <= max(0, len(shown.images))


@pytest.mark.parametrize("seed", [0, *(pytest.param(seed, marks=pytest.mark.slow) for seed in range(1, 6))])
def test_whatever_is_done_one_run_is_on_screen(
    qtbot: QtBot, window: MainWindow, settle: Settle, studies: tuple[Path, Path], seed: int
) -> None:
    walker, walked = Walker(window, studies, settle, seed), list[str]()
    for _ in range(30):
        walked.append(walker.step())
        settle()
        walker.look()
        assert "Something went wrong" not in window.foot.problem.full_text, walked
    if window.workspace.is_open:
        window.close_study()
    for (path, set_id, content), causes in walker.decided.items():
        with Study.open(path) as study:
            kept = load_reviews(study, set_id)
            (contents,) = [dict(study.rows("SELECT position, content FROM image WHERE set_id = ?", set_id))]
        assert {i for i, one in kept.by_position.items() if one.causes} <= set(contents)
        assert [kept[i].causes for i, one in contents.items() if one == content] == [causes]
