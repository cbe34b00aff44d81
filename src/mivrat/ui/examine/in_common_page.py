"""What wrong images have in common: properties and columns by how surely they differ from right ones of their class, and weak spots."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.job import Progress
from mivrat.core.base.numbers import DASH, decimal, percent, span, with_bounds
from mivrat.core.base.text import in_sentence, plural
from mivrat.core.checks.result import in_words
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.property_effects import PropertyEffect, Quarter
from mivrat.core.pictures.properties import BY_NAME
from mivrat.core.running.in_common import InCommon, WeakSpot, spot_words
from mivrat.core.selecting.ordering import BY_PROPERTY, HIGHEST_FIRST
from mivrat.core.selecting.ranges import InRange, range_text
from mivrat.ui import words
from mivrat.ui.examine.property_spread import PropertySpread
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Scrolled, button, label, row, tip
from mivrat.workspace.common_traits import CommonTraits
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.workspace import Workspace

PROPERTIES = ("property", "higher when wrong", "p", "lowest quarter", "highest quarter")
# With less room than this, so many pixels, some columns are left out.
NARROW = 500
SPOTS = ("weak spot", "found", "confirmed", "p", "mistakes")


class InCommonPage(Page, QWidget):
    """A table of properties, the one looked at as two distributions, and a table of weak spots."""

    title, place_id = "In common", "in common"
    help = "What wrong images share that can be measured: darker, less sharp, smaller. And where the model is weak: found on one half, confirmed on the other."

    finding_wanted = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace, self.traits = workspace, CommonTraits(workspace)
        self._spot: WeakSpot | None = None
        self.told = label(wrap=True)
        self.problem = label(role="problem", wrap=True)
        self.measure = button("Measure the photos", self.traits.measure, kind="primary")
        tip(self.measure, "Decode each photo once and keep what is measured with the study")
        self.properties = FigureTable(PROPERTIES, (120, 60, 96, 96), "properties", numbers=(1, 2, 3, 4))
        self.properties.cellClicked.connect(lambda line, _: self._choose(line))
        self.properties.cellActivated.connect(lambda line, _: self._choose(line, enter=True))
        self.properties.currentCellChanged.connect(lambda line, *_: self._look_at(line))
        self.legend = label(
            "Of pairs of a wrong and a right image of one class, the share in which the wrong one has the higher value: 0.5 where nothing "
            "differs. p is corrected for all rows. A row selects the quarter where the wrong ones lie; drag over the bars for another range.",
            soft=True,
            wrap=True,
        )
        self.same = label(soft=True, wrap=True)
        self.spread = PropertySpread(workspace)
        self.spots_head = label("Weak spots", role="heading")
        self.spots_told = label(wrap=True)
        self.spots = FigureTable(SPOTS, (90, 100, 60, 60), "weak spots", numbers=(1, 2, 3, 4))
        self.spots.cellClicked.connect(lambda line, _: self._choose_spot(line))
        self.spots.cellActivated.connect(lambda line, _: self._choose_spot(line, enter=True))
        self.spots.currentCellChanged.connect(lambda line, *_: self._look_at_spot(line))
        self.keep = button("Add to findings", self.finding_wanted.emit)
        tip(self.keep, "Keep this weak spot: it is asked of the next model, too (F)")
        self.as_criterion = button("Add as a criterion", self._add_criterion)
        tip(
            self.as_criterion,
            "Ask of this weak spot what all images come to now; criteria are listed under Conclude, Criteria, and can be changed there",
        )
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 2, 10, 12)
        inside.setSpacing(8)
        inside.addWidget(self.told)
        inside.addWidget(self.problem)
        inside.addLayout(row(self.measure, None))
        for widget in (
            self.properties,
            self.same,
            self.spread,
            self.legend,
            self.spots_head,
            self.spots_told,
            self.spots,
        ):
            inside.addWidget(widget)
        inside.addLayout(row(self.keep, self.as_criterion, None, spacing=8))
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.addWidget(Scrolled(body))
        self.traits.changed.connect(self.refresh)
        self.traits.progress.connect(self._show_progress)
        workspace.topics.busy.connect(self._show_button)
        self._late = Late(self, self._look, workspace.topics.figures, workspace.topics.measures)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Where there is little room, what a hover tells as well makes room for the names."""
        super().resizeEvent(event)
        narrow = self.width() < NARROW
        for table, columns in ((self.properties, (3, 4)), (self.spots, (4,))):
            for column in columns:
                table.setColumnHidden(column, narrow)
            table.fit()

    def _look(self) -> None:
        self.traits.look()
        self.refresh()

    def _show_progress(self, progress: Progress) -> None:
        self.told.setText(f"Looking at {progress.done + 1} of {progress.total} …")

    def _show_button(self) -> None:
        self.measure.setEnabled(not self.workspace.busy)

    def refresh(self) -> None:
        """Show what has been found."""
        found = self.traits.found
        self.problem.setVisible(bool(self.traits.problem))
        self.problem.setText(self.traits.problem)
        self.told.setVisible(not self.traits.problem)
        self.told.setText(self._words())
        unmeasured = found.unmeasured if found is not None and not found.problem else 0
        self.measure.setVisible(bool(unmeasured))
        self.measure.setText(f"Measure {words.count(unmeasured)} {'photo' if unmeasured == 1 else 'photos'}")
        self._show_button()
        asked = found is not None and not found.problem
        told = bool(self.asked)
        spots = bool(found is not None and found.spots)
        shown: dict[QWidget, bool] = {self.properties: told, self.spread: told, self.legend: told}
        shown |= {
            self.spots_head: asked,
            self.spots_told: asked,
            self.spots: spots,
            self.keep: spots,
            self.as_criterion: spots,
        }
        for widget, there in shown.items():
            widget.setVisible(there)
        if found is None:
            self.same.hide()
            return
        self.properties.show_lines([_property_line(one) for one in self.asked], [_told(one) for one in self.asked])
        self.properties.fit_height()
        reasons: dict[str, list[str]] = {}
        for one in found.properties:
            if one.effect.value is None:
                reasons.setdefault(one.effect.problem, []).append(one.name)
        self.same.setVisible(asked and bool(reasons))
        told_of = "; ".join(f"{in_sentence(names, 12)} ({why})" for why, names in reasons.items())
        self.same.setText(f"Not asked: {told_of}.")
        self.spots_told.setText(_of_spots(found))
        classes = self.workspace.shown.classes
        self.spots.show_lines(
            [_spot_line(one, classes) for one in found.spots], [_spot_told(one, classes) for one in found.spots]
        )
        self.spots.fit_height()
        self._take_spot(None)
        if self.asked:
            at = next((i for i, one in enumerate(self.asked) if one.name == self.spread.name), 0)
            self.properties.setCurrentCell(at, 0)
            self.spread.show_property(self.asked[at].name)

    def _words(self) -> str:
        found = self.traits.found
        if found is None:
            return "Looking …"
        if found.problem:
            return found.problem
        start = f"{words.count(found.wrong)} of {words.images(found.evaluated)} are wrong. "
        if not found.properties:
            return start + "No photo has been measured yet, and the image table has no column of numbers."
        if not self.asked:
            return start + "No property or column separates wrong images from right ones of the same class."
        sure = sum(one.p_holm is not None and one.p_holm < 0.05 for one in self.asked)
        of = plural(len(self.asked), "property or column", "properties and columns")
        units = self.workspace.shown.judged.units
        over = f" (whole units of {units.column})" if units is not None else ""
        return start + (
            f"In {sure} of {of} wrong images differ from right ones of the same class beyond chance{over}. A difference is not yet a cause: look at them."
            if sure
            else f"In none of {of} do wrong images differ from right ones of the same class beyond chance{over}."
        )

    # --- properties ---

    def _at(self, line: int) -> PropertyEffect | None:
        return self.asked[line] if 0 <= line < len(self.asked) else None

    @property
    def asked(self) -> list[PropertyEffect]:
        """The properties of which there is something to say, the surest difference first."""
        found = self.traits.found
        return [one for one in found.properties if one.effect.value is not None] if found is not None else []

    def _look_at(self, line: int) -> None:
        one = self._at(line)
        if one is not None and one.name != self.spread.name:
            self.spread.show_property(one.name)

    def _choose(self, line: int, enter: bool = False) -> None:
        """Select the quarter where the wrong images lie, the outermost first."""
        one = self._at(line)
        if one is None:
            return
        self._look_at(line)
        worst, shown = one.worst, self.workspace.shown
        if worst is None or len(one.quarters) < 2:
            return
        if one.name in BY_NAME:
            shown.set_order(f"{BY_PROPERTY}{one.name}" + (HIGHEST_FIRST if worst is one.quarters[-1] else ""))
        choose = shown.enter if enter else shown.choose
        choose(InRange(one.name, frozenset({(worst.low, worst.high)}), shown.measures))

    # --- weak spots ---

    def _spot_at(self, line: int) -> WeakSpot | None:
        found = self.traits.found
        return found.spots[line] if found is not None and 0 <= line < len(found.spots) else None

    def _look_at_spot(self, line: int) -> None:
        self._take_spot(self._spot_at(line))

    def _take_spot(self, spot: WeakSpot | None) -> None:
        self._spot = spot
        for each in (self.keep, self.as_criterion):
            each.setEnabled(spot is not None)

    def _choose_spot(self, line: int, enter: bool = False) -> None:
        spot = self._spot_at(line)
        if spot is not None:
            self._look_at_spot(line)
            shown = self.workspace.shown
            conditions = [
                InRange(one.name, one.ranges, shown.measures) if isinstance(one, InRange) else one
                for one in spot.conditions
            ]
            (shown.enter if enter else shown.choose)(*conditions)

    def _add_criterion(self) -> None:
        if self._spot is not None:
            self.traits.add_criterion(self._spot)

    def finding(self, concluder: Concluder) -> bool:
        found, spot = self.traits.found, self._spot
        if found is None or spot is None:
            return False
        concluder.add_spot(self.traits.draft(spot, found.spots))
        return True

    def as_table(self) -> list[list[str]]:
        """Both tables, for the clipboard."""
        return [*self.properties.as_lines(), [], *self.spots.as_lines()]

    def begin_anew(self) -> None:
        self.spread.name = ""

    @property
    def settled(self) -> bool:
        return self.traits.settled

    def stop(self) -> None:
        self.traits.stop()


