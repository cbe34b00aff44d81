"""What the foot says of jobs: that one began, how far it is, what came of it, and what is still to be scored."""

from __future__ import annotations

from collections.abc import Callable

from mivrat.core.base.job import Progress
from mivrat.core.checks.catalogue import CheckProgress
from mivrat.ui import words
from mivrat.ui.foot import Foot
from mivrat.workspace.jobs import Handle
from mivrat.workspace.workspace import Workspace

BADLY = "Mivrat did not close properly the last time this study was open, so it opens on the headline."


# So long (ms) nobody wonders whether anything is going on.
PATIENCE = 800


class JobEvents:
    """Listens to the jobs of a workspace and speaks in the foot; ``on_bench`` tells whether the open study is shown."""

    def __init__(self, workspace: Workspace, foot: Foot, on_bench: Callable[[], bool]) -> None:
        self.workspace, self.foot, self._on_bench = workspace, foot, on_bench
        self._ended_badly = False
        jobs = workspace.jobs
        workspace.topics.figures.connect(self._show_pending)
        workspace.notices.said.connect(foot.say)
        jobs.refused.connect(foot.say)
        # An edit takes a moment; of one that takes longer it is said that it goes on.
        self._soon, self._shows_edit = workspace.soon(PATIENCE, self._show_edit), False
        workspace.topics.busy.connect(self._follow_edit)
        jobs.began.connect(lambda handle: foot.begin(handle.job.title))
        jobs.progress.connect(self._progress)
        jobs.ended.connect(self._ended)
        foot.stop_wanted.connect(self.stop)
        foot.resume.clicked.connect(lambda: jobs.score())

    def _follow_edit(self) -> None:
        if self.workspace.edits.going_on:
            self._soon.start()
            return
        self._soon.stop()
        if self._shows_edit:
            self._shows_edit = False
            self.foot.end()

    def _show_edit(self) -> None:
        if words_of_it := self.workspace.edits.going_on:
            self._shows_edit = True
            self.foot.begin(f"{words_of_it[:1].upper()}{words_of_it[1:]}: working it out …")

    def stop(self) -> None:
        """Stop what is going on, and say that it is stopping."""
        if self.workspace.jobs.going_on is not None:
            self.workspace.jobs.stop()
            self.foot.stopping()
        elif self._shows_edit:
            self.workspace.edits.stop()
            self.foot.stopping("stopping …")

    def show_bad_end(self) -> None:
        """Say that the window did not come to a proper end the last time this study was open."""
        self._ended_badly = True
        self._show_pending()

    def offer_to_go_on(self) -> None:
        """Offer to score what is not scored yet, where the study is shown."""
        listed, pending = self._counts
        text = ("Go on" if pending < listed else "Score") if pending else ""
        if not pending and listed and self.workspace.shown.record.kind.can.asked:
            failed = self.workspace.shown.snapshot.counts.failed
            text = f"Ask again for {words.count(failed)} failed" if failed else ""
        self.foot.offer_to_go_on(text if self._on_bench() else "")

    @property
    def _counts(self) -> tuple[int, int]:
        """How many images the run lists, and how many of them are not scored yet."""
        if not self.workspace.is_open:
            return 0, 0
        counts = self.workspace.shown.snapshot.counts
        return counts.listed, counts.pending

    def _show_pending(self) -> None:
        """Say what is still to be scored, unless something is going on, or it stands there that something went wrong."""
        if not self.workspace.busy and not self.workspace.in_doubt:
            badly, self._ended_badly = self._ended_badly, False
            pending = self._counts[1]
            notice = f"{words.images(pending)} not scored yet." if pending else ""
            self.foot.end(BADLY if badly else notice)
            self.offer_to_go_on()

    def _progress(self, event: Progress | CheckProgress) -> None:
        if isinstance(event, CheckProgress):
            self.foot.describe(event.what)
            event = event.progress
        self.foot.show_progress(event)

    def _ended(self, handle: Handle) -> None:
        finished, written = handle.state == "finished", handle.written
        told = words.written(written, finished) if written is not None else handle.job.ending(finished, *self._counts)
        self.foot.end(told, written.place if written is not None else None)
        self.offer_to_go_on()
