"""Findings belong to the model, the recipe and the images they were found on, whatever these are called."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from mivrat.core.selecting.selection import Labelled
from mivrat.core.study.file import Study
from mivrat.core.study.runs import list_runs
from mivrat.workspace import study_edits
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.loop import HeadlessLoop
from mivrat.workspace.workspace import Workspace
from tests.support.studies import scored_study
from tests.support.workspaces import Remembered, settle


class Open:
    """A workspace on a study of one model and two sets of one name, as a window has it."""

    def __init__(self, folder: Path) -> None:
        path = scored_study(folder / "a", 3, {"one/set": [4, 4, 4], "two/set": [2, 3, 4]}, 1)
        self.loop = HeadlessLoop()
        self.workspace = Workspace(self.loop, Remembered())
        self.workspace.allow(path.parent)
        self.concluder = Concluder(self.workspace)
        self.show(path)

    def show(self, path: Path, run: int | None = None) -> None:
        self.workspace.open(path, run)
        self.wait()

    def wait(self) -> None:
        workspace = self.workspace
        settle(
            self.loop,
            lambda: (
                not (workspace.reading.busy or workspace.writing.busy or workspace.busy or not self.concluder.settled)
                and not self.loop.turn()
            ),
        )


@pytest.fixture
def opened(tmp_path: Path) -> Iterator[Open]:
    made = Open(tmp_path)
    yield made
    made.concluder.stop()
    made.workspace.stop_all()


def test_a_finding_was_not_found_under_another_recipe_or_on_another_set_of_that_name(opened: Open) -> None:
    workspace, concluder = opened.workspace, opened.concluder
    first = workspace.shown.record
    workspace.shown.choose(Labelled(frozenset({1})))
    concluder.add_selection()
    opened.wait()
    (finding,) = concluder.findings
    assert concluder._found_here(finding)
    values = first.recipe.values.model_copy(update={"mean": [0.4]})
    other = first.recipe.model_copy(update={"values": values})
    workspace.edits.take(study_edits.add_run("adopted", first.model_path, first.info.set_id, other))
    opened.wait()
    assert workspace.shown.record.model_sha256 == first.model_sha256
    assert not concluder._found_here(finding)
    assert concluder.target.id == workspace.shown.record.info.id
    elsewhere = next(run for run in workspace.runs if run.set_id != first.info.set_id and "two" in run.image_set)
    opened.show(workspace.path, elsewhere.id)
    assert not concluder._found_here(finding)
    opened.show(workspace.path, first.info.id)
    assert concluder._found_here(finding)


def test_runs_of_one_name_are_told_apart_wherever_they_are_named(opened: Open) -> None:
    workspace = opened.workspace
    record = workspace.shown.record
    values = record.recipe.values.model_copy(update={"mean": [0.4]})
    other = record.recipe.model_copy(update={"values": values})
    workspace.edits.take(study_edits.add_run("adopted", record.model_path, record.info.set_id, other))
    opened.wait()
    with Study.open(workspace.path, again=True) as study:
        runs = list_runs(study)
    sets = {run.set_id: run.image_set for run in runs}
    assert {"set (one)", "set (two)", "bare"} == set(sets.values())
    models = {run.model_id: run.model for run in runs}
    assert sorted(models.values()) == sorted({f"0 ({one.summary()})" for one in (record.recipe, other)})
    assert workspace.shown.record.info in runs
    contents = workspace.contents
    assert contents is not None
    assert {one.id: one.name for one in contents.sets}.items() >= sets.items()
    assert {i: contents.model_name(i) for i in models} == models
