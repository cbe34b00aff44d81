"""Where the region of a test lies, as a form: drawn, the hottest part, or found by its colour or likeness."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.heatmaps.methods import WITHOUT_LAYER
from mivrat.core.region_masking.lookalikes import LIKENESS, TOLERANCE, ColourRule, PatchRule
from mivrat.core.region_masking.region_plan import RegionPlan
from mivrat.core.region_masking.regions import KINDS, Kind, Shape
from mivrat.core.study.kept_evidence import EVERY
from mivrat.ui import words
from mivrat.ui.parts.widgets import (
    Choice,
    button,
    label,
    row,
    spin,
)
from mivrat.workspace import heat_jobs
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.explaining import Explainer

HOTTEST = "the hottest part"
COLOUR, ALIKE = "pixels of one colour", "places like a patch"
REGIONS = (HOTTEST, *KINDS, COLOUR, ALIKE)
PLACES = ("at the same place in every image", "on each image by itself")
PREDICTED = "the predicted class"


def aside_label(text: str) -> QLabel:
    """A word before a choice; those below each other line up."""
    made = label(text, soft=True)
    made.setFixedWidth(34)
    return made


class RegionForm(QWidget):
    """A line of choices, behind ``aside``; what a test does besides stands below it. ``changed`` tells of any of them."""

    changed = Signal()

    def __init__(self, explainer: Explainer, aside: str, called: str, watched: str) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.region = Choice(
            REGIONS,
            f"{called}: a shape drawn on the image, the hottest part of its heatmap, or in each image the pixels with the colour of a "
            "patch or the places like it (mark the patch on the image)",
        )
        self.rule: ColourRule | PatchRule | None = None
        self.boxes: tuple[QComboBox, ...] = ()
        self.target = Choice((PREDICTED,), watched)
        self.target.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.target.setMinimumContentsLength(16)
        self._sampling = LatestOnly(explainer.workers)
        self.tolerance = spin(
            1, 100, round(TOLERANCE), "how far a colour may be from the sampled one, in ΔE (CIE 1976)"
        )
        self.tolerance.setPrefix("within ")
        self.tolerance.setSuffix(" ΔE")
        self.alike = spin(
            0,
            99,
            round(100 * LIKENESS),
            "how like the patch a place must be at least: the cosine between their features, in percent",
        )
        self.alike.setPrefix("at least ")
        self.alike.setSuffix(" %")
        self.sampled = label("", soft=True)
        self.place = Choice(PLACES, "where the region is in other images")
        self.share = spin(1, 60, 8, "the hottest part, in percent of the area")
        self.share.setSuffix(" %")
        self.clear_button = button("clear", self._clear, kind="quiet")
        self.usual = [(one, one.value()) for one in (self.share, self.tolerance, self.alike)]
        self.region.activated.connect(lambda _: self._choose_region())
        self.place.activated.connect(lambda _: self.changed.emit())
        for number in (self.share, self.tolerance, self.alike):
            number.valueChanged.connect(lambda _: self.changed.emit())
        self.lines = QVBoxLayout(self)
        self.lines.setContentsMargins(0, 0, 0, 0)
        self.lines.setSpacing(6)
        choices = (self.region, self.share, self.place, self.tolerance, self.alike, self.sampled, self.clear_button)
        self.lines.addLayout(row(aside_label(aside), *choices, None, spacing=4))
        self._choose_region()

    def begin_anew(self) -> None:
        """Another study: what is usual."""
        for box in (self.region, self.place, *self.boxes):
            box.setCurrentIndex(0)
        for number, usual in self.usual:
            number.setValue(usual)
        self.rule = None
        self._choose_region()

    @property
    def hottest(self) -> bool:
        """Whether the hottest part is hidden, rather than what is drawn."""
        return self.region.currentText() == HOTTEST

    @property
    def kind(self) -> Kind | None:
        """The kind of shape that is drawn; None where none is."""
        return None if self.hottest else "ellipse" if self.samples else KINDS[self.region.currentIndex() - 1]

    @property
    def samples(self) -> bool:
        """Whether what is drawn is a patch to sample, rather than what is hidden."""
        return self.region.currentText() in (COLOUR, ALIKE)

    @property
    def drawn(self) -> bool:
        """Whether what is drawn is what is hidden."""
        return not self.hottest and not self.samples

    def _choose_region(self) -> None:
        self.rule = None
        self._show_sample()
        self.share.setVisible(self.hottest)
        self.place.setVisible(self.drawn)
        self.tolerance.setVisible(self.region.currentText() == COLOUR)
        self.alike.setVisible(self.region.currentText() == ALIKE)
        self.sampled.setVisible(self.samples)
        self.clear_button.setVisible(not self.hottest)
        self.changed.emit()

    def _clear(self) -> None:
        if self.samples:
            self.forget_sample()
        else:
            self.take_drawing(())

    def forget_sample(self) -> None:
        """No patch is marked any more: another run is shown, or another patch is wanted."""
        self._sampling.cancel()
        self.rule = None
        self._show_sample()
        self.changed.emit()

    def _show_sample(self) -> None:
        if self.rule is None:
            self.sampled.setText("mark a patch on the image")
        elif isinstance(self.rule, ColourRule):
            self.sampled.setText("colour L {:.0f}, a {:.0f}, b {:.0f}".format(*self.rule.lab).replace("-", "−"))
        else:
            self.sampled.setText("a patch is marked")

    def _sample(self, shapes: tuple[Shape, ...]) -> None:
        """Take the colour or the features of the marked patch of the image looked at."""
        image, record = self.workspace.shown.focus.current, self.workspace.shown.snapshot.record
        if image is None or not shapes:
            return
        colour, makers, setup = self.region.currentText() == COLOUR, self.workspace.makers, self.explainer.setup
        layer = setup.layers[0] if setup.layers and setup.method not in WITHOUT_LAYER else None

        def sample(work: Task) -> ColourRule | PatchRule:
            with makers.acquire(record) as maker:
                return heat_jobs.sampled(record, maker, image, shapes, None if colour else (layer,))

        self.sampled.setText("…")
        self._sampling.start(sample, done=self._take_sample, failed=self._no_sample)

    def _take_sample(self, rule: ColourRule | PatchRule) -> None:
        self.rule = rule
        self._show_sample()
        self.changed.emit()

    def _no_sample(self, error: InputError) -> None:
        self.forget_sample()
        self.workspace.notices.fail(error)

    @property
    def position(self) -> int | None:
        """The position that drawn shapes are kept under: of the image looked at, or of all."""
        return EVERY if self.place.currentIndex() == 0 else self.workspace.shown.focus.current

    def shapes(self) -> tuple[Shape, ...]:
        """The shapes drawn for the image looked at."""
        position = self.position
        return self.explainer.regions.get(position, ()) if position is not None and self.drawn else ()

    def take_drawing(self, shapes: tuple[Shape, ...]) -> None:
        """Keep what was drawn, or sample it."""
        if self.samples:
            self._sample(tuple(shapes[-1:]))
            return
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
        if self.samples:
            if isinstance(self.rule, ColourRule):
                return RegionPlan("colour", colour=replace(self.rule, tolerance=float(self.tolerance.value())))
            if self.rule is not None:
                return RegionPlan("likeness", patch=replace(self.rule, likeness=self.alike.value() / 100))
            return None
        if self.place.currentIndex() == 0:
            shapes = self.explainer.regions.get(EVERY, ())
            return RegionPlan("fixed", shapes) if shapes else None
        each = {i: shapes for i, shapes in self.explainer.regions.items() if i != EVERY}
        return RegionPlan("each", each=each) if each else None

    @property
    def of_each(self) -> bool:
        """Whether each image has a region of its own."""
        return self.drawn and self.place.currentIndex() == 1

    def list_classes(self) -> None:
        """Offer the classes of the run shown; the one chosen stays where there is one of its name."""
        kept = self.target.currentText()
        self.target.clear()
        self.target.addItems([PREDICTED, *self.workspace.shown.classes])
        self.target.setCurrentIndex(max(0, self.target.findText(kept)))

    @property
    def counted(self) -> str:
        """Whose probability or answers are watched, as plans have it."""
        return "predicted" if self.target.currentIndex() <= 0 else self.target.currentText()

    def follow(self, *boxes: QComboBox) -> None:
        """Tell of what is chosen in further boxes, and begin them anew with the rest."""
        self.boxes = (*self.boxes, *boxes)
        for box in boxes:
            box.activated.connect(lambda _: self.changed.emit())
