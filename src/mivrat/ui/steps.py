"""The steps of the job, in its order: what each is called, what makes its figures area, and how it stands. A step is one line here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from PySide6.QtWidgets import QWidget

from mivrat.core.base.text import in_sentence
from mivrat.core.checks.catalogue import BY_NAME
from mivrat.core.comparing.comparison import worse_classes
from mivrat.ui.check.step import CheckStep
from mivrat.ui.compare.step import CompareStep
from mivrat.ui.conclude.step import ConcludeStep
from mivrat.ui.examine.step import ExamineStep
from mivrat.ui.explain.heat_thumbs import HeatThumbs
from mivrat.ui.explain.step import ExplainStep
from mivrat.ui.exporter import Exporter
from mivrat.ui.measure.step import MeasureStep
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.prepare.step import PrepareStep
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.workspace import Workspace


@dataclass(frozen=True)
class StepServices:
    """What steps share."""

    workspace: Workspace
    thumbnails: Thumbnails
    reviewer: Reviewer
    explainer: Explainer
    heat: HeatThumbs
    comparer: Comparer
    concluder: Concluder
    exporter: Exporter

    @classmethod
    def of(cls, workspace: Workspace, window: QWidget) -> StepServices:
        """All of it for a window."""
        thumbnails, explainer = Thumbnails(workspace.parallel), Explainer(workspace)
        return cls(
            workspace,
            thumbnails,
            Reviewer(workspace),
            explainer,
            HeatThumbs(explainer, thumbnails),
            Comparer(workspace),
            Concluder(workspace),
            Exporter(workspace, window, explainer),
        )


StepState = tuple[str, str]


class Step(NamedTuple):
    """One step; ``state`` tells how it stands, in the words of ``paint_state``, and why."""

    name: str
    make: Callable[[StepServices], StepArea]
    state: Callable[[Workspace], StepState]


def prepare_state(workspace: Workspace) -> StepState:
    """How the Prepare step stands."""
    contents = workspace.contents
    if contents is None:
        return "untouched", "not read yet"
    if contents.missing:
        return "stop", f"not found: {', '.join(sorted(path.name for path in contents.missing))}"
    if contents.unmatched:
        return "look", f"{sum(contents.unmatched.values())} images have a label that is not in the class list"
    if workspace.shown.record.recipe_is_guess:
        return "look", "the recipe is a guess"
    return "fine", "models, images, classes and recipe are there"


def check_state(workspace: Workspace) -> StepState:
    """How the checks stand: the gravest thing that one of them found."""
    found = [kept.result for kept in workspace.shown.results.checks.values()]
    for state, words_for in (("stop", "fix first"), ("look", "needs a look")):
        names = [BY_NAME[one.name].title for one in found if one.state == state and one.asks]
        if names:
            return state, f"{words_for}: {', '.join(names)}"
    answered = sum(bool(one.answer) for one in found)
    if answered:
        return "fine", f"nothing open: {answered} answered"
    return ("fine", "nothing found so far") if found else ("untouched", "nothing checked yet")


def measure_state(workspace: Workspace) -> StepState:
    """How the Measure step stands: whether all that could be measured is."""
    snapshot = workspace.shown.snapshot
    if not snapshot.figures.total:
        return "untouched", "nothing measured yet"
    counts = snapshot.counts
    aside = counts.unreadable + counts.failed + counts.pending
    if aside:
        return "look", f"{aside} images are not in the figures: unreadable, failed or not yet scored"
    return "fine", f"all {counts.evaluated} labelled images are measured"


def examine_state(workspace: Workspace) -> StepState:
    """How the Examine step stands: how many of the mistakes have been reviewed."""
    shown = workspace.shown
    wrong = shown.judged.wrong
    if not wrong.any():
        return "untouched", "no mistakes to review"
    seen = int((wrong & shown.reviews.mask(shown.snapshot.counts.listed, "reviewed")).sum())
    state = "untouched" if not seen else "look" if seen < wrong.sum() else "fine"
    return state, f"{seen} of {int(wrong.sum())} mistakes reviewed"


def explain_state(workspace: Workspace) -> StepState:
    """How the Explain step stands: how many suspicions have been put to a test that is kept."""
    kept = workspace.shown.results.tests_kept
    if kept is None:
        return "untouched", "heatmaps, and tests of what they suggest"
    if not kept:
        return "untouched", "no cover or transplant test kept yet"
    return "fine", f"{kept} test{'s' if kept > 1 else ''} kept of this run"


def compare_state(workspace: Workspace) -> StepState:
    """How the comparison stands: whether what is held is better, or worse in anything, beyond chance."""
    shown = workspace.shown
    if shown.held is None:
        return "untouched", "this run is compared with nothing"
    if shown.compared is None:
        return "untouched", f"this run is compared with {shown.held.names.b}"
    worse = worse_classes(shown.compared.found)
    below = shown.compared.found.either.top1.beyond_chance < 0
    if worse or below:
        what = in_sentence([shown.compared.found.classes[k] for k in worse]) or "the whole"
        return "look", f"{shown.held.names.b}: significantly worse in {what}"
    return "fine", f"{shown.held.names.b}: nothing significantly worse"


def conclude_state(workspace: Workspace) -> StepState:
    """How the conclusions stand: criteria missed, findings that block, else what is open."""
    shown = workspace.shown
    states = [one.outcome.verdict for one in shown.results.criteria]
    findings, blocking = shown.results.findings
    if not states and not findings:
        return "untouched", "no criteria and no findings yet"
    missed, open_ = states.count("missed"), states.count("inconclusive")
    told = [f"{missed} of {len(states)} criteria missed"] if missed else []
    told += [f"{blocking} findings block" if blocking > 1 else "a finding blocks"] if blocking else []
    if told:
        return "stop", ", ".join(told)
    if open_:
        return "look", f"{open_} of {len(states)} criteria inconclusive"
    kept = f"{findings} finding{'s' if findings > 1 else ''}" if findings else "no findings"
    return "fine", f"all {len(states)} criteria met, {kept}" if states else kept


STEPS = (
    Step("Prepare", lambda s: PrepareStep(s.workspace, s.thumbnails), prepare_state),
    Step("Check", lambda s: CheckStep(s.workspace), check_state),
    Step("Measure", lambda s: MeasureStep(s.workspace, s.thumbnails), measure_state),
    Step("Examine", lambda s: ExamineStep(s.workspace, s.reviewer, s.thumbnails), examine_state),
    Step("Explain", lambda s: ExplainStep(s.explainer, s.reviewer, s.heat, s.thumbnails), explain_state),
    Step("Compare", lambda s: CompareStep(s.workspace, s.comparer), compare_state),
    Step("Conclude", lambda s: ConcludeStep(s.concluder, s.exporter, s.thumbnails), conclude_state),
)
