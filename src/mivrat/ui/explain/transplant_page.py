"""The transplant test: a region is cut out of some images and pasted onto others, on one at once, on many on demand."""

from __future__ import annotations

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.checks.result import in_words
from mivrat.core.figures.units import from_kept
from mivrat.core.pictures.image_names import ImageNames
from mivrat.core.region_masking.one_image import ANSWERS
from mivrat.core.region_masking.transplant import transplant_from_text
from mivrat.core.reporting import transplant_report
from mivrat.ui import words
from mivrat.ui.explain.kept_tests import KeptKind, KeptTests
from mivrat.ui.explain.transplant_form import TransplantForm
from mivrat.ui.explain.transplant_preview import TransplantPreview
from mivrat.ui.explain.transplant_result import TransplantResultView
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Scrolled, button, label, row, tip
from mivrat.workspace.transplanting import Transplanter


def _figures(outcome: str) -> list[str]:
    enough, _, _ = transplant_report.results_from_text(outcome)
    p = from_kept(1.0 if enough.difference.p is None else enough.difference.p, enough.piece.became.units)
    return [str(enough.total), *(str(one.became.hits) for one in (enough.piece, enough.control)), in_words(p)]


def _receivers(text: str, names: ImageNames) -> tuple[int, ...]:
    return transplant_from_text(text, names).receivers


TRANSPLANT_TESTS = KeptKind(
    "transplant",
    "transplant test",
    (("N", 48), ("piece", 64), ("control", 68), ("p", 88)),
    "piece and control: answers that became the donor's class",
    _figures,
    _receivers,
)


class TransplantPage(Page, QWidget):
    """The form above; below it one image with the piece, the result over many, and the tests that are kept."""

    title, place_id = "Transplant", "transplant test"
    help = "Pastes a region onto other images and counts the answers it carries over: is it enough by itself?"

    def __init__(self, transplanter: Transplanter) -> None:
        super().__init__()
        explainer = transplanter.explainer
        self.transplanter, self.explainer, self.workspace = transplanter, explainer, explainer.workspace
        self.form = TransplantForm(self.transplanter)
        self.preview = TransplantPreview(self.transplanter, self.form)
        self.result = TransplantResultView(self.transplanter)
        self.kept_tests = KeptTests(explainer, self.transplanter, TRANSPLANT_TESTS)
        self.begin = button("Paste onto other images", self.paste, kind="primary")
        tip(
            self.begin,
            "Paste the piece onto each of these images, and as a control a piece of the same size from elsewhere in its donor, and score both",
        )
        self.why_not = label(
            "No image is left to paste onto: what is shown gives. Show fewer images, or choose another label.",
            wrap=True,
        )
        self._in_sight = self.workspace.soon(0, self._scroll_to_result)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 2, 10, 12)
        inside.setSpacing(8)
        inside.addWidget(self.preview)
        inside.addLayout(row(self.begin, None))
        inside.addWidget(self.why_not)
        inside.addWidget(self.result)
        inside.addWidget(self.kept_tests)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.form)
        self.scrolled = Scrolled(body)
        layout.addWidget(self.scrolled, 1)
        self.form.changed.connect(self.refresh)
        self.result.fresh.connect(self._in_sight.start)
        topics = self.workspace.topics
        for topic in (
            explainer.regions_changed,
            explainer.layers_changed,
            topics.current,
            topics.selection,
            topics.busy,
        ):
            topic.connect(self.refresh)
        topics.run.connect(self._new_run)

    def _new_run(self) -> None:
        self.form.list_classes()
        self.form.forget_sample()
        if self.explainer.has_no_layers and self.form.hottest:
            self.form.region.setCurrentIndex(1)
            self.form.region.activated.emit(1)
        self.preview.forget()
        self.kept_tests.refresh()
        self.refresh()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.kept_tests.refresh()
        self.refresh()

    def begin_anew(self) -> None:
        self.form.begin_anew()
        self._new_run()

    def refresh(self) -> None:
        """Follow the form, the regions, the selection and the image looked at."""
        if not self.workspace.is_open or not self.isVisible():
            return
        self.preview.refresh()
        able = self.explainer.can_explain and not (self.explainer.has_no_layers and self.form.hottest)
        wish = self.form.wish() if able else None
        donors, receivers = (0, 0) if wish is None else wish.numbers(self.workspace.shown.snapshot)
        text = "Paste onto other images"
        if donors and receivers:
            text = f"Paste from {words.images(donors)} onto {words.images(receivers)}"
            if self.explainer.asks:
                text += f": {self.explainer.cost(ANSWERS * (donors + receivers))}"
        self.begin.setText(text)
        self.why_not.setVisible(bool(donors) and not receivers)
        self.begin.setEnabled(bool(donors and receivers) and not self.workspace.busy)

    def paste(self) -> None:
        """Do the test, in the background."""
        wish = self.form.wish()
        if wish is not None:
            self.transplanter.run(wish)

    def _scroll_to_result(self) -> None:
        self.scrolled.ensureWidgetVisible(self.result, 0, 8)

    def as_table(self) -> list[list[str]]:
        """The result shown, else the kept tests, for the clipboard."""
        return self.result.table.as_lines() if self.result.found() is not None else self.kept_tests.table.as_lines()

    @property
    def settled(self) -> bool:
        return self.preview.settled
