"""Edits of a study, each of which can be taken back and taken again, and the history of those taken."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from mivrat.core.base.errors import InputError
from mivrat.core.checks.catalogue import BY_NAME
from mivrat.core.selecting.kept import KeptSelection, load_kept, save_kept
from mivrat.core.study.file import Study
from mivrat.core.study.kept_checks import save_check_answer
from mivrat.core.study.reviews import Cause, Review, Reviews, load_reviews, save_causes, save_reviews
from mivrat.workspace import study_jobs
from mivrat.workspace.executors import Task
from mivrat.workspace.topics import Topic

if TYPE_CHECKING:
    from mivrat.workspace.workspace import Workspace

Changes = Iterable[Topic]


@dataclass(frozen=True)
class StudyEdit:
    """An edit after which the study is read anew: in words; how to do it, giving the run to be shown or None for the one
    shown; how to take it back. Both are called in a worker, with the study open. One that is not ``of_run`` changes no figure of
    the run shown: only what the study holds beside it is read, and, where it is ``of_reviews``, the reviews."""

    words: str
    do: Callable[[Study], int | None]
    undo: Callable[[Study], object]
    of_run: bool = True
    of_reviews: bool = False


@dataclass(frozen=True)
class SmallEdit:
    """An edit that is seen at once, and written right behind. ``do`` and ``undo`` return the topics of what they changed."""

    words: str
    do: Callable[[], Changes]
    undo: Callable[[], Changes]


Edit = StudyEdit | SmallEdit


class Edits:
    """Takes edits on the open study, takes them back and again; a ``SmallEdit`` is written behind all written before."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._applied: list[Edit] = []
        self._undone: list[Edit] = []
        # What is being done to the study, in words; empty while nothing is.
        self.going_on = ""
        self._task: Task | None = None
        # Held while an edit, or something small, writes to the study: a long edit has the file to itself.
        self.file = threading.Lock()

    @property
    def last(self) -> Edit | None:
        """What can be taken back."""
        return self._applied[-1] if self._applied else None

    @property
    def next(self) -> Edit | None:
        """What can be taken again."""
        return self._undone[-1] if self._undone else None

    def clear(self) -> None:
        """Forget all edits: another study is open, or the file could not be written."""
        self._applied.clear()
        self._undone.clear()

    def _note(self, edit: Edit) -> None:
        self._applied.append(edit)
        self._undone.clear()

    # --- taking, taking back ---

    def take(self, edit: StudyEdit, then: Callable[[], object] | None = None) -> None:
        """Take an edit and show what has come of it; ``then`` goes on from there."""
        self._change(edit, edit.do, lambda: self._note(edit), edit.words, then)

    def take_at_once(self, edit: SmallEdit) -> bool:
        """Take a small edit; in a study that cannot be written to nothing is done, and it is said."""
        if self._workspace.in_doubt:
            return False
        path = self._workspace.study_path
        if path is not None and not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
            self._workspace.notices.fail(
                InputError(
                    "cannot be written to, so nothing is decided in it",
                    where=path.name,
                    hint="save it under another name, in a folder you may write to",
                )
            )
            self._workspace.topics.reviews.emit()  # fields that were typed into show again what is kept
            return False
        self._do(edit.do)
        self._note(edit)
        return True

    @staticmethod
    def _do(change: Callable[[], Changes]) -> None:
        for topic in change():
            topic.emit()

    def undo(self) -> None:
        """Take the last edit back."""
        if self.last is not None and not self._workspace.in_doubt:
            self._go(self.last, self.last.undo, self._applied, self._undone, "Undone")

    def redo(self) -> None:
        """Take the edit again that was taken back last."""
        if self.next is not None and not self._workspace.in_doubt:
            self._go(self.next, self.next.do, self._undone, self._applied, "Redone")

    def _go(self, edit: Edit, change: Callable[..., Any], out: list[Edit], into: list[Edit], how: str) -> None:
        """Do one way of an edit that is the last of a list, and put it into the other list."""
        words = f"{how}: {edit.words}"

        def move() -> None:
            into.append(out.pop())

        if isinstance(edit, SmallEdit):
            self._do(change)
            move()
            self._workspace.notices.say(words)
        else:
            self._change(edit, change, move, words)

    def _change(
        self,
        which: StudyEdit,
        change: Callable[..., object],
        note: Callable[[], object],
        words: str,
        then: Callable[[], object] | None = None,
    ) -> None:
        workspace = self._workspace
        if not workspace.is_open or workspace.busy or workspace.in_doubt:
            return
        path, record = workspace.path, workspace.shown.record
        self.going_on = words
        if which.of_run:
            workspace.stop_checking()
        workspace.set_busy(True)

        def edit() -> study_jobs.Opened | study_jobs.Further:
            with self.file:
                if which.of_run:
                    return study_jobs.edit(path, record.info.id, change)
                return study_jobs.edit_beside(path, record, change, which.of_reviews)

        def ended() -> None:
            self.going_on, self._task = "", None
            workspace.set_busy(False)

        def done(found: study_jobs.Opened | study_jobs.Further | Literal[False]) -> None:
            ended()
            if not found:
                workspace.look_further()
                workspace.notices.say(f"Stopped: {words}. The study is as it was before.")
                return
            note()
            if isinstance(found, study_jobs.Further):
                workspace.take_further(record.key, found)
            else:
                workspace.show(found)
                workspace.look_further()
            workspace.notices.say(words)
            if then is not None:
                then()

        def failed(error: InputError) -> None:
            ended()
            workspace.look_further()
            workspace.notices.fail(error, lambda: self._change(which, change, note, words, then))

        self._task = workspace.reading.start(lambda task: workspace.after_writing(edit), done=done, failed=failed)

    def stop(self) -> None:
        """Stop the edit that is being done: nothing of it is kept."""
        if self._task is not None:
            self._task.stop.stop()

    # --- writing ---

    def write(self, write: Callable[[Study], object]) -> None:
        """Write something small to the study, behind everything written before."""
        path = self._workspace.study_path

        def behind(task: Task) -> None:
            assert path is not None
            with self.file:
                study_jobs.write(path, write)

        if path is not None and not self._workspace.in_doubt:
            self._workspace.writing.start(behind, failed=lambda error: self._not_written(path, error))

    def _not_written(self, path: Path, error: InputError) -> None:
        """What was decided is not in the study: show what is, and say so."""
        workspace = self._workspace
        workspace.notices.fail(error)
        if workspace.study_path != path or workspace.jobs.going_on is not None:
            return
        self.clear()
        record = workspace.shown.record
        set_id, set_key = record.info.set_id, record.set_key

        def read() -> tuple[Reviews, tuple[KeptSelection, ...]]:
            with Study.open(path, again=True) as study:
                return load_reviews(study, set_id), load_kept(study, set_id)

        def shown(found: tuple[Reviews, tuple[KeptSelection, ...]]) -> None:
            if workspace.shows_set(set_key):
                workspace.shown.set_reviews(found[0])
                workspace.shown.set_kept(found[1])

        workspace.reading.start(lambda task: workspace.after_writing(read), done=shown)

    # --- small edits of the set shown ---

    def review(self, words: str, changes: Mapping[int, Review]) -> bool:
        """Edit the reviews of single images of the set shown.

        False where a study edit is just being done, nothing would change, or nothing can be written.
        """
        if not self._workspace.is_open or self.going_on:
            return False
        record, reviews = self._workspace.shown.record, self._workspace.shown.reviews
        after = {i: one for i, one in changes.items() if reviews[i] != one}
        if not after:
            return False
        before, set_id, set_key = {i: reviews[i] for i in after}, record.info.set_id, record.set_key

        def put(changes: Mapping[int, Review]) -> Changes:
            self.write(lambda study: save_reviews(study, set_id, changes))
            if self._workspace.shows_set(set_key):
                self._workspace.shown.put_reviews(changes)
                yield self._workspace.topics.reviews

        return self.take_at_once(SmallEdit(words, lambda: put(after), lambda: put(before)))

    def answer_check(self, name: str, answer: str) -> bool:
        """Answer what a check of the run shown has found; an empty answer takes it away."""
        shown = self._workspace.shown
        kept, run = shown.results.checks.get(name), shown.record.key
        if kept is None or not kept.content or answer == kept.result.answer:
            return False
        content, before = kept.content, kept.result.answer

        def put(answer: str) -> Changes:
            self.write(lambda study: save_check_answer(study, content, answer))
            found = self._workspace.shown.results.checks.get(name) if self._workspace.shows(run) else None
            if found is not None and found.content == content:
                self._workspace.shown.results.set_check(replace(found, result=replace(found.result, answer=answer)))
            return ()

        title = BY_NAME[name].title
        words = f"{title}: answered" if answer else f"{title}: answer removed"
        return self.take_at_once(SmallEdit(words, lambda: put(answer), lambda: put(before)))

    def keep_causes(self, words: str, causes: Sequence[Cause]) -> None:
        """Keep another list of causes."""
        before = self._workspace.shown.reviews.causes

        def put(causes: tuple[Cause, ...]) -> Changes:
            self._workspace.shown.reviews.causes = causes
            self.write(lambda study: save_causes(study, causes))
            yield self._workspace.topics.reviews

        if tuple(causes) != before:
            self.take_at_once(SmallEdit(words, lambda: put(tuple(causes)), lambda: put(before)))

    def keep_selections(self, words: str, kept: Sequence[KeptSelection]) -> None:
        """Keep these named selections of the set shown, in place of those kept before."""
        before, record = self._workspace.shown.kept, self._workspace.shown.record
        set_id, set_key = record.info.set_id, record.set_key

        def put(kept: tuple[KeptSelection, ...]) -> Changes:
            self.write(lambda study: save_kept(study, set_id, kept))
            if self._workspace.shows_set(set_key):
                self._workspace.shown.kept = kept
                yield self._workspace.topics.kept

        if tuple(kept) != before:
            self.take_at_once(SmallEdit(words, lambda: put(tuple(kept)), lambda: put(before)))