def _name(one: PropertyEffect) -> str:
    known = BY_NAME.get(one.name)
    return f"{one.name}, {known.unit}" if known is not None and known.unit else one.name


def _property_line(one: PropertyEffect) -> list[str]:
    effect = one.effect
    ends = span(effect.low, effect.high, 1, 2)
    p = in_words(one.p_holm).removeprefix("= ") if one.p_holm is not None else DASH
    return [_name(one), f"{decimal(effect.value, 2)} ({ends or effect.problem})", p, *_ends(one)]


def _ends(one: PropertyEffect) -> list[str]:
    if len(one.quarters) < 2:
        return [DASH, DASH]
    return [
        f"{percent(q.accuracy.value)} of {words.count(q.accuracy.total)}" for q in (one.quarters[0], one.quarters[-1])
    ]


def _told(one: PropertyEffect) -> str:
    known = BY_NAME.get(one.name)
    lines = [known.definition if known is not None else "A column of the image table."]
    if one.effect.problem:
        lines.append(f"Not asked: {one.effect.problem}.")
    else:
        lines.append(
            f"Over {words.count(one.effect.wrong)} wrong and {words.count(one.effect.right)} right images of classes that have both "
            "(van Elteren's stratified rank test)."
        )
    lines += [
        f"{range_text(one.name, q.low, q.high)}: {with_bounds(q.accuracy)}, N = {words.count(q.accuracy.total)}"
        for q in _told_quarters(one)
    ]
    return "\n".join(lines)


