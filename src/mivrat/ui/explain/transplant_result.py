"""What a transplant test has come to, and keeping it as evidence."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent, with_bounds
from mivrat.core.base.text import minus
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.transplanted import TransplantResult
from mivrat.core.region_masking.transplant import TransplantPlan, transplant_from_text
from mivrat.core.reporting import transplant_report
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.explain.kept_tests import model_of_test
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import button, field_of_study, label, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.transplanting import Transplanter

PIECE = "The piece pasted onto images of other labels: of those not called the donor's class before, how many are now."
CONTROL = "The control: a piece of the same size and outline from elsewhere in the same donor, at the same place of the same image."


class TransplantResultView(QWidget):
    """The result of the test done last, or of a kept one; ``fresh`` tells that a new one is shown."""

    fresh = Signal()

    def __init__(self, transplanter: Transplanter) -> None:
        super().__init__()
        self.transplanter, self.workspace = transplanter, transplanter.workspace
        self.heading, self.about = label("", "heading", wrap=True), label(soft=True, wrap=True)
        self.of_model = label(wrap=True)
        self.table = FigureTable(("", "becomes the donor's class", "rise of p"), (240, 80), "transplant test")
        self.table.setFixedHeight(3 * 30 + 6)
        self.sentence = label("", "verdict", wrap=True)
        self.keep_name = field_of_study("name to keep it under")
        self.keep_name.returnPressed.connect(self._keep)
        self.keep_button = button("Keep as evidence", self._keep)
        self.changed_button = button("Images carried over", self._show_changed, kind="quiet")
        tip(self.changed_button, "Select the images whose answer became the donor's class with the piece")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        for part in (self.heading, self.of_model, self.about, self.table, self.sentence):
            layout.addWidget(part)
        layout.addLayout(flowing(self.keep_name, self.keep_button, self.changed_button))
        transplanter.test_changed.connect(self.refresh)
        self.refresh()

    def found(self) -> tuple[TransplantResult, CoverResult, TransplantPlan, dict[str, object]] | None:
        """The result shown: what pasting and hiding did, the plan, and how many images were left out."""
        test, kept = self.transplanter.test, self.transplanter.shown_test
        if kept is not None:
            try:
                enough, need, told = transplant_report.results_from_text(kept.outcome)
                return enough, need, transplant_from_text(kept.plan, self.workspace.shown.record.names), told
            except InputError as error:
                self.workspace.notices.fail(error)
                return None
        if test is None:
            return None
        return test.enough, test.need, test.plan, transplant_report.left_out(test)

    def refresh(self) -> None:
        """Show the result of the test chosen."""
        found, kept = self.found(), self.transplanter.shown_test
        for shown in (self.heading, self.of_model, self.about, self.table, self.sentence):
            shown.setVisible(found is not None)
        for offered in (self.keep_name, self.keep_button, self.changed_button):
            offered.setVisible(found is not None and kept is None)
        if found is None:
            return
        enough, need, plan, told = found
        self.heading.setText(f"{kept.name if kept is not None else 'Transplant test'}, N = {enough.total}")
        model = model_of_test(self.workspace, kept)
        self.of_model.setText(model)
        self.of_model.setVisible(bool(model))
        area = told.get("mean_area")
        size = f", on average {percent(area)} of the area" if isinstance(area, float) else ""
        out = [f"{words.images(n)} left out" for n in (told.get("receivers_left_out"),) if isinstance(n, int) and n]
        none = [f"{n} without a piece" for n in (told.get("donors_left_out"),) if isinstance(n, int) and n]
        self.about.setText(
            f"Piece: {plan.in_words()}{size}. From {words.images(len(plan.donors))}, {plan.donors_are}{''.join(f'; {one}' for one in none)}. "
            f"Onto {words.images(len(plan.receivers))}, {plan.receivers_are}{''.join(f'; {one}' for one in out)}. Seed {plan.seed}."
        )
        lines, tips = [], []
        for name, one, asks in (("piece pasted", enough.piece, PIECE), ("control pasted", enough.control, CONTROL)):
            share = one.became
            rise = minus(f"{round(one.mean_rise, 3) + 0.0:.3f}")
            lines.append((name, f"{share.hits} of {share.total}  {with_bounds(share)}", rise))
            tips.append("\n".join(text for text in (asks, words.how(share)) if text))
        self.table.show_lines(lines, tips)
        said = transplant_report.conclusions(enough, need)
        self.sentence.setText(" ".join(f"{one[0].upper()}{one[1:]}." for one in said))
        if kept is None:
            self.fresh.emit()

    def _show_changed(self) -> None:
        test = self.transplanter.test
        some = tuple(one.image for one in test.found if not one.problem and one.became[0]) if test is not None else ()
        if some:
            self.workspace.shown.replace(Picked("transplant test, carried over", some))

    def _keep(self) -> None:
        test, name = self.transplanter.test, self.keep_name.text().strip()
        if test is None or self.transplanter.shown_test is not None:
            return
        if not name:
            self.keep_name.setFocus()
            return
        self.transplanter.keep(test, name)
        self.keep_name.clear()
