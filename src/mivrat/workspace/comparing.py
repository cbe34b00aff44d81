"""Holds another run of the study against the one shown, and works out what both come to together, off the main thread."""

from __future__ import annotations

from typing import Any

from mivrat.core.comparing.claims import MARGIN
from mivrat.core.comparing.holding import Compared, RunPair, hold, names_of
from mivrat.core.running.loading import load_judged
from mivrat.core.running.snapshot import Snapshot, take_snapshot
from mivrat.core.selecting.kept import from_text, to_text
from mivrat.core.selecting.selection import OF_BOTH
from mivrat.core.study.file import Study
from mivrat.core.study.records import RunInfo, RunKey
from mivrat.workspace.compare_jobs import FoundSeveral, FoundUnlike, all_runs, compare, unlike_sets
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.jobs import Job
from mivrat.workspace.workspace import Workspace

MILLISECONDS, A_WHILE = 20, 300


class Comparer:
    """What it works out of the run held goes to ``shown.compared``; ``margin`` is how much worse still counts as as good;
    ``of_selection`` makes it follow the selection."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self.several: FoundSeveral | None = None
        self.unlike: FoundUnlike | None = None
        self.of_selection, self.margin = False, MARGIN
        self._held_run: RunInfo | None = None
        # The run it is held against, and what it is by content.
        self._held_against: RunInfo | None = None
        self._held_key: RunKey | None = None
        self._then: tuple[RunKey, str] | None = None
        self._workers = workspace.group(2)
        self._holding, self._working, self._counting = (LatestOnly(self._workers) for _ in range(3))
        self._soon = workspace.soon(MILLISECONDS, self._start)
        self._again = workspace.soon(A_WHILE, self._hold_again)
        topics = workspace.topics
        topics.held.connect(self._soon.start)
        topics.selection.connect(lambda: self._soon.start() if self.of_selection else None)
        topics.reviews.connect(self._soon.start)
        topics.figures.connect(self._follow_figures)
        topics.run.connect(self._follow_run)
        topics.left.connect(self._leave)
        workspace.jobs.event.connect(self._take_news)

    # --- holding ---

    def choices(self) -> list[tuple[str, list[RunInfo]]]:
        """The runs that can be held against the one shown: other models on the same images first, then the same model on others."""
        shown = self.workspace.shown.record.info
        others = [one for one in self.workspace.runs if one.id != shown.id]
        groups = {
            "the same images under": [one for one in others if one.set_id == shown.set_id],
            "the same model on": [one for one in others if one.model_id == shown.model_id],
            "another model on other images": [
                one for one in others if shown.set_id != one.set_id and shown.model_id != one.model_id
            ],
        }
        return [(name, some) for name, some in groups.items() if some]

    def name_of(self, run: RunInfo) -> str:
        """A run by what sets it apart from the one shown."""
        shown = self.workspace.shown.record.info
        if run.set_id == shown.set_id:
            return run.model
        return run.image_set if run.model_id == shown.model_id else f"{run.model} on {run.image_set}"

    def hold(self, run: RunInfo) -> None:
        """Hold a run of the study against the one shown."""
        self._held_run, self._then = run, None
        self._read()

    def place(self) -> dict[str, Any] | None:
        """What is held, so that ``go_to`` can hold it again; None while nothing is."""
        run, held = self._held_run, self.workspace.shown.held
        if run is None or held is None:
            return None
        shown = self.workspace.shown
        conditions = to_text(shown.conditions, shown.classes, shown.record.names) if self._speak_of_both() else ""
        return {"run": run.id, "key": list(held.b.record.key[1:]), "conditions": conditions}

    def _speak_of_both(self) -> bool:
        return any(isinstance(one, OF_BOTH) for one in self.workspace.shown.conditions)

    def go_to(self, place: Any) -> None:
        """Hold what was held, if the study still has that very run; then put what was selected by both in force."""
        try:
            number, key, conditions = int(place["run"]), tuple(map(str, place["key"])), str(place["conditions"])
            wanted = RunKey(self.workspace.shown.record.key.study, *key)
        except (KeyError, TypeError, ValueError):
            return
        run = next((one for one in self.workspace.runs if one.id == number), None)
        if run is not None and run.id != self.workspace.shown.record.info.id:
            self._held_run, self._then = run, (wanted, conditions)
            self._read()

    def let_go(self) -> None:
        """Hold nothing any more."""
        self._forget()
        if self.workspace.is_open:
            self.workspace.shown.set_held(None)

    def _forget(self) -> None:
        self._held_run = self._held_against = self._held_key = self.unlike = self._then = None
        self._holding.cancel()
        self._working.cancel()
        self._again.stop()

    def _leave(self) -> None:
        self._forget()
        self.several = None

    def _follow_run(self) -> None:
        """Another run is shown: against it is held what was held before, the same other model, or the same other images; where the study
        has no such run, nothing."""
        self.several = self.unlike = None
        run, before, now = self._held_run, self._held_against, self.workspace.shown.record.info
        if run is None or before is None:
            return
        model = run.model_id if run.model_id != before.model_id else now.model_id
        images = run.set_id if run.set_id != before.set_id else now.set_id
        wanted = next((one for one in self.workspace.runs if (one.model_id, one.set_id) == (model, images)), None)
        if wanted is None or wanted.id == now.id:
            self.let_go()
        else:
            self._held_run = wanted
            self._read()

    def _follow_figures(self) -> None:
        if self._held_run is not None and self.workspace.shown.held is not None:
            self._again.start()

    def _hold_again(self) -> None:
        if self._held_run is None:
            return
        if self.workspace.busy:  # once the job has ended: reading a run again and again would only slow it down
            self._again.start()
        elif not any(_same_run(one, self._held_run) for one in self.workspace.runs):
            self.let_go()  # it was taken out of the study
        else:
            self._read()

    def _read(self) -> None:
        """Read the run and lay it on the one shown."""
        run, snapshot, path = self._held_run, self.workspace.shown.snapshot, self.workspace.path
        assert run is not None
        self._held_against = snapshot.record.info

        def read(task: Task) -> RunPair:
            def judged() -> Snapshot:
                with Study.open(path, again=True) as study:
                    return take_snapshot(*load_judged(study, run.id))

            other: Snapshot = self.workspace.after_writing(judged)
            return hold(snapshot, other, names_of(snapshot, other))

        self._holding.start(read, done=lambda held: self._take_held(snapshot, held), failed=self._not_held)

    def _not_held(self, error: object) -> None:
        self.let_go()
        self.workspace.notices.fail(error)  # type: ignore[arg-type]

    def _take_held(self, snapshot: Snapshot, held: RunPair) -> None:
        shown = self.workspace.shown if self.workspace.is_open else None
        if shown is None or shown.record.key != snapshot.record.key:
            return
        if shown.snapshot is not snapshot:  # it has gone on meanwhile
            self._again.start()
            return
        key = held.b.record.key
        if key != self._held_key:
            self.unlike = None
        self._held_key = key
        then, self._then = self._then, None
        if then is not None and then[0] != key:  # another run has come to stand there
            self.let_go()
            return
        shown.set_held(held)
        if then is not None and then[1]:
            record = shown.record
            found = from_text(
                then[1],
                shown.classes,
                record.image_set.items,
                record.names,
                shown.reviews,
                shown.held_other,
                shown.measures,
            )
            if found:
                shown.go_to(found, shown.order.by, shown.order.band_by, shown.order.about)

    # --- what both come to ---

    def follow_selection(self, on: bool) -> None:
        """Compare over the selection instead of all images, or the other way round."""
        if on != self.of_selection:
            self.of_selection = on
            self._start()

    def set_margin(self, margin: float) -> None:
        """How much worse still counts as as good."""
        self.margin = margin
        self._start()

    def _start(self) -> None:
        self._working.cancel()
        held = self.workspace.shown.held if self.workspace.is_open else None
        if held is None:
            return
        shown, margin = self.workspace.shown, self.margin
        conditions, among = shown.conditions, shown.shown_mask() if self.of_selection else None
        reviews = shown.reviews
        self._working.start(
            lambda task: compare(held, among, conditions, reviews, margin, task),
            progress=lambda found: self._take(found),
        )

    def _take(self, found: Compared) -> None:
        if (
            self.workspace.is_open
            and self.workspace.shown.held is found.held
            and found.of_selection == self.of_selection
        ):
            self.workspace.shown.set_compared(found)

    # --- what is asked for ---

    @property
    def runs_here(self) -> list[RunInfo]:
        """All runs on the images shown."""
        shown = self.workspace.shown.record.info
        return [one for one in self.workspace.runs if one.set_id == shown.set_id]

    def compare_all(self) -> None:
        """Compare all runs on the images shown."""
        runs, path, snapshot = self.runs_here, self.workspace.path, self.workspace.shown.snapshot
        names = [self.name_of(one) for one in runs]
        key = snapshot.record.key

        def count(task: Task) -> FoundSeveral:
            return all_runs(path, runs, names, snapshot, key)

        self._counting.start(count, done=self._take_several, failed=self.workspace.notices.fail)

    def _take_several(self, found: FoundSeveral) -> None:
        if self.workspace.shows(found.run):
            self.several = found
            self.workspace.topics.compared.emit()

    def find_unlike(self) -> None:
        """Work out how unlike the two sets are to the model, and what can be estimated of the one held."""
        held = self.workspace.shown.held
        if held is not None and held.on_sets is not None:
            job = Job("features", f"Comparing {held.names.a} with {held.names.b}")
            self.workspace.jobs.begin(job, lambda: unlike_sets(held))

    def _take_news(self, event: object) -> None:
        if isinstance(event, FoundUnlike) and self.workspace.shows(event.run) and self._held_key == event.held:
            self.unlike = event
            self.workspace.topics.compared.emit()

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting and not self._again.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._again.stop()
        self._workers.stop_all()


def _same_run(one: RunInfo, other: RunInfo) -> bool:
    """Whether two records of the open study, read at different times, are of one run; a model's name may have changed."""
    return (one.id, one.model_id, one.set_id) == (other.id, other.model_id, other.set_id)
