"""What a cover test is to do, as a form: where the region lies, how it is hidden, whose probability is watched."""

from __future__ import annotations

from mivrat.core.region_masking.cover_test import CoverPlan
from mivrat.core.region_masking.one_image import HOWS
from mivrat.ui.explain.region_form import RegionForm, aside_label
from mivrat.ui.parts.widgets import Choice, label, row
from mivrat.workspace.explaining import Explainer

HIDING = ("blurred", "in the mean colour", "from another label")


class PlanForm(RegionForm):
    """The region, and below it how it is hidden."""

    def __init__(self, explainer: Explainer) -> None:
        super().__init__(explainer, "hide", "what to hide", "whose probability is watched")
        self.hide_as = Choice(HIDING, "how the region is hidden")
        self.follow(self.hide_as, self.target)
        self.lines.addLayout(
            row(aside_label("how"), self.hide_as, label("watching", soft=True), self.target, None, spacing=4)
        )

    def plan(self, images: tuple[int, ...]) -> CoverPlan | None:
        """The test as it stands, over some images; None without a region."""
        region = self.region_plan()
        if region is None:
            return None
        if region.place == "each":
            images = tuple(i for i in images if i in region.each)
        return CoverPlan(
            images, region, HOWS[self.hide_as.currentIndex()], self.counted, 0, self.workspace.shown.in_words
        )

    def plan_of_one(self, image: int) -> CoverPlan | None:
        """The test as it stands for one image; None where it has no region."""
        return None if self.of_each and image not in self.explainer.regions else self.plan((image,))
