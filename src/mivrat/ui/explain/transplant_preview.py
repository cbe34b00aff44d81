"""The region of the image looked at pasted onto one other, at once: as it is, with the piece, and with the control."""

from __future__ import annotations

from dataclasses import dataclass

from mivrat.core.base.numbers import percent
from mivrat.ui.explain.answers_grid import AnswersGrid
from mivrat.ui.explain.look_preview import LookPreview
from mivrat.ui.explain.transplant_form import TransplantForm
from mivrat.ui.parts.picture_panel import PicturePanel
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import label
from mivrat.workspace.executors import Task
from mivrat.workspace.image_view import ImageView, look_at
from mivrat.workspace.transplanting import PastedOne, Transplanter, paste_looked

CAPTIONS = ("another image", "with the piece", "with the control")


@dataclass(frozen=True)
class _Found:
    look: ImageView
    pasted: PastedOne | None


class TransplantPreview(LookPreview[TransplantForm]):
    """Four pictures, a table of answers below them, and a sentence."""

    def __init__(self, transplanter: Transplanter, form: TransplantForm) -> None:
        super().__init__(transplanter.explainer, form)
        self.one: _Found | None = None
        self.panels = [PicturePanel(name) for name in CAPTIONS]
        self.answers, self.told = AnswersGrid(3, 4), label(wrap=True)
        self._lay_out(self.panels, self.answers, self.told)
        self._show_one()

    def forget(self) -> None:
        """Another run is shown."""
        self.one = None
        self._show_one()

    def _forget_one(self) -> None:
        self.one = None

    def _begin(self) -> None:
        shown = self.workspace.shown
        snapshot, image = shown.snapshot, shown.focus.current
        if not self.isVisible():
            return
        self._working.cancel()
        problem = self._why_not("A transplant test", "paste")
        if problem or image is None:
            self._say(problem)
            return
        record = snapshot.record
        own_missing = self.form.of_each and image not in self.explainer.regions
        # Looking at an image is no reason to send it.
        wish = None if self.explainer.asks or own_missing else self.form.wish()
        makers = self.workspace.makers
        known = self.one.look if self.one is not None and self.one.look.image == image else None
        if known is None:
            self.canvas.show_photo(None, None, "…")

        def paste(work: Task) -> _Found:
            look = known or look_at(record, image, 400)
            work.report(look)
            return _Found(look, None if wish is None else paste_looked(look, snapshot, wish, makers))

        self._working.start(paste, done=self._take, failed=self._fail, progress=self._looked, priority=4)

    def _take(self, found: _Found) -> None:
        self.one = found
        if found.pasted is not None and found.pasted.mask is not None and not self.form.drawn:
            self.canvas.show_mask(found.pasted.mask)
        self._show_one()

    def _show_one(self) -> None:
        pasted = self.one.pasted if self.one is not None else None
        answers = pasted.answers if pasted is not None and not pasted.problem else None
        if pasted is None or answers is None:
            for panel in self.panels:
                panel.show_image(None, "nothing pasted yet")
            self.answers.show_lines([])
            self.told.setText(self._why_nothing(pasted))
            return
        shown = self.workspace.shown
        bgr = shown.record.recipe.picture.mode == "BGR"
        for panel, pixels in zip(self.panels, pasted.pixels, strict=True):
            panel.show_image(to_image(pixels[..., ::-1] if bgr else pixels))
        target = shown.classes[answers.target]
        called, p = [shown.classes[k] for k in answers.predicted], [f"{p:.3f}" for p in answers.p]
        self.answers.show_lines([("", *CAPTIONS), ("answer", *called), (f"p({target})", *p)])
        self.told.setText(
            f"The piece, {percent(answers.area)} of the image looked at, is pasted onto {shown.name_of(answers.image)}; the control is as large, "
            "from elsewhere in the image looked at."
        )

    def _why_nothing(self, pasted: PastedOne | None) -> str:
        if self.one is None:
            return ""
        if pasted is not None:
            return f"Nothing is pasted here: {pasted.problem}."
        if self.explainer.asks and self.form.region_plan() is not None:
            return "What is pasted is sent and scored when the test is done, not while it is drawn."
        if self.form.samples:
            return "Drag over the image to mark a patch: what has its colour, or is like it, is then pasted. With keys: Enter."
        return "Drag over the image to draw what to paste (with Ctrl: a further shape). With keys: Enter, then arrows, + and −."
