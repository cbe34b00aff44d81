"""What a test does to the image looked at, at once: the image with its region, and what follows from it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Generic, TypeVar

from PySide6.QtWidgets import QLayout, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.ui.explain.canvas import Canvas
from mivrat.ui.explain.region_form import RegionForm
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import row
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.image_view import ImageView

Form = TypeVar("Form", bound=RegionForm)


class LookPreview(QWidget, Generic[Form]):
    """Holds the canvas, and begins anew as soon as nothing changes any more; ``_begin`` starts the work, ``_show_one`` shows what is known."""

    def __init__(self, explainer: Explainer, form: Form) -> None:
        super().__init__()
        self.explainer, self.workspace, self.form = explainer, explainer.workspace, form
        self._working = LatestOnly(explainer.workers)
        self._soon = self.workspace.soon(60, self._begin)
        self.canvas = Canvas()
        self.canvas.drawn.connect(form.take_drawing)

    def _lay_out(self, panels: Sequence[QWidget], answers: QLayout, told: QWidget) -> None:
        """The canvas beside other pictures, a table of answers below them, and a sentence."""
        pictures = row(self.canvas, *panels, spacing=12)
        for i in range(1 + len(panels)):
            pictures.setStretch(i, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addLayout(pictures)
        layout.addLayout(answers)
        layout.addWidget(told)

    def refresh(self) -> None:
        """Follow the form and the image looked at."""
        self.canvas.kind = self.form.kind
        self.canvas.show_shapes(self.form.shapes())
        if self.isVisible():
            self._soon.start()

    def _begin(self) -> None:
        raise NotImplementedError

    def _forget_one(self) -> None:
        raise NotImplementedError

    def _show_one(self) -> None:
        raise NotImplementedError

    def _why_not(self, test: str, what: str) -> str:
        """Why nothing can be done to the image looked at by a ``test`` that takes ``what`` is drawn; empty where it can."""
        shown = self.workspace.shown
        image, kind = shown.focus.current, shown.record.kind
        if not kind.can.scores:
            return kind.lacks(f"{test} needs")
        if image is None:
            return f"Look at an image (M: the next mistake), then draw on it what to {what}."
        return "This image has no answer to test." if shown.judged.predicted[image] < 0 else ""

    def _say(self, problem: str) -> None:
        """Nothing is known, and this is why."""
        self._forget_one()
        self.canvas.show_photo(None, None, problem)
        self._show_one()

    def _looked(self, look: object) -> None:
        if isinstance(look, ImageView):
            self.canvas.show_photo(to_image(look.photo), look.place)

    def _fail(self, error: InputError) -> None:
        self._say(f"{error.what}. {error.hint}")

    @property
    def settled(self) -> bool:
        return not self._soon.waiting
