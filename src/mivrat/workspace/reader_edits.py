"""The edits that have to do with several readers: who reviews, others' decisions merged, what is agreed on; each with its way back."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from mivrat.core.base.text import count, images
from mivrat.core.concluding.two_readers import Merged, merge, read_reviews, write_reviews
from mivrat.core.study.decisions import Agreed
from mivrat.core.study.file import Study
from mivrat.core.study.readers import (
    change_reader,
    hand_over,
    merged_rows,
    name_reader,
    save_reads_blind,
    take_reader_away,
)
from mivrat.core.study.records import Removed
from mivrat.core.study.removing import put_back
from mivrat.core.study.reviews import READER, save_agreed
from mivrat.core.study.settings import save_setting
from mivrat.workspace.edits import Changes, SmallEdit, StudyEdit
from mivrat.workspace.workspace import Workspace


def reader_named(before: str, name: str) -> StudyEdit:
    """The reviews of the present reader, ``before``, get a name, or another one."""
    name = name.strip()
    return StudyEdit(
        f"reader named {name}",
        lambda study: name_reader(study, name),
        lambda study: hand_over(study, name, before),
        of_run=False,
        of_reviews=True,
    )


def reader_changed(before: str, name: str) -> StudyEdit:
    """Someone else than ``before`` reviews from now on."""
    name = name.strip()
    return StudyEdit(
        f"{name} reads from now on",
        lambda study: change_reader(study, name),
        lambda study: save_setting(study, READER, before),
        of_run=False,
        of_reviews=True,
    )


def reviews_merged(source: Path) -> StudyEdit:
    """Another reader's decisions taken in, from a file."""
    merged, before = list[Merged](), list[Removed]()

    def do(study: Study) -> None:
        given = read_reviews(source)
        before[:] = [merged_rows(study, given.reader)]
        merged[:] = [merge(study, given)]

    def undo(study: Study) -> None:
        take_reader_away(study, merged[0].reader)
        put_back(study, before[0])

    return StudyEdit(f"decisions of {source.name} merged", do, undo, of_run=False, of_reviews=True)


def export_reviews(workspace: Workspace, target: Path) -> None:
    """Write what the present reader has decided, behind everything decided so far."""
    path, reader = workspace.path, workspace.shown.reviews.reader

    def done(found: tuple[int, int]) -> None:
        told, unread = found
        left = f"; left out: {images(unread)} whose files were not read yet" if unread else ""
        workspace.notices.say(f"{count(told)} decisions of {reader} written: {target.name}{left}", target)

    def write() -> tuple[int, int]:
        with Study.open(path, again=True) as study:
            return write_reviews(study, reader, target)

    workspace.reading.start(lambda task: workspace.after_writing(write), done=done, failed=workspace.notices.fail)


def settle(workspace: Workspace, words: str, changes: Mapping[int, Agreed | None]) -> bool:
    """Keep what readers have agreed on for some images of the set shown; None takes it away. False where nothing was done."""
    shown = workspace.shown
    before = {i: shown.reviews.agreed.get(i) for i in changes}
    set_id, set_key = shown.record.info.set_id, shown.record.set_key

    def put(changes: Mapping[int, Agreed | None]) -> Changes:
        workspace.edits.write(lambda study: save_agreed(study, set_id, changes))
        if workspace.shows_set(set_key):
            workspace.shown.put_agreed(changes)
            yield workspace.topics.reviews

    if before == dict(changes) or workspace.edits.going_on:
        return False
    return workspace.edits.take_at_once(SmallEdit(words, lambda: put(changes), lambda: put(before)))


def read_blind(workspace: Workspace, blind: bool) -> None:
    """Hide answers and others' decisions from who reviews, or show them again; the study remembers it."""
    workspace.shown.set_blind(blind)
    workspace.edits.write(lambda study: save_reads_blind(study, blind))
