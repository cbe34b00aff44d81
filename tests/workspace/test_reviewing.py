"""Decisions on images: causes, labels and notes, as they are kept and taken back."""

from __future__ import annotations

from mivrat.core.study.reviews import LABEL_IS_WRONG, Cause
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace


def test_a_label_found_wrong_counts_under_that_cause_only_where_there_is_a_label(workspace: Workspace) -> None:
    workspace.path.touch()
    reviewer, shown = Reviewer(workspace), workspace.shown
    shown.reviews.causes = (Cause(7, LABEL_IS_WRONG), Cause(8, "blurred"))
    shown.focus.look_at(4)
    assert reviewer.propose(2)
    assert (shown.reviews[4].label, shown.reviews[4].causes, shown.reviews[4].reviewed) == (2, frozenset({7}), True)
    assert reviewer.propose(None)
    assert (shown.reviews[4].label, shown.reviews[4].causes) == (None, frozenset())
    assert reviewer.propose(1, [9, 10])  # others than the one looked at
    assert (shown.reviews[9].label, shown.reviews[10].label, shown.reviews[4].label) == (1, 1, None)
    workspace.edits.undo()
    assert shown.reviews[9].label is None
    assert reviewer.toggle_key(2)
    assert shown.reviews[4].causes == {8}
    assert not reviewer.toggle_key(3)  # there are two causes
    assert reviewer.toggle_cause(8)
    assert shown.reviews[4].causes == frozenset()
    workspace.after_writing(lambda: None)
