"""The cover test: a region is drawn or taken from the heat, hidden in the image looked at at once, and in all shown on demand."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QApplication,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.numbers import percent
from mivrat.core.checks.result import in_words
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.region_masking.inside import Inside, evidence_inside
from mivrat.core.region_masking.one_image import ANSWERS
from mivrat.core.region_masking.regions import mask_of
from mivrat.ui import words
from mivrat.ui.explain.cover_preview import CoverPreview
from mivrat.ui.explain.cover_result import CoverResultView
from mivrat.ui.explain.kept_tests import COVER_TESTS, KeptTests
from mivrat.ui.explain.plan_form import PlanForm
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import (
    Scrolled,
    button,
    label,
    row,
    tip,
)
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.explaining import Explainer


class CoverPage(Page, QWidget):
    """The form above; below it this image's answers, the selection's, and the tests that are kept."""

    title, place_id = "Cover test", "cover test"
    help = "Hides a region and measures how the answers change: does the model depend on it?"

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.form = PlanForm(explainer)
        self.preview, self.result = CoverPreview(explainer, self.form), CoverResultView(explainer)
        self.kept_tests = KeptTests(explainer, explainer, COVER_TESTS)
        self.inside: Inside | None = None
        self._own = self.workspace.group(1)
        self._summing = LatestOnly(self._own)
        self._in_sight = self.workspace.soon(0, self._scroll_to_result)
        self._scrolled = self.workspace.soon(0, self._scroll_up)
        self.told_inside = label(soft=True, wrap=True)
        self.begin = button("Cover the images shown", self.cover_selection, kind="primary")
        tip(
            self.begin,
            "Hide the region in every image shown, and as a control the same area elsewhere, and score again",
        )
        self._lay_out()
        self.form.changed.connect(self._form_changed)
        self.result.fresh.connect(self._show_fresh)
        for topic in (explainer.regions_changed, explainer.layers_changed, self.workspace.topics.current):
            topic.connect(self.refresh)
        explainer.maps_changed.connect(self._sum_inside)
        self.workspace.topics.selection.connect(self._show_button)
        self.workspace.topics.busy.connect(self._show_button)
        self.workspace.topics.run.connect(self._new_run)

    def _lay_out(self) -> None:
        self.body = QWidget()
        inside = QVBoxLayout(self.body)
        inside.setContentsMargins(0, 2, 10, 12)
        inside.setSpacing(8)
        inside.addWidget(self.preview)
        inside.addWidget(self.told_inside)
        inside.addLayout(row(self.begin, None))
        inside.addWidget(self.result)
        inside.addWidget(self.kept_tests)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.form)
        self.scrolled = Scrolled(self.body)
        layout.addWidget(self.scrolled, 1)

    def _new_run(self) -> None:
        self.form.list_classes()
        self.form.forget_sample()
        if self.explainer.has_no_layers and self.form.hottest:
            self.form.region.setCurrentIndex(1)
            self.form.region.activated.emit(1)
        self.preview.forget()
        self.inside = None
        self.kept_tests.refresh()
        self.refresh()

    def finding(self, concluder: Concluder) -> bool:
        if (test := self.result.found()) is None:
            return False
        kept = self.explainer.shown_test
        if kept is not None and kept.run_id != self.workspace.shown.record.info.id:
            self.workspace.notices.say("That test was done on another run. Repeat it on this one under ⋯, then add it.")
        else:
            concluder.add_cover(test[1], test[0], self.result.name)
        return True

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.kept_tests.refresh()
        self.refresh()

    def begin_anew(self) -> None:
        self.form.begin_anew()
        self._new_run()

    def _form_changed(self) -> None:
        if self.workspace.is_open:
            self.refresh()

    def refresh(self) -> None:
        """Follow the form, the regions and the image looked at."""
        self.preview.refresh()
        if self.isVisible():
            self._show_button()
            self._sum_inside()

    # --- the evidence inside, over the selection ---

    def _sum_inside(self) -> None:
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        self._summing.cancel()
        self.inside = None
        plan, maps = self.form.region_plan(), self.explainer.maps
        shown = set(self.workspace.shown.images.tolist())
        some = {i: heat for i, heat in maps.items() if i in shown}
        if plan is None or plan.place not in ("fixed", "each") or not some:
            self.told_inside.hide()
            return
        judged, record = snapshot.judged, snapshot.record

        def add_up(work: Task) -> Inside:
            if plan.place == "fixed":
                size = record.recipe.output_size()
                size = size or prepare_file(record.image_set.file(next(iter(some))), record.recipe).shape[-2:]
                mask = mask_of(plan.shapes, *size)
                masks = dict.fromkeys(some, mask)
            else:
                size = record.recipe.output_size() or (224, 224)
                masks = {i: mask_of(plan.each[i], *size) for i in some if i in plan.each}
            return evidence_inside(some, masks, judged.right, judged.wrong)

        self._summing.start(add_up, done=self._show_inside)

    def _show_inside(self, found: Inside) -> None:
        self.inside = found
        parts = [
            f"{percent(one.mean, 0)} in {name} answers (N = {one.total})"
            for name, one in (("right", found.right), ("wrong", found.wrong))
            if one.mean is not None
        ]
        if not parts:
            self.told_inside.hide()
            return
        test = f"; Mann-Whitney p {in_words(found.p)}" if len(parts) == 2 else ""
        none = f"; {words.images(found.none)} without any evidence left out" if found.none else ""
        whose = self.explainer.setup.in_words(self.workspace.shown.classes)
        self.told_inside.show()
        self.told_inside.setText(
            f"Over the images shown whose map is known, the evidence for {whose} inside, on average: {', '.join(parts)}{test}{none}."
        )

    # --- the selection ---

    def _show_button(self) -> None:
        if not self.isVisible():
            return
        can = self.explainer.can_explain
        plan = self.form.plan(tuple(self.workspace.shown.images.tolist())) if can else None
        number = len(plan.images) if plan is not None else 0
        what = "with a region of their own" if plan is not None and plan.region.place == "each" else "shown"
        self.begin.setText(f"Cover the {words.images(number)} {what}" if number else "Cover the images shown")
        if number and self.explainer.asks:
            self.begin.setText(f"{self.begin.text()}: {self.explainer.cost(ANSWERS * number)}")
        able = can and not (self.explainer.has_no_layers and self.form.hottest)
        self.begin.setEnabled(bool(number) and not self.workspace.busy and able)

    def cover_selection(self) -> None:
        """Do the test over the images shown, in the background."""
        plan = self.form.plan(tuple(self.workspace.shown.images.tolist()))
        if plan is not None and plan.images:
            self.explainer.cover(plan)

    def _show_fresh(self) -> None:
        """A new result is there: see to it that it is in sight, and that what is typed next is its name."""
        self._in_sight.start()
        focused = QApplication.focusWidget()
        if focused is self.begin or (focused is not None and focused.objectName() == "waiting"):
            self.result.keep_name.setFocus(Qt.FocusReason.OtherFocusReason)

    def _scroll_to_result(self) -> None:
        """See to it that a new result is in sight, whole, and no picture above it cut to a strip."""
        shown, bar = self.scrolled.viewport().height(), self.scrolled.verticalScrollBar()
        if self.result.geometry().bottom() > bar.value() + shown:
            self.body.setMinimumHeight(self.begin.y() - 8 + shown)  # room to scroll the pictures away whole
            self._scrolled.start()

    def _scroll_up(self) -> None:
        self.scrolled.verticalScrollBar().setValue(self.begin.y() - 8)

    def as_table(self) -> list[list[str]]:
        """The result shown, else the kept tests, for the clipboard."""
        return self.result.table.as_lines() if self.result.found() is not None else self.kept_tests.table.as_lines()

    @property
    def settled(self) -> bool:
        return self.preview.settled and not self._own.busy

    def stop(self) -> None:
        self._own.stop_all()
