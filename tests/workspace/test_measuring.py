"""Figures of the whole run or of the selection: which are shown, and when they are computed again."""

from __future__ import annotations

from mivrat.core.selecting.selection import Labelled
from mivrat.workspace.measuring import Measurer
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import settle


def test_figures_follow_the_selection_only_when_asked_and_what_else_goes_on_changes_none(workspace: Workspace) -> None:
    measurer, results = Measurer(workspace), workspace.shown.results
    computed: list[int] = []
    workspace.topics.measured.connect(lambda: computed.append(results.measured.figures.total))

    def calm() -> None:
        settle(workspace.loop, lambda: measurer.settled)  # type: ignore[arg-type]

    measurer.follow_selection(True)
    calm()
    assert (results.measured.of_selection, results.measured.figures.total) == (True, 80)
    workspace.shown.replace(Labelled(frozenset({2})))
    calm()
    assert (results.measured.figures.total, results.measured.deep is not None) == (16, True)
    measurer.follow_selection(False)
    calm()
    assert (results.measured.of_selection, results.measured.figures.total) == (False, 80)
    assert results.measured.deep is not None
    before = len(computed)
    workspace.shown.replace(Labelled(frozenset({1})))  # the figures are of all images
    workspace.set_busy(True)
    workspace.set_busy(False)
    calm()
    assert len(computed) == before
    measurer.stop()
