"""What a cover test is to do, as a form: where the region lies, how it is hidden, whose probability is watched."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.covering.cover_test import CoverPlan, RegionPlan
from mivrat.core.covering.one_image import HOWS
from mivrat.core.covering.regions import KINDS, Kind, Shape
from mivrat.core.heatmaps.maps import WITHOUT_LAYER
from mivrat.core.study.kept_evidence import EVERY
from mivrat.ui import words
from mivrat.ui.parts.widgets import (
    Choice,
    button,
    label,
    row,
    spin,
)
from mivrat.workspace.explaining import Explainer

HOTTEST = "the hottest part"
REGIONS = (HOTTEST, *KINDS)
PLACES = ("at the same place in every image", "on each image by itself")
HIDING = ("blurred", "in the mean colour", "from another label")
PREDICTED = "the predicted class"


def _aside(text: str) -> QLabel:
    """A word before a choice; those below each other line up."""
    made = label(text, soft=True)
    made.setFixedWidth(30)
    return made


class PlanForm(QWidget):
    """Two lines of choices; ``changed`` tells of any of them."""

    changed = Signal()

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.region = Choice(REGIONS, "what to hide: a shape drawn on the image, or the hottest part of its heatmap")
        self.place = Choice(PLACES, "where the region lies in other images")
        self.share = spin(1, 60, 8, "the hottest part, in percent of the area")
        self.share.setSuffix(" %")
        self.hide_as = Choice(HIDING, "how the region is hidden")
        self.target = Choice((PREDICTED,), "whose probability is watched")
        self.target.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.target.setMinimumContentsLength(16)
        self.clear_button = button("clear", lambda: self.take_drawing(()), kind="quiet")
        self.region.activated.connect(lambda _: self._choose_region())
        for box in (self.place, self.hide_as, self.target):
            box.activated.connect(lambda _: self.changed.emit())
        self.share.valueChanged.connect(lambda _: self.changed.emit())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(row(_aside("hide"), self.region, self.share, self.place, self.clear_button, None, spacing=4))
        layout.addLayout(row(_aside("how"), self.hide_as, label("watching", soft=True), self.target, None, spacing=4))
        self._choose_region()

    def list_classes(self) -> None:
        """Offer the classes of the run shown; the one chosen stays where there is one of its name."""
        kept = self.target.currentText()
        self.target.clear()
        self.target.addItems([PREDICTED, *self.workspace.shown.classes])
        self.target.setCurrentIndex(max(0, self.target.findText(kept)))

    @property
    def hottest(self) -> bool:
        """Whether the hottest part is hidden, rather than what is drawn."""
        return self.region.currentText() == HOTTEST

    @property
    def kind(self) -> Kind | None:
        """The kind of shape that is drawn; None where none is."""
        return None if self.hottest else KINDS[self.region.currentIndex() - 1]

    def _choose_region(self) -> None:
        self.share.setVisible(self.hottest)
        self.place.setVisible(not self.hottest)
        self.clear_button.setVisible(not self.hottest)
        self.changed.emit()

    @property
    def position(self) -> int | None:
        """The position that drawn shapes are kept under: of the image looked at, or of all."""
        return EVERY if self.place.currentIndex() == 0 else self.workspace.shown.current

    def shapes(self) -> tuple[Shape, ...]:
        """The shapes drawn for the image looked at."""
        position = self.position
        return self.explainer.regions.get(position, ()) if position is not None and not self.hottest else ()

    def take_drawing(self, shapes: tuple[Shape, ...]) -> None:
        """Keep what was drawn."""
        position = self.position
        if position is not None:
            where = "every image" if position == EVERY else words.clipped(self.workspace.shown.name_of(position), 30)
            what = "Region drawn on" if shapes else "Region taken off"
            self.explainer.keep_regions(f"{what} {where}", {position: tuple(shapes)})

    def region_plan(self) -> RegionPlan | None:
        """The region as it stands; None where none is drawn."""
        snapshot, setup = self.workspace.shown.snapshot, self.explainer.setup
        if self.hottest:
            layer = setup.layers[0] if setup.layers else None
            layer = None if setup.method in WITHOUT_LAYER else layer
            share = self.share.value() / 100
            return RegionPlan("hottest", (), {}, share, setup.method, layer, snapshot.record.model_sha256)
        if self.place.currentIndex() == 0:
            shapes = self.explainer.regions.get(EVERY, ())
            return RegionPlan("fixed", shapes) if shapes else None
        each = {i: shapes for i, shapes in self.explainer.regions.items() if i != EVERY}
        return RegionPlan("each", each=each) if each else None

    def plan(self, images: tuple[int, ...]) -> CoverPlan | None:
        """The test as it stands, over some images; None without a region."""
        region = self.region_plan()
        if region is None:
            return None
        if region.place == "each":
            images = tuple(i for i in images if i in region.each)
        target = "predicted" if self.target.currentIndex() <= 0 else self.target.currentText()
        conditions = "; ".join(
            " ".join(one.words(self.workspace.shown.classes)).lstrip() for one in self.workspace.shown.conditions
        )
        return CoverPlan(images, region, HOWS[self.hide_as.currentIndex()], target, 0, conditions or "all images")

    def plan_of_one(self, image: int) -> CoverPlan | None:
        """The test as it stands for one image; None where it has no region."""
        own = not self.hottest and self.place.currentIndex() == 1
        return None if own and image not in self.explainer.regions else self.plan((image,))
