"""Which runs can be compared with the one shown, and in which order they are offered."""

from __future__ import annotations

from mivrat.core.study.records import RunInfo
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace


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