def _told_quarters(one: PropertyEffect) -> tuple[Quarter, ...]:
    return one.quarters if len(one.quarters) > 1 else ()


def _of_spots(found: InCommon) -> str:
    if found.spots_problem:
        return found.spots_problem
    sure = sum(one.is_confirmed for one in found.spots)
    how = f"Searched on {words.images(found.searched)}, confirmed on the {words.count(found.held_out)} others"
    if not found.spots:
        return f"{how}: no combination of conditions was weaker than the rest."
    if not sure:
        return f"{how}: none of {plural(len(found.spots), 'spot', 'spots')} was confirmed. The search found nothing that holds on other images."
    return f"{how}: {sure} of {plural(len(found.spots), 'spot', 'spots')} confirmed. p is one-sided against the rest, corrected for all."


def _share_words(one: Proportion) -> str:
    return f"{percent(one.value)} of {words.count(one.total)}" if one.total else "no image"


def _spot_line(one: WeakSpot, classes: list[str]) -> list[str]:
    p = in_words(one.p_holm).removeprefix("= ")
    return [
        "; ".join(spot_words(one, classes)),
        _share_words(one.found),
        _share_words(one.confirmed) if one.is_confirmed else f"no: {_share_words(one.confirmed)}",
        p,
        percent(one.share_of_mistakes),
    ]


def _spot_told(one: WeakSpot, classes: list[str]) -> str:
    return "\n".join(
        [
            *spot_words(one, classes),
            f"accuracy where it was found: {with_bounds(one.found)}, N = {words.count(one.found.total)}",
            f"on the other half: {with_bounds(one.confirmed)}, N = {words.count(one.confirmed.total)}",
            f"{percent(one.share_of_mistakes)} of all mistakes are here",
            "confirmed" if one.is_confirmed else "not confirmed: it may be chance",
        ]
    )
