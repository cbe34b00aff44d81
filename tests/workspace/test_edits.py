"""Edits go back and forth, and say what they changed."""

from __future__ import annotations

from mivrat.workspace.edits import Changes, SmallEdit
from mivrat.workspace.workspace import Workspace


def test_edits_go_back_and_forth_and_a_new_one_ends_the_way_forth(workspace: Workspace) -> None:
    edits, done, told = workspace.edits, list[str](), list[str]()
    workspace.notices.said.connect(lambda sentence, place: told.append(sentence))
    workspace.topics.kept.connect(lambda: told.append("kept"))

    def edit(name: str) -> SmallEdit:
        def put(what: str) -> Changes:
            done.append(what)
            yield workspace.topics.kept

        return SmallEdit(name, lambda: put(name), lambda: put(f"not {name}"))

    made = [edit(name) for name in ("a", "b", "c")]
    assert (edits.last, edits.next) == (None, None)
    workspace.study_path = None  # nothing is kept anywhere
    for one in made[:2]:
        assert edits.take_at_once(one)
    edits.undo()
    assert (edits.last, edits.next) == (made[0], made[1])
    edits.redo()
    assert (edits.last, edits.next) == (made[1], None)
    edits.undo()
    edits.take_at_once(made[2])
    assert (edits.last, edits.next) == (made[2], None)
    assert done == ["a", "b", "not b", "b", "not b", "c"]
    assert told == ["kept"] * 3 + ["Undone: b"] + ["kept", "Redone: b", "kept", "Undone: b", "kept"]
    edits.clear()
    assert edits.last is None
