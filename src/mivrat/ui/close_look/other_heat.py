"""The evidence that the run held sees in the same image, for the same targets, below that of the run shown."""

from __future__ import annotations

from mivrat.core.base.numbers import percent
from mivrat.core.gradients.layers import Layer, corresponding
from mivrat.ui import words
from mivrat.ui.close_look.heat_below import Drawing, HeatBelow
from mivrat.ui.parts.widgets import restyle
from mivrat.ui.theme import theme
from mivrat.workspace.executors import Task
from mivrat.workspace.image_view import HeatmapSet, ImageView, find_evidence, look_at


class OtherHeat(HeatBelow):
    """What the run held says of the image, and its maps for two classes side by side."""

    def show_words(self, image: int) -> None:
        """Say what the run held answers to an image; hidden while none is held on these images."""
        self._forget()
        held, other = self.workspace.shown.held, self.workspace.shown.other
        self.setVisible(held is not None and other is not None)
        if held is None or other is None:
            return
        restyle(self.name, f"color: {theme.tokens.second}; font-weight: 600")
        self.name.setText(words.clipped(held.names.b, 40))
        self.layer.setText("")
        classes, predicted = held.a.record.classes, int(other.predicted[image])
        labelled = int(other.judged.labels[image])
        if predicted < 0:
            self.says.setText("no answer" if other.at[image] >= 0 else "this image is not among its images")
        else:
            told = f"{classes[predicted] if predicted < len(classes) else 'another class'}"
            sure = float(other.confidence[image])
            told += f" at {percent(sure)}" if sure == sure else ""
            if labelled >= 0:
                told += (
                    ", as labelled"
                    if predicted == labelled
                    else f"; the label at {percent(float(other.own[image]))}"
                    if other.own[image] == other.own[image]
                    else ", wrong"
                )
            self.says.setText(told)
        self._wait("…" if predicted >= 0 else "no answer to explain")

    def ask(self, image: int, evidence: HeatmapSet, drawing: Drawing) -> None:
        """Work out the same evidence under the run held: by the same method, at the layer that corresponds."""
        held, other = self.workspace.shown.held, self.workspace.shown.other
        if held is None or other is None or other.at[image] < 0 or other.predicted[image] < 0:
            return
        record, at, makers = held.b.record, int(other.at[image]), self.workspace.makers
        if not record.kind.can.gradients:
            for panel in self.panels:
                panel.show_image(None, record.kind.lacks("a heatmap needs").rstrip("."))
            return

        def find(task: Task) -> tuple[ImageView, HeatmapSet]:
            look = look_at(record, at)
            name: str | None = None
            if evidence.layer is not None:
                with makers.acquire(record) as maker:
                    name = _name(corresponding(evidence.layer, evidence.layers, maker.layers))
            return look, find_evidence(record, look, makers, name, evidence.classes, evidence.method, evidence.rather)

        self._finding.start(find, done=lambda found: self._take(found, drawing), failed=self._none)


def _name(layer: Layer | None) -> str | None:
    return layer.tensor if layer is not None else None
