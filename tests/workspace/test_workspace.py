"""Studies opened one after the other: what belongs to one is gone with it, and each is found again as it was left."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from mivrat.workspace import study_edits
from mivrat.workspace.jobs import QUICK
from mivrat.workspace.loop import HeadlessLoop
from mivrat.workspace.workspace import Workspace
from tests.support.studies import scored_study
from tests.support.workspaces import Remembered, settle


@pytest.fixture(scope="module")
def studies(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("workspace")
    return scored_study(folder / "a", 3, {"one": [4, 3, 3]}, 2), scored_study(folder / "b", 2, {"two": [3, 2]}, 1)


@pytest.fixture
def workspace(studies: tuple[Path, Path]) -> Iterator[Workspace]:
    made = Workspace(HeadlessLoop(), Remembered())
    made.allow(*(one.parent for one in studies))
    yield made
    made.stop_all()


def opened(workspace: Workspace, path: Path, run: int | None = None) -> None:
    workspace.open(path, run)
    settle(workspace.loop, lambda: workspace.study_path == path and not workspace.reading.busy)  # type: ignore[arg-type]


def test_nothing_of_the_study_before_is_kept_and_the_run_looked_at_is_found_again(
    workspace: Workspace, studies: tuple[Path, Path]
) -> None:
    first, second = studies
    told: list[str] = []
    workspace.opened.connect(lambda path: told.append(f"opened {path.parent.name}"))
    workspace.topics.left.connect(lambda: told.append("left"))
    opened(workspace, first)
    other = next(one.id for one in workspace.runs if one.id != workspace.shown.record.info.id)
    opened(workspace, first, other)
    workspace.edits.take(study_edits.set_criteria(1, "criteria", ["top1 >= 0.5"], ()))
    settle(workspace.loop, lambda: workspace.edits.last is not None and not workspace.busy)  # type: ignore[arg-type]
    assert workspace.contents is not None
    assert workspace.contents.criteria[1] == ("top1 >= 0.5",)
    figures = workspace.shown.results.measured.figures
    assert figures.total == workspace.shown.snapshot.counts.evaluated
    opened(workspace, second)
    assert workspace.edits.last is None
    assert workspace.shown.results.measured.figures.total == workspace.shown.snapshot.counts.evaluated == 5
    assert told == ["left", "opened a", "left", "opened b"]
    opened(workspace, first)
    assert workspace.shown.record.info.id == other


def test_quick_checks_run_by_themselves_and_what_a_job_finds_is_shown(
    workspace: Workspace, studies: tuple[Path, Path]
) -> None:
    opened(workspace, studies[1])
    assert set(workspace.shown.results.checks) == set(QUICK)
    workspace.jobs.check(["duplicates"])
    settle(workspace.loop, lambda: workspace.jobs.going_on is None)  # type: ignore[arg-type]
    assert workspace.shown.results.checks["duplicates"].result.state == "fine"
