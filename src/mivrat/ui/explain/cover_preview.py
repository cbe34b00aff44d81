"""The image looked at with the region hidden, at once: its answers as it is, covered, and with the control."""

from __future__ import annotations

from dataclasses import dataclass

from mivrat.core.base.job import Stopped
from mivrat.core.base.numbers import percent
from mivrat.core.heatmaps.kept_maps import maps_of_setup
from mivrat.core.heatmaps.maps import MapMaker
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.cover_test import CoverPlan
from mivrat.core.region_masking.one_image import Hidden
from mivrat.core.region_masking.regions import share_inside
from mivrat.ui.explain.answers_grid import AnswersGrid
from mivrat.ui.explain.look_preview import LookPreview
from mivrat.ui.explain.plan_form import PlanForm
from mivrat.ui.parts.picture_panel import PicturePanel
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import (
    label,
)
from mivrat.workspace import heat_jobs
from mivrat.workspace.executors import Task
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.image_view import ImageView, look_at


@dataclass(frozen=True)
class OneCovered:
    """What hiding the region did to the image looked at; ``inside`` is the share of its evidence in the region."""

    look: ImageView
    hidden: Hidden
    inside: float | None


class CoverPreview(LookPreview[PlanForm]):
    """Three pictures, a table of answers below them, and a sentence."""

    def __init__(self, explainer: Explainer, form: PlanForm) -> None:
        super().__init__(explainer, form)
        self.one: OneCovered | None = None
        self.hidden, self.control = PicturePanel("region hidden"), PicturePanel("same area elsewhere")
        self.answers = AnswersGrid(4, 4)
        self.told = label(wrap=True)
        self._lay_out((self.hidden, self.control), self.answers, self.told)

    def forget(self) -> None:
        """Another run is shown."""
        self.one = None

    def _forget_one(self) -> None:
        self.one = None

    def _begin(self) -> None:
        snapshot, image = self.workspace.shown.snapshot, self.workspace.shown.focus.current
        if not self.isVisible():
            return
        self._working.cancel()
        problem = self._why_not("A cover test", "hide")
        if problem or image is None:
            self._say(problem)
            return
        plan, record, setup = self.form.plan_of_one(image), snapshot.record, self.explainer.setup
        if self.explainer.asks:  # looking at an image is no reason to send it
            plan = None
        makers, judged, known = self.workspace.makers, snapshot.judged, self.one.look if self.one is not None else None
        if self.canvas.photo is None or known is None or known.image != image:
            self.canvas.show_photo(None, None, "…")

        def cover(work: Task) -> OneCovered | ImageView:
            look = known if known is not None and known.image == image else look_at(record, image, 400)
            work.report(look)
            if plan is None:
                return look
            with makers.acquire(record) as maker:
                try:
                    return covered(look, maker, plan)
                except Stopped:
                    return look

        def covered(look: ImageView, maker: MapMaker, plan: CoverPlan) -> OneCovered:
            hidden = heat_jobs.cover_looked(look, maker, record, plan)
            target, inside = MapSetup(of=hidden.answers.target).target(judged, image), None
            if hidden.mask is not None and target is not None:
                heat = maps_of_setup(
                    maker, to_tensor(look.prepared(record.recipe), record.recipe)[None], [target], setup
                )[0]
                inside = share_inside(heat, hidden.mask)
            return OneCovered(look, hidden, inside)

        self._working.start(cover, done=self._covered, failed=self._fail, progress=self._looked, priority=4)

    def _covered(self, found: OneCovered | ImageView) -> None:
        self.one = found if isinstance(found, OneCovered) else None
        if self.one is not None and self.one.hidden.mask is not None and not self.form.drawn:
            self.canvas.show_mask(self.one.hidden.mask)
        self._show_one()

    def _show_one(self) -> None:
        one, classes = self.one, self.workspace.shown.classes
        answered = one is not None and not one.hidden.answers.problem
        bgr = self.workspace.shown.snapshot.record.recipe.picture.mode == "BGR"
        for panel, at, name in ((self.hidden, 1, "region hidden"), (self.control, 2, "same area elsewhere")):
            if one is None or not answered:
                panel.show_image(None, "nothing hidden yet" if at == 1 else "the control")
                panel.set_caption(name)
                continue
            pixels = one.hidden.pixels[at]
            panel.show_image(to_image(pixels[..., ::-1] if bgr else pixels))
            panel.set_caption(name, classes[one.hidden.answers.predicted[at]])
        if one is None or not answered:
            self.answers.show_lines([])
            self.told.setText(
                ""
                if one is None and self.canvas.photo is None
                else f"{self.explainer.without_layers('gradient')} The hottest part depends on a layer. Draw a region instead."
                if self.explainer.has_no_layers and self.form.hottest
                else "What is hidden is sent and scored when the test is done, not while it is drawn."
                if self.explainer.asks and self.form.shapes()
                else f"This image is not covered: {one.hidden.answers.problem}."
                if one is not None
                else "Drag over the image to mark a patch: what has its colour, or is like it, is then found in each image. With keys: Enter."
                if self.form.samples
                else "Drag over the image to draw what to hide (with Ctrl: a further shape). With keys: Enter, then arrows, + and −."
            )
            return
        found = one.hidden.answers
        names = ("", "as it is", "region hidden", "same area elsewhere")
        target = classes[found.target]
        lines = (
            names,
            ("answer", *(classes[k] for k in found.predicted)),
            (f"p({target})", *(f"{p:.3f}" for p in found.p)),
            ("its rank", *(f"{rank} of {len(classes)}" for rank in found.rank)),
        )
        self.answers.show_lines(lines)
        told = f"The region takes up {percent(found.area)} of the image"
        if not found.area:
            told += ": the map has no evidence to hide"
        if one.inside is not None:
            told += f" and holds {percent(one.inside, 0)} of the evidence for {target}"
        self.told.setText(told + ".")
