"""Edits go back and forth, and say what they changed."""

from __future__ import annotations

import threading
from pathlib import Path

from mivrat.core.base.job import current_stop
from mivrat.core.study.file import Study
from mivrat.core.study.reviews import Review
from mivrat.core.study.settings import load_criteria, load_setting, save_criteria, save_setting
from mivrat.workspace.edits import Changes, SmallEdit, StudyEdit
from mivrat.workspace.loop import HeadlessLoop
from mivrat.workspace.study_edits import add_images
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import Remembered, settle


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


ENDLESS = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000000000) SELECT COUNT(*) FROM n"


def test_an_edit_that_is_stopped_leaves_nothing_behind_and_what_is_written_meanwhile_is_kept(demo_study: Path) -> None:
    loop = HeadlessLoop()
    workspace = Workspace(loop, Remembered())
    told, begun = list[str](), threading.Event()
    workspace.notices.said.connect(lambda sentence, place: told.append(sentence))
    workspace.open(demo_study)
    settle(loop, lambda: workspace.is_open and workspace.contents is not None)
    model_id = workspace.shown.record.info.model_id

    def change(study: Study) -> None:
        save_criteria(study, model_id, ["accuracy >= 0.5"])
        begun.set()
        study.rows(ENDLESS)

    workspace.edits.take(StudyEdit("criteria changed", change, lambda study: None))
    assert begun.wait(30)
    workspace.edits.write(lambda study: save_setting(study, "place", "there"))
    workspace.edits.stop()
    settle(loop, lambda: not workspace.busy)
    assert told[-1] == "Stopped: criteria changed. The study is as it was before."
    assert workspace.edits.last is None
    assert not workspace.edits.going_on
    workspace.writing.wait()
    with Study.open(demo_study) as study:
        assert load_criteria(study, model_id) == ()
        assert load_setting(study, "place") == "there"

    # The same edit, not stopped, goes through afterwards.
    once = StudyEdit(
        "criteria changed", lambda study: save_criteria(study, model_id, ["accuracy >= 0.5"]), lambda study: None
    )
    workspace.edits.take(once)
    settle(loop, lambda: not workspace.busy)
    assert workspace.edits.last is once
    workspace.stop_all()


def test_reading_a_folder_of_images_can_be_stopped(demo_study: Path, tmp_path: Path) -> None:
    loop = HeadlessLoop()
    workspace = Workspace(loop, Remembered())
    workspace.open(demo_study)
    settle(loop, lambda: workspace.is_open and workspace.contents is not None)
    for k in range(20):
        (tmp_path / f"{k}").mkdir()
        (tmp_path / f"{k}" / "a.png").touch()
    edit = add_images(tmp_path, "held-out")

    def stopped_at_once(study: Study) -> int | None:
        current_stop().stop()
        return edit.do(study)

    sets = len(workspace.contents.sets) if workspace.contents is not None else 0
    workspace.edits.take(StudyEdit(edit.words, stopped_at_once, edit.undo))
    settle(loop, lambda: not workspace.busy)
    workspace.contents = None
    workspace.look_further()
    settle(loop, lambda: workspace.contents is not None)
    assert workspace.contents is not None
    assert len(workspace.contents.sets) == sets
    assert workspace.edits.last is None
    workspace.stop_all()


def test_without_an_edit_there_is_nothing_to_undo_or_redo(workspace: Workspace) -> None:
    said: list[str] = []
    workspace.notices.said.connect(lambda sentence, place: said.append(sentence))
    workspace.edits.undo()
    workspace.edits.redo()
    assert (workspace.edits.last, workspace.edits.next, said) == (None, None, [])


def test_a_review_is_seen_at_once_and_told_once(workspace: Workspace) -> None:
    workspace.path.touch()
    told: list[str] = []
    workspace.topics.reviews.connect(lambda: told.append("reviews"))
    changed = {3: Review(note="odd"), 5: Review()}
    assert workspace.edits.review("a note", changed)
    assert (workspace.shown.reviews[3].note, told) == ("odd", ["reviews"])
    assert not workspace.edits.review("the same again", changed)
    workspace.edits.undo()
    assert (workspace.shown.reviews[3].note, told) == ("", ["reviews"] * 2)
    workspace.after_writing(lambda: None)
