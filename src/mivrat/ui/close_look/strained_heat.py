"""The image looked at as a strain test distorts it: the answer there, and the evidence for both answers."""

from __future__ import annotations

from mivrat.core.base.numbers import percent
from mivrat.core.pictures.distorting.kinds import level_in_words
from mivrat.ui.close_look.heat_below import Drawing, HeatBelow
from mivrat.workspace.executors import Task
from mivrat.workspace.image_view import HeatmapSet, ImageView, find_evidence, look_at_strained


class StrainedHeat(HeatBelow):
    """What the model says of the image at the level whose images are selected, and its maps for the answer before and after."""

    def show_words(self, image: int) -> None:
        """Say what is predicted there; hidden while no level is looked at, or it is not of this image."""
        self._forget()
        shown = self.workspace.shown
        strained = shown.strained
        there = strained is not None and strained.predicted.get(image, -1) >= 0
        self.setVisible(there)
        if strained is None or not there:
            return
        classes, after, before = shown.classes, strained.predicted[image], int(shown.judged.predicted[image])
        self.name.setText(f"As strained: {level_in_words(strained.strain)}")
        told = f"{classes[after]} at {percent(strained.confidence[image])}; before, {classes[before]} at {percent(shown.judged.confidence[image])}"
        labelled = int(shown.judged.labels[image])
        if labelled >= 0:
            told += (
                ". Labelled as it is now"
                if labelled == after
                else ". Labelled as before"
                if labelled == before
                else f". Labelled {classes[labelled]}"
            )
        self.says.setText(f"{told}.")
        self.layer.setText("")
        self._wait("…")

    def ask(self, image: int, evidence: HeatmapSet, drawing: Drawing) -> None:
        """Work out the evidence for the answer before, and for the one there, by the same method at the same layer."""
        shown, makers = self.workspace.shown, self.workspace.makers
        strained, record = shown.strained, shown.record
        if strained is None or strained.predicted.get(image, -1) < 0:
            return
        strain, before = strained.strain, int(shown.judged.predicted[image])
        classes = tuple(dict.fromkeys((before, strained.predicted[image])))
        layer = evidence.layer.tensor if evidence.layer is not None else None

        def find(task: Task) -> tuple[ImageView, HeatmapSet]:
            look = look_at_strained(record, image, strain)
            return look, find_evidence(record, look, makers, layer, classes, evidence.method, evidence.rather)

        self._finding.start(find, done=lambda found: self._take(found, drawing), failed=self._none)
