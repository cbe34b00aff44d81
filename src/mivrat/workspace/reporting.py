"""The report of the run shown: what is wanted of it, its pages as they would be printed, and writing its files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from mivrat.core.base.job import Progress, Written, current_stop
from mivrat.core.concluding.of_study import ground_of
from mivrat.core.reporting.report.compared import ComparedWith, OtherRun
from mivrat.core.reporting.report.content import ReportChoices
from mivrat.core.reporting.report.making import (
    AssembledReport,
    Making,
    keys_of_runs,
    load_wanted,
    make_report,
    runs_against,
    save_wanted,
    write_report,
)
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunKey
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.edits import Changes, SmallEdit
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.jobs import Job
from mivrat.workspace.study_jobs import Running
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 600


def _written(files: list[Path]) -> Written:
    return Written(len(files), files[0] if len(files) == 1 else files[0].parent)


class Reporter:
    """``wanted`` is what the report is to have, ``pdf`` its pages once they are made, ``making`` what is being done while they are.
    Pages are made only while ``looked_at``."""

    def __init__(self, workspace: Workspace, concluder: Concluder) -> None:
        self.workspace, self.concluder = workspace, concluder

        def is_open() -> bool:
            return workspace.is_open

        self.wanted_changed, self.pages_changed = Topic(is_open), Topic(is_open)
        self.wanted = ReportChoices()
        # What each run of the study is of, by its number.
        self.keys: dict[int, tuple[str, str, str, str]] = {}
        self.pdf: bytes | None = None
        # The report that the pages show; None as soon as something in it may have changed.
        self._made: AssembledReport | None = None
        self._told: object = None
        self.making, self.problem = "", ""
        self._looked_at = False
        self._stale = True
        self._read_for: RunKey | None = None
        self._workers = workspace.group(1)
        self._drawing, self._reading = LatestOnly(self._workers), LatestOnly(self._workers)
        self._soon = workspace.soon(MILLISECONDS, self._draw)
        topics = workspace.topics
        topics.left.connect(self._leave)
        topics.run.connect(self._new_run)
        for topic in (topics.figures, topics.held, topics.reviews, concluder.findings_changed):
            topic.connect(self._outdated)
        topics.held.connect(self.wanted_changed.emit)
        topics.contents.connect(lambda: self._read() if self._looked_at else None)
        for topic in (topics.checks, topics.criteria):
            topic.connect(self._told_again)

    def _leave(self) -> None:
        self.pdf, self._made, self.making, self.problem, self.wanted, self._read_for = (
            None,
            None,
            "",
            "",
            ReportChoices(),
            None,
        )
        self._soon.stop()

    def _new_run(self) -> None:
        self.pdf, self.wanted, self._read_for = None, ReportChoices(), None
        self._outdated()
        self.pages_changed.emit()
        if self._looked_at:
            self._read()

    def _told_again(self) -> None:
        """Checks and criteria are told again after every job, mostly as they were."""
        shown = self.workspace.shown
        told = {name: one.result for name, one in shown.results.checks.items()}, shown.results.criteria
        if told != self._told:
            self._told = told
            self._outdated()

    def _outdated(self) -> None:
        self._stale, self._made = True, None
        if self._looked_at:
            self._soon.start()

    def look(self, on: bool) -> None:
        """The report is looked at, or not any more."""
        self._looked_at = on
        if on and self.workspace.is_open:
            self._read()
            if self._stale:
                self._soon.start()

    # --- what is wanted ---

    def _read(self) -> None:
        """Read what was wanted of the report of this run the last time."""
        workspace = self.workspace
        run, path, snapshot = workspace.shown.record.key, workspace.path, workspace.shown.snapshot
        if self._read_for == run and set(self.keys) == {one.id for one in workspace.runs}:
            return

        def read(task: Task) -> tuple[ReportChoices, dict[int, tuple[str, str, str, str]]]:
            ground = ground_of(path, snapshot, workspace.makers)
            with Study.open(path, again=True) as study:
                return load_wanted(study, ground), keys_of_runs(study)

        def done(found: tuple[ReportChoices, dict[int, tuple[str, str, str, str]]]) -> None:
            if not workspace.shows(run):
                return
            wanted, self.keys = found
            if self._read_for != run:
                self._read_for = run
                if wanted != self.wanted:
                    self.wanted = wanted
                    self._outdated()
            self.wanted_changed.emit()

        self._reading.start(read, done=done, failed=workspace.notices.fail)

    def want(self, wanted: ReportChoices, what: str) -> None:
        """Change what the report is to have; it can be undone."""
        before, workspace = self.wanted, self.workspace
        if wanted == before or not workspace.is_open:
            return
        path, snapshot, run = workspace.path, workspace.shown.snapshot, workspace.shown.record.key

        def put(now: ReportChoices) -> Changes:
            workspace.edits.write(lambda study: save_wanted(study, ground_of(path, snapshot, workspace.makers), now))
            if workspace.shows(run):
                self.wanted = now
                self._outdated()
                yield self.wanted_changed

        workspace.edits.take_at_once(SmallEdit(what, lambda: put(wanted), lambda: put(before)))

    def against(self) -> tuple[OtherRun, ...]:
        """The runs compared with: those chosen, else the one held against the run shown."""
        if self.wanted.against is not None:
            return self.wanted.against
        held = self.workspace.shown.held if self.workspace.is_open else None
        if held is None:
            return ()
        _, model, recipe, images, classes = held.b.record.key
        return (OtherRun((model, recipe, images, classes)),)

    # --- its pages ---

    def _make(self) -> Callable[[], Running]:
        """What makes the report as it is wanted now."""
        workspace = self.workspace
        path, snapshot, makers = workspace.path, workspace.shown.snapshot, workspace.makers
        findings, wanted, held = self.concluder.findings, self.wanted, workspace.shown.held
        allowed = workspace.allowed()

        def make() -> Running:
            workspace.after_writing(lambda: None)
            if wanted.against is not None:
                against = runs_against(path, wanted.against)
            else:
                against = [ComparedWith(held.b)] if held is not None else []
            ground = ground_of(path, snapshot, makers)
            yield from make_report(path, ground, findings, wanted, against, allowed)
            return not current_stop().stopped

        return make

    def _draw(self) -> None:
        if not self._looked_at:
            return
        run = self.workspace.shown.record.key
        make = self._make()
        self._stale, self.problem = False, ""

        def work(task: Task) -> tuple[AssembledReport, bytes] | None:
            for event in make():
                if isinstance(event, AssembledReport):
                    task.report("pages")
                    return event, event.pdf()
                if isinstance(event, Making):
                    within = event.within
                    task.report(event.what if within is None else f"{event.what}, {within.done} of {within.total}")
            return None

        def done(found: tuple[AssembledReport, bytes] | None) -> None:
            self.making = ""
            if found is not None and self.workspace.shows(run):
                self.pdf = found[1]
                self._made = None if self._stale else found[0]
            self.pages_changed.emit()

        def failed(error: object) -> None:
            self.making, self.problem = "", str(error)
            self.pages_changed.emit()

        def progress(what: str) -> None:
            self.making = what
            self.pages_changed.emit()

        self.making = "figures"
        self.pages_changed.emit()
        self._drawing.start(work, done=done, failed=failed, progress=progress)

    def halt(self) -> None:
        """Make the pages no further; the next change makes them anew."""
        self._drawing.cancel()
        self._soon.stop()
        self.making, self._stale = "", True
        self.problem = "Stopped: these pages are not up to date. They are made again at the next change, and when the report is saved."
        self.pages_changed.emit()

    def write(self, *paths: Path) -> None:
        """Write files of the report, as a job; what the pages show is not made again."""
        made, pdf = self._made, self.pdf

        def write(report: AssembledReport, pages: bytes | None) -> list[Path]:
            return list(dict.fromkeys(one for path in paths for one in write_report(report, path, pages)))

        def run() -> Running:
            if made is not None and pdf is not None:
                yield _written(write(made, pdf))
                return not current_stop().stopped
            make = self._make()
            for event in make():
                if isinstance(event, Making) and isinstance(event.within, Progress):
                    yield event.within
                elif isinstance(event, AssembledReport):
                    yield _written(write(event, None))
            return not current_stop().stopped

        self.workspace.jobs.begin(Job("write", f"Writing {' and '.join(path.name for path in paths)}"), run)

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._workers.stop_all()
