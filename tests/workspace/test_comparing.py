"""Which runs can be compared with the one shown, and what both come to together."""

from __future__ import annotations

from pathlib import Path

from mivrat.core.selecting.selection import Labelled
from mivrat.core.study.records import RunInfo
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.loop import HeadlessLoop
from mivrat.workspace.workspace import Workspace
from tests.support.studies import scored_study
from tests.support.workspaces import Remembered, settle


def test_runs_are_offered_by_what_they_share_with_the_one_shown(workspace: Workspace) -> None:
    """The run shown is model 1 on set 1; itself is never offered, nor a heading without runs."""
    comparer = Comparer(workspace)
    workspace.runs = [workspace.shown.record.info]
    assert comparer.choices() == []
    same_set, same_model, other = (
        RunInfo(2, "b", "set", 2, 1),
        RunInfo(3, "net", "more", 1, 2),
        RunInfo(4, "b", "more", 2, 2),
    )
    workspace.runs = [other, same_model, workspace.shown.record.info, same_set]
    assert comparer.choices() == [
        ("the same images under", [same_set]),
        ("the same model on", [same_model]),
        ("another model on other images", [other]),
    ]


def test_both_are_compared_once_another_run_is_held_and_again_for_the_selection(tmp_path: Path) -> None:
    loop = HeadlessLoop()
    workspace = Workspace(loop, Remembered())
    comparer = Comparer(workspace)
    path = scored_study(tmp_path / "a", 3, {"one": [6, 5, 4]}, 2)
    workspace.allow(path.parent)
    workspace.open(path)
    settle(loop, lambda: workspace.is_open and comparer.settled)
    shown = workspace.shown
    other = next(one for _, some in comparer.choices() for one in some if one.set_id == shown.record.info.set_id)
    comparer.hold(other)
    settle(loop, lambda: shown.compared is not None and comparer.settled)
    assert shown.compared is not None
    assert (shown.compared.held, shown.compared.of_selection) == (shown.held, False)
    assert shown.compared.found.paired is not None
    assert shown.compared.found.paired.total == 15
    shown.replace(Labelled(frozenset({0})))
    comparer.follow_selection(True)
    settle(loop, lambda: comparer.settled)
    assert (shown.compared.of_selection, shown.compared.found.paired and shown.compared.found.paired.total) == (True, 6)
    comparer.let_go()
    assert (shown.held, shown.compared) == (None, None)
    comparer.stop()
    workspace.stop_all()
