"""The findings of the open study and its criteria: made, changed, and held against a run in the background."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.base.text import clipped, count, images, plural
from mivrat.core.concluding.checking import measure_of_cover
from mivrat.core.concluding.criteria import Criterion
from mivrat.core.concluding.estimate_claims import estimate_claim
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import (
    Checked,
    Draft,
    Finding,
    FindingClaim,
    FindingPicture,
    Measure,
    Weight,
    as_text,
)
from mivrat.core.concluding.labelling import LabelSample
from mivrat.core.concluding.of_study import (
    CheckingProgress,
    FoundCheck,
    check_findings,
    confirm,
    ground_of,
    hold_criteria,
    identity_of,
    make_finding,
    read_findings,
    read_snapshot,
)
from mivrat.core.concluding.requirements import parse_criterion, with_reference
from mivrat.core.concluding.shares import looks_of, refused
from mivrat.core.concluding.strain_claims import measure_of_strain, strain_claim
from mivrat.core.figures.covered import CoverResult
from mivrat.core.pictures.distorting.kinds import level_in_words
from mivrat.core.region_masking.cover_test import CoverPlan, plan_from_text
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.kept import as_data
from mivrat.core.selecting.selection import Condition
from mivrat.core.straining.curves import StrainFigures, StrainLevel
from mivrat.core.study.kept_findings import KeptFinding, save_findings
from mivrat.core.study.records import RunInfo, RunKey
from mivrat.workspace.edits import Changes, SmallEdit
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.topics import Topic
from mivrat.workspace.workspace import Workspace

MILLISECONDS = 150
# So many pictures go with a finding at first.
FIRST_PICTURES = 5


class Concluder:
    """``checked`` is what has become of each finding under ``target``, the run that they are checked on. How the criteria of the model
    shown stand goes to ``shown.results.criteria``."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace

        def is_open() -> bool:
            return workspace.is_open

        self.findings_changed, self.checks_changed, self.added = (Topic(is_open) for _ in range(3))
        self.findings: tuple[Finding, ...] = ()
        self.lost = 0
        self.checked: dict[int, Checked] = {}
        self.progress: CheckingProgress | None = None
        self._chosen: RunInfo | None = None
        self._edits = 0
        self._workers = workspace.group(2)
        self._checking, self._holding, self._identifying = (LatestOnly(self._workers) for _ in range(3))
        # The model and the images of the run shown, by content; None until that is known.
        self._here: tuple[str, str] | None = None
        self._soon = workspace.soon(MILLISECONDS, self._check)
        self._soon_criteria = workspace.soon(MILLISECONDS, self._hold_criteria)
        topics = workspace.topics
        topics.left.connect(self._leave)
        topics.run.connect(self._new_run)
        topics.figures.connect(self._identify)
        for topic in (topics.figures, topics.reviews, topics.contents, topics.held):
            topic.connect(self._again)

    # --- what is open ---

    def _leave(self) -> None:
        self.findings, self.lost, self.checked = (), 0, {}
        self.progress = self._chosen = self._here = None
        self._edits += 1
        for soon in (self._soon, self._soon_criteria):
            soon.stop()

    def _new_run(self) -> None:
        self._here = None
        self._read()

    def _again(self) -> None:
        if self.workspace.jobs.going_on is None or not self.checked:
            self._soon.start()
            self._soon_criteria.start()

    def _read(self) -> None:
        path, edits = self.workspace.path, self._edits
        self._workers.start(
            lambda task: self.workspace.after_writing(lambda: read_findings(path)),
            done=lambda found: self._take(found, edits),
            failed=self.workspace.notices.fail,
        )

    def _take(self, found: tuple[tuple[Finding, ...], int], edits: int) -> None:
        if not self.workspace.is_open:
            return
        if edits != self._edits:
            self._read()  # something was decided meanwhile
            return
        self.findings, self.lost = found
        self.findings_changed.emit()
        self._show_run_shown()
        self._again()

    def _show_run_shown(self) -> None:
        """Tell how many findings block the run shown: those found on it, and those checked on it that are not gone."""
        shown_is_target = self.target.id == self.workspace.shown.record.info.id
        blocking = 0
        for one in self.active:
            checked = self.checked.get(one.id) if shown_is_target else None
            there = checked.state != "gone" if checked is not None else self._found_here(one)
            blocking += one.weight == "blocks" and there
        self.workspace.shown.results.set_findings(len(self.active), blocking)

    # --- the run that findings are checked on ---

    @property
    def target(self) -> RunInfo:
        """The run that findings are checked on: the one chosen; else the one shown, unless they were all found on that one: then the one
        held, or the next model on these images."""
        workspace = self.workspace
        shown = workspace.shown.record.info
        chosen = self._chosen
        if chosen is not None and any(one.id == chosen.id for one in workspace.runs):
            return chosen
        held = workspace.shown.held
        elsewhere = [one for one in workspace.runs if one.id != shown.id]
        if not elsewhere or any(not self._found_here(one) for one in self.findings):
            return shown
        if held is not None:
            info = held.b.record.info
            return next((one for one in elsewhere if one.id == info.id), shown)
        same = [one for one in elsewhere if one.set_id == shown.set_id]
        return same[-1] if same else shown

    def _found_here(self, finding: Finding) -> bool:
        return (finding.made.model, finding.made.images) == self._here

    def _identify(self) -> None:
        """Work out what the run shown is by content, as findings name the run they were made on."""
        snapshot = self.workspace.shown.snapshot
        self._identifying.start(
            lambda task: identity_of(snapshot), done=lambda here: self._take_identity(snapshot.record.key, here)
        )

    def _take_identity(self, run: RunKey, here: tuple[str, str]) -> None:
        if self.workspace.shows(run) and here != self._here:
            self._here = here
            self._show_run_shown()
            self.checks_changed.emit()
            self._again()

    def choose_target(self, run: RunInfo | None) -> None:
        """Check the findings on this run; None: on whichever comes next by itself."""
        self._chosen = run
        self._check()

    def _snapshot_of(self, run: RunInfo) -> Callable[[], Snapshot]:
        shown, path = self.workspace.shown, self.workspace.path
        if run.id == shown.record.info.id:
            snapshot = shown.snapshot
            return lambda: snapshot
        held = shown.held
        if held is not None and held.b.record.info.id == run.id:
            other = held.b
            return lambda: other
        return lambda: read_snapshot(path, run.id)

    # --- checking ---

    @property
    def active(self) -> list[Finding]:
        """The findings that have not been put aside."""
        return [one for one in self.findings if not one.aside]

    def check_again(self) -> None:
        """Check all findings anew."""
        self._check()

    def _check(self) -> None:
        self._checking.cancel()
        self.checked, self.progress = {}, None
        if not self.workspace.is_open:
            return
        findings, path, makers = self.active, self.workspace.path, self.workspace.makers
        read = self._snapshot_of(self.target)
        self.checks_changed.emit()
        if not findings:
            return

        def work(task: Task) -> None:
            snapshot = self.workspace.after_writing(read)
            ground = ground_of(path, snapshot, makers)
            for event in check_findings(path, ground, findings):
                task.report(event)

        self._checking.start(work, progress=self._take_check, failed=self.workspace.notices.fail)

    def _take_check(self, event: FoundCheck | CheckingProgress) -> None:
        if not self.workspace.is_open:
            return
        if isinstance(event, FoundCheck):
            self.checked[event.finding] = event.checked
            self._show_run_shown()
        else:
            self.progress = event if event.done < event.total else None
        self.checks_changed.emit()

    def _hold_criteria(self) -> None:
        path, makers, snapshot = self.workspace.path, self.workspace.makers, self.workspace.shown.snapshot
        run = snapshot.record.key

        def work(task: Task) -> tuple[Criterion, ...]:
            def held() -> tuple[Criterion, ...]:
                return hold_criteria(path, ground_of(path, snapshot, makers))

            found: tuple[Criterion, ...] = self.workspace.after_writing(held)
            return found

        def done(found: tuple[Criterion, ...]) -> None:
            if self.workspace.shows(run):
                self.workspace.shown.results.set_criteria(found)

        self._holding.start(work, done=done, failed=self.workspace.notices.fail)

    # --- making findings ---

    def pictures(self) -> tuple[FindingPicture, ...]:
        """The images marked, else the one looked at and the first ones shown."""
        shown = self.workspace.shown
        some = shown.focus.acted_on if len(shown.focus.marked) > 1 else []
        if not some:
            first = [] if shown.focus.current is None else [shown.focus.current]
            some = list(dict.fromkeys([*first, *shown.images[:FIRST_PICTURES].tolist()]))[:FIRST_PICTURES]
        heat = shown.record.kind.can.gradients
        return tuple(FindingPicture(shown.record.names[i], heat) for i in some)

    def add_selection(self) -> None:
        """A finding of the share that the selection tells of."""
        shown = self.workspace.shown
        conditions: Sequence[Condition] = shown.conditions
        if why := refused(conditions):
            self.workspace.notices.fail(InputError(why.rstrip(".").replace(". ", "; "), where="finding"))
            return
        record = shown.record
        told = tuple(as_data(one, record.classes, record.names) for one in conditions)
        looks = looks_of(conditions, EvaluationContext(shown.snapshot, measured=lambda: shown.measures))
        self.add(Draft("", "", FindingClaim("share", conditions=told), pictures=self.pictures(), looks=looks))

    def add_cover(self, plan: CoverPlan, result: CoverResult, name: str = "") -> None:
        """A finding of a cover test that has been done on the run shown, under the name it was given."""
        shown = self.workspace.shown
        record = shown.record
        conditions = () if refused(shown.conditions) else shown.conditions
        rule = tuple(as_data(one, record.classes, record.names) for one in conditions)
        claim = FindingClaim("cover", plan.as_text(record.names), rule)
        heat = record.kind.can.gradients
        pictures = tuple(FindingPicture(record.names[i], heat) for i in plan.images[:FIRST_PICTURES])
        title = name or f"The answer rests on a part: {plan.region.in_words()}"
        sentence = f"{plan.in_words()[:1].upper()}{plan.in_words()[1:]}; images: {plan.selection or 'those shown'}."
        self.add(Draft(title, sentence, claim, pictures=pictures), measure_of_cover(result))

    def add_strain(
        self, figures: StrainFigures, level: StrainLevel, limit: float | None, flipped: Sequence[int]
    ) -> None:
        """A finding of a level of a strain test that has been done on the run shown; with a ``limit`` as what is expected in the field.
        ``flipped`` are the images whose answer changes there."""
        record = self.workspace.shown.record
        words = level_in_words(level.strain)
        if limit is None:
            title, sentence = f"Accuracy falls under {words}", ""
        else:
            title = f"Expected in the field: {words}, accuracy at least {percent(limit, 0)}"
            sentence = "Every photo distorted alike, prepared and scored again."
        pictures = tuple(FindingPicture(record.names[i], False) for i in flipped[:FIRST_PICTURES])
        # Without a limit it may be the most striking of all levels tried.
        looks = len(figures.levels) if limit is None else 1
        draft = Draft(title, sentence, strain_claim(level.strain, limit), pictures=pictures, looks=looks)
        self.add(draft, measure_of_strain(level, figures.untouched, limit))

    def add_estimate(self, found: LabelSample, labels: Mapping[int, int], limit: float | None) -> None:
        """A finding of what the labels of a list say of its pool; with a ``limit``, what is asked for at least."""
        record = self.workspace.shown.record
        try:
            claim = estimate_claim(found, labels, record.names, record.classes, limit)
        except InputError as error:
            self.workspace.notices.fail(error)
            return
        asked = f" at least {percent(limit, 0)}" if limit is not None else ""
        title = f"Estimated from labels: {found.wanted.name}{asked}"
        sentence = f"{images(len(found.listed))} of {count(found.pool)} were drawn by chance within strata of confidence, and labelled."
        self.add(Draft(title, sentence, claim))

    def add_spot(self, draft: Draft) -> None:
        """A finding of a weak spot, with the pictures that are shown of it."""
        self.add(replace(draft, pictures=self.pictures()))

    def add_criterion(self, text: str) -> None:
        """A finding that a criterion is not met, or is."""
        self.add(Draft("", "", FindingClaim("criterion", text), pictures=self._mistakes_of(text)))

    def _mistakes_of(self, text: str) -> tuple[FindingPicture, ...]:
        """The most confident mistakes that a criterion of one class is about."""
        shown = self.workspace.shown
        judged, record = shown.judged, shown.record
        wanted = parse_criterion(text, record.classes)
        if wanted.class_index is None:
            return ()
        of = judged.predicted if wanted.figure in ("precision", "specificity") else judged.labels
        wrong = np.flatnonzero(judged.evaluated & ~judged.right & (of == wanted.class_index))
        some = wrong[np.argsort(-judged.confidence[wrong], kind="stable")][:FIRST_PICTURES]
        return tuple(FindingPicture(record.names[i], record.kind.can.gradients) for i in some.tolist())

    def add_labels(self) -> None:
        """A finding of the labels for which others have been proposed, among the images shown."""
        shown = self.workspace.shown
        proposed, record = shown.reviews.proposed(), shown.record
        some = [i for i in shown.images.tolist() if i in proposed] or sorted(proposed)
        if not some:
            self.workspace.notices.fail(
                InputError(
                    "no other label has been proposed",
                    where="finding",
                    hint="propose one in the close look, or under Examine, Labels",
                )
            )
            return
        labels = shown.judged.labels
        told = tuple(
            (record.names[i], record.classes[labels[i]] if labels[i] >= 0 else "", record.classes[proposed[i]])
            for i in some
        )
        pictures = tuple(FindingPicture(record.names[i]) for i in some[:FIRST_PICTURES])
        title = f"{plural(len(some), 'label is', 'labels are')} wrong"
        self.add(
            Draft(title, "Looked at by hand, image by image.", FindingClaim("labels", labels=told), "note", pictures)
        )

    def add_difference(self, figure: str, value: float | None, reference: str) -> None:
        """A finding of the difference in a figure to the run held: the run shown less that one."""
        name = reference.rpartition("#")[0]
        lower_is_better = figure in ("log_loss", "brier", "ece")
        sign = "<=" if lower_is_better else ">="
        behind = value is not None and ((value > 0) == lower_is_better) and value != 0
        text = with_reference(f"difference({figure}) {sign} 0", reference)
        title = f"{'Behind' if behind else 'Not behind'} {clipped(name, 40)} in {figure}"
        claim = FindingClaim("difference" if behind else "criterion", text)
        self.add(Draft(title, "", claim))

    def add(self, draft: Draft, known: Measure | None = None) -> None:
        """Make a finding of a draft, measured in a worker, and keep it; one that is there already gets the pictures."""
        path, makers, snapshot = self.workspace.path, self.workspace.makers, self.workspace.shown.snapshot
        run = snapshot.record.key

        def work(task: Task) -> Finding | None:
            def made() -> Finding | None:
                return make_finding(ground_of(path, snapshot, makers), draft, known)

            found: Finding | None = self.workspace.after_writing(made)
            return found

        def done(found: Finding | None) -> None:
            if found is not None and self.workspace.shows(run):
                self._keep(found)

        self._workers.start(work, done=done, failed=self.workspace.notices.fail, priority=1)

    def _keep(self, found: Finding) -> None:
        same = next(
            (
                one
                for one in self.findings
                if (one.claim, one.made.model, one.made.images) == (found.claim, found.made.model, found.made.images)
            ),
            None,
        )
        if same is not None:
            known = {one.image for one in same.pictures}
            more = tuple(one for one in found.pictures if one.image not in known)
            if more and not same.aside:
                self.change(same.id, f"pictures added to “{clipped(same.title, 40)}”", pictures=(*same.pictures, *more))
            self.workspace.notices.say(f"That is a finding already: {clipped(same.title, 60)}.")
            self.added.emit(same.id)
            return
        titled = found if found.title else replace(found, title=title_of(found))
        if self._put(f"finding “{clipped(titled.title, 40)}”", (*self.findings, titled)):
            self.workspace.notices.say(f"Added under Conclude, Findings: {clipped(titled.title, 60)}.")
            self.added.emit(titled.id)

    # --- changing them ---

    def _put(self, what: str, now: tuple[Finding, ...]) -> bool:
        before = self.findings

        def put(findings: tuple[Finding, ...]) -> Changes:
            self._edits += 1
            self.findings = findings
            told = [KeptFinding(one.id, as_text(one)) for one in findings]
            self.workspace.edits.write(lambda study: save_findings(study, told))
            self._soon.start()
            self._show_run_shown()
            yield self.findings_changed

        return self.workspace.edits.take_at_once(SmallEdit(what, lambda: put(now), lambda: put(before)))

    def change(self, finding_id: int, what: str, **parts: object) -> None:
        """Change parts of one finding."""
        now = tuple(replace(one, **parts) if one.id == finding_id else one for one in self.findings)  # type: ignore[arg-type]
        if now != self.findings:
            self._put(what, now)

    def weigh(self, finding_id: int, weight: Weight) -> None:
        """Give a finding another weight."""
        self.change(finding_id, f"weight {weight}", weight=weight)

    def move(self, finding_id: int, by: int) -> None:
        """Move a finding up (-1) or down (1) in the list."""
        found = list(self.findings)
        at = next((i for i, one in enumerate(found) if one.id == finding_id), -1)
        to = at + by
        if at >= 0 and 0 <= to < len(found):
            found[at], found[to] = found[to], found[at]
            self._put("order of the findings", tuple(found))

    def remove(self, finding_id: int) -> None:
        """Take a finding away."""
        one = self.get(finding_id)
        if one is not None:
            self._put(
                f"finding “{clipped(one.title, 40)}” removed", tuple(f for f in self.findings if f.id != finding_id)
            )

    def get(self, finding_id: int | None) -> Finding | None:
        """A finding by its id."""
        return next((one for one in self.findings if one.id == finding_id), None)

    def add_pictures(self, finding_id: int) -> None:
        """Put the images marked, or the one looked at, to a finding's pictures."""
        one, shown = self.get(finding_id), self.workspace.shown
        some = shown.focus.acted_on
        if one is None or not some:
            self.workspace.notices.say("Look at an image of the light table first, or mark several.")
            return
        known = {picture.image for picture in one.pictures}
        heat = shown.record.kind.can.gradients
        more = tuple(FindingPicture(shown.record.names[i], heat) for i in some if shown.record.names[i] not in known)
        self.change(finding_id, plural(len(more), "picture"), pictures=(*one.pictures, *more))

    def confirm(self, finding_id: int) -> None:
        """Ask a finding's claim of the half of the images that it was not found on, and keep what it comes to there."""
        finding, snapshot = self.get(finding_id), self.workspace.shown.snapshot
        path, makers = self.workspace.path, self.workspace.makers
        if finding is None:
            return

        def work(task: Task) -> Measure | None:
            found: Measure | None = self.workspace.after_writing(lambda: confirm(path, snapshot, finding, makers))
            return found

        def done(found: Measure | None) -> None:
            if found is not None:
                self.change(finding_id, "finding confirmed on the other half", confirmed=found)

        self._workers.start(work, done=done, failed=self.workspace.notices.fail, priority=1)

    def plan_of(self, finding: Finding) -> CoverPlan | None:
        """The cover test that a finding claims, for the images shown; None of other claims, or where its images are not here."""
        try:
            return plan_from_text(finding.claim.text, self.workspace.shown.record.names)
        except InputError:
            return None

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting and not self._soon_criteria.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._soon_criteria.stop()
        self._workers.stop_all()


def title_of(finding: Finding) -> str:
    """A title for a finding that was given none: what its figure is of."""
    words = finding.before.words
    return words if finding.claim.kind == "criterion" else f"{words[:1].upper()}{words[1:]}"
