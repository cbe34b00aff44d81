"""The line that says which maps a page is about: how they are made, from which layer, and whose evidence they show."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from mivrat.core.heatmaps.methods import WITHOUT_CHOICE
from mivrat.core.heatmaps.setup import MapSetup, Whose
from mivrat.ui import words
from mivrat.ui.parts.layers import offer_layers
from mivrat.ui.parts.widgets import Choice, label, row
from mivrat.workspace.explaining import Explainer

WHOSE: dict[str, tuple[Whose, Whose | None]] = {
    "the predicted class": ("predicted", None),
    "the labelled class": ("labelled", None),
    "the runner-up": ("runner-up", None),
    "predicted rather than labelled or runner-up": ("predicted", "other"),
    "labelled rather than predicted": ("labelled", "predicted"),
}
DEFAULT_LAYER = "default layer"
TOGETHER = "one of each stage, together"


class SetupRow(QWidget):
    """Follows the explainer's setup and changes it; two pages show one each."""

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.way = Choice(list(words.METHODS.values()), "how the maps are made")
        self.layer, self.whose = Choice(name="the layer the maps are taken from"), Choice(name="whose evidence")
        for box, letters in ((self.layer, 18), (self.whose, 22)):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(letters)
        for box in (self.way, self.layer, self.whose):
            box.activated.connect(lambda _: self._choose())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(row(label("evidence for", soft=True), self.whose, None, spacing=4))
        layout.addLayout(row(self.way, label("from", soft=True), self.layer, None, spacing=4))
        explainer.setup_changed.connect(self._follow)
        explainer.layers_changed.connect(self._list)
        self.workspace.topics.run.connect(self._list)

    def _list(self) -> None:
        """Offer the classes and layers of the run shown."""
        self.whose.clear()
        self.whose.addItems(list(WHOSE))
        for k, name in enumerate(self.workspace.shown.classes):
            self.whose.addItem(name, k)
        self.layer.clear()
        self.layer.addItem(DEFAULT_LAYER, ())
        stages = self.explainer.stages()
        if len(stages) > 1:
            self.layer.addItem(TOGETHER, tuple(one.tensor for one in stages))
        offer_layers(self.layer, self.explainer.usable()[::-1], lambda one: (one.tensor,))
        self._follow()

    def _follow(self) -> None:
        setup = self.explainer.setup
        self.way.setCurrentIndex(list(words.METHODS).index(setup.method))
        wanted = [i for i in range(self.layer.count()) if tuple(self.layer.itemData(i) or ()) == setup.layers]
        self.layer.setCurrentIndex(wanted[0] if wanted else 0)
        self.layer.setEnabled(setup.method not in WITHOUT_CHOICE)
        pairs = list(WHOSE.values())
        if (setup.of, setup.against) in pairs:
            self.whose.setCurrentIndex(pairs.index((setup.of, setup.against)))
        elif isinstance(setup.of, int):
            self.whose.setCurrentIndex(len(WHOSE) + setup.of)

    def _choose(self) -> None:
        method, at = list(words.METHODS)[self.way.currentIndex()], self.whose.currentIndex()
        of, against = list(WHOSE.values())[at] if at < len(WHOSE) else (at - len(WHOSE), None)
        layers = tuple(self.layer.currentData() or ())
        if method in WITHOUT_CHOICE:
            layers = ()
        self.explainer.set_setup(MapSetup(method, layers, of, against))
