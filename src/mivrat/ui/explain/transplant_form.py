"""What a transplant test is to do, as a form: which piece, from whom onto whom, where, and whose answers are counted."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from mivrat.core.region_masking.transplant import RECEIVERS
from mivrat.ui.explain.region_form import RegionForm, aside_label
from mivrat.ui.parts.widgets import Choice, label, row, spin
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.transplanting import Transplanter, TransplantWish

DONORS_ARE = ("the image looked at", "the images shown")
ANY = "any other image"
WHERE = ("at the same place", "at")
EDGES = ("hard edge", "soft edge")
PREDICTED = "the donor's class"


class TransplantForm(RegionForm):
    """The region, and below it from whom and onto whom it goes, and where."""

    def __init__(self, transplanter: Transplanter) -> None:
        explainer = transplanter.explainer
        super().__init__(explainer, "piece", "which piece is pasted", "the class whose answers are counted")
        self.transplanter = transplanter
        self.donors = Choice(DONORS_ARE, "whose piece is pasted")
        self.donors.setCurrentIndex(1)
        self.label = Choice((ANY,), "onto which images it is pasted, by label")
        self.label.setSizeAdjustPolicy(self.label.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.label.setMinimumContentsLength(12)
        self.target.setMinimumContentsLength(12)
        self.most = spin(1, 100_000, RECEIVERS, "the most images to paste onto: a random sample of them")
        self.most.setPrefix("at most ")
        self.where = Choice(WHERE, "where the piece goes on the other image")
        self.across = spin(0, 100, 50, "how far across the middle of the piece goes, in percent of the width")
        self.down = spin(0, 100, 50, "how far down the middle of the piece goes, in percent of the height")
        for one, what in ((self.across, " % across"), (self.down, " % down")):
            one.setSuffix(what)
        self.edge = Choice(EDGES, "whether the piece ends in a step or runs out softly")
        numbers = (self.most, self.across, self.down)
        for number in numbers:
            number.valueChanged.connect(lambda _: self.changed.emit())
        self.usual += [(one, one.value()) for one in numbers]
        self.follow(self.donors, self.label, self.where, self.edge, self.target)
        self.where.activated.connect(lambda _: self._show_place())
        onto = (label("onto", soft=True), self.label, self.most)
        self.lines.addLayout(flowing(aside_label("from"), self.donors, *onto, spacing=4))
        place = (self.where, self.across, self.down, self.edge)
        counted = QWidget()
        counted.setLayout(row(label("counting", soft=True), self.target, spacing=4))
        self.lines.addLayout(flowing(aside_label("paste"), *place, counted, spacing=4))
        self._show_place()

    def begin_anew(self) -> None:
        super().begin_anew()
        self.donors.setCurrentIndex(1)
        self._show_place()

    def list_classes(self) -> None:
        super().list_classes()
        self.target.setItemText(0, PREDICTED)
        kept = self.label.currentText()
        self.label.clear()
        self.label.addItems([ANY, *self.workspace.shown.classes])
        self.label.setCurrentIndex(max(0, self.label.findText(kept)))

    def _show_place(self) -> None:
        for one in (self.across, self.down):
            one.setVisible(self.where.currentIndex() == 1)

    def wish(self) -> TransplantWish | None:
        """The test as it stands; None without a region, or without an image to take it from."""
        region, shown = self.region_plan(), self.workspace.shown
        if region is None:
            return None
        looked, current = self.donors.currentIndex() == 0, shown.focus.current
        some = shown.images if not looked else np.array([] if current is None else [current], np.int64)
        if region.place == "each":
            some = np.intersect1d(some, np.array(list(region.each), np.int64))
        if not len(some):
            return None
        k = self.label.currentIndex() - 1
        at = (self.across.value() / 100, self.down.value() / 100) if self.where.currentIndex() == 1 else None
        called = shown.name_of(int(some[0])) if looked else self.workspace.shown.in_words
        onto = "all other images" if k < 0 else f"labelled {shown.classes[k]}"
        soft = self.edge.currentIndex() == 1
        return TransplantWish(region, some, k, self.most.value(), self.counted, at, soft, called, onto)
