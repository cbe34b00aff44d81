"""What a cover test over many images has come to, and keeping it as evidence."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.base.text import minus
from mivrat.core.checks.result import in_words
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.units import from_kept
from mivrat.core.region_masking.cover_test import CoverPlan, plan_from_text
from mivrat.core.reporting import cover_report
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.explain.kept_tests import model_of_test
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import (
    button,
    field_of_study,
    label,
    tip,
)
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.explaining import Explainer

FIRST = "The same area elsewhere. This control asks whether the region matters more than any place of its size."
SECOND = (
    "What is hot in another image. This control asks whether the region matters more than the places where the heat usually is in these images: it hides the part "
    "that is hottest in another of them, as large as the region."
)


class CoverResultView(QWidget):
    """The result of the test done last, or of a kept one; ``fresh`` tells that a new one is shown,
    ``finding_wanted`` that it is to be made a finding."""

    fresh = Signal()
    finding_wanted = Signal()

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.heading, self.about = label("", "heading", wrap=True), label(soft=True, wrap=True)
        self.of_model = label(wrap=True)
        columns = ("", "answer changes", "right / wrong", "drop of p")
        self.table = FigureTable(columns, (218, 146, 70), "cover test")
        self.table.setFixedHeight(4 * 30 + 6)
        self.sentence = label("", "verdict", wrap=True)
        self.what_controls_show = label(
            "The first control hides the same area elsewhere: does the region matter more than any place of its size? The second hides what is "
            "hot in another of these images: does it matter more than the places where the heat usually is?",
            soft=True,
            wrap=True,
        )
        self.keep_name = field_of_study("name it, to keep it as evidence (Enter)")
        self.keep_name.setAccessibleName("name of this cover test")
        self.keep_name.setMinimumWidth(250)
        self.keep_name.returnPressed.connect(self._keep)
        self.keep_button = button("Keep", self._keep, kind="small")
        self.changed_button = button("show the changed images", self._show_changed, kind="quiet")
        self.finding_button = button("Make it a finding", self.finding_wanted.emit, kind="small")
        tip(
            self.finding_button,
            "Add it to the findings under Conclude, under this name, to be checked on every later model (Alt+F)",
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        for part in (self.heading, self.of_model, self.about, self.table, self.sentence, self.what_controls_show):
            layout.addWidget(part)
        layout.addLayout(flowing(self.keep_name, self.keep_button, self.finding_button, self.changed_button))
        explainer.test_changed.connect(self.refresh)

    def found(self) -> tuple[CoverResult, CoverPlan, float | None, int] | None:
        """The result shown, with its plan, the mean area and how many images were left out."""
        test, kept, snapshot = self.explainer.test, self.explainer.shown_test, self.workspace.shown.snapshot
        if kept is not None:
            try:
                told = cover_report.told_from_text(kept.outcome)
                result = cover_report.result_from_json(told)
                return (
                    result,
                    plan_from_text(kept.plan, snapshot.record.names),
                    told.get("mean_area"),
                    int(told.get("unreadable", 0)),
                )
            except (InputError, ValueError) as error:
                self.explainer.workspace.notices.fail(
                    error if isinstance(error, InputError) else InputError("a kept cover test cannot be read")
                )
                return None
        return (test.result, test.plan, test.mean_area, test.left_out) if test is not None else None

    def refresh(self) -> None:
        """Show the result of the test chosen."""
        found, fresh = self.found(), self.explainer.shown_test is None
        for shown in (self.heading, self.of_model, self.about, self.table, self.sentence, self.finding_button):
            shown.setVisible(found is not None)
        self.what_controls_show.setVisible(found is not None and found[0].hot_elsewhere is not None)
        for offered in (self.keep_name, self.keep_button, self.changed_button):
            offered.setVisible(found is not None and fresh)
        if found is None:
            return
        result, plan, area, left_out = found
        kept = self.explainer.shown_test
        name = kept.name if kept is not None else "Cover test"
        self.heading.setText(f"{name}, N = {result.total}")
        model = model_of_test(self.workspace, kept)
        self.of_model.setText(model)
        self.of_model.setVisible(bool(model))
        size = f", on average {percent(area)} of the area" if area is not None else ""
        out = f"; {words.images(left_out)} left out" if left_out else ""
        self.about.setText(f"Hidden: {plan.in_words()}{size}. Images: {plan.selection}{out}. Seed {plan.seed}.")
        target = "the predicted class" if plan.target == "predicted" else plan.target
        over_units = result.region.changed.units is not None
        how = "p over units" if over_units else "p"
        test = "Test over whole units (permutation)" if over_units else "Exact paired test (McNemar)"
        second = result.hot_elsewhere
        effects = [("region hidden", result.region, ""), ("first control", result.control, FIRST)]
        effects += [("second control", second.effect, SECOND)] if second is not None else []
        lines, tips = [], []
        for name, one, asks in effects:
            share, p = one.changed, in_words(from_kept(one.p_paired, one.changed.units))
            lines.append(
                (
                    name,
                    f"{share.hits} of {share.total}  {with_bounds(share)}",
                    f"{one.fixed} / {one.broken}  ({how} {p})",
                    minus(f"{round(one.mean_drop, 3) + 0.0:.3f}"),
                )
            )
            how_read = f"Right / wrong: of the labelled images, how many become so ({test}). Drop: how far the probability of {target} falls on average."
            tips.append("\n".join(text for text in (asks, words.how(share), how_read) if text))
        self.table.show_lines(lines, tips)
        self.table.setFixedHeight((1 + len(lines)) * 30 + 6)
        told = cover_report.conclusions(result)
        self.sentence.setText(" ".join(f"{said[0].upper()}{said[1:]}." for said in told))
        if fresh:
            self.fresh.emit()

    def _show_changed(self) -> None:
        test = self.explainer.test
        if test is not None:
            some = [one.image for one in test.found if not one.problem and one.predicted[1] != one.predicted[0]]
            if some:
                self.workspace.shown.replace(Picked("cover test, answer changed", tuple(some)))

    def _keep(self) -> None:
        test, name = self.explainer.test, self.keep_name.text().strip()
        if test is None or self.explainer.shown_test is not None:
            return
        if not name:
            self.keep_name.setFocus()
            return
        self.explainer.keep_test(test, name)
        self.keep_name.clear()
        self.finding_button.setFocus()

    @property
    def name(self) -> str:
        """The name it was kept under, else what is typed so far."""
        kept = self.explainer.shown_test
        return kept.name if kept is not None else self.keep_name.text().strip()
