"""The close look itself: asks workers for one image's pictures and evidence and shows them as they come."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QComboBox, QGridLayout, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.gradients.layers import Layer
from mivrat.core.heatmaps.methods import BY_GRADIENT, RECORDS, SIGNED, Method
from mivrat.core.heatmaps.overlay import overlay
from mivrat.core.likeness.search import nearest
from mivrat.core.selecting.measures import property_lines
from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.close_look.heat_below import Drawing
from mivrat.ui.close_look.other_heat import OtherHeat
from mivrat.ui.close_look.panels import RankedClass, Ranking, ScaleBar
from mivrat.ui.close_look.review_panel import ReviewPanel
from mivrat.ui.close_look.strained_heat import StrainedHeat
from mivrat.ui.parts.layers import offer_layers
from mivrat.ui.parts.picture_panel import PicturePanel, Zoom
from mivrat.ui.parts.pictures import Thumbnails, to_image
from mivrat.ui.parts.thumb_strip import ThumbStrip
from mivrat.ui.parts.widgets import Choice, Elided, Scrolled, button, label, row, slider, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.image_view import HeatmapSet, ImageView, find_evidence, look_at
from mivrat.workspace.reviewing import Reviewer
from mivrat.workspace.run_view import StrainedAnswers
from mivrat.workspace.workspace import Workspace

SCALES = {"heat scale": "heat", "grey scale": "grey"}
# Those that take a moment at most; the others stand under Explain, where they can be stopped.
WAYS: dict[str, Method] = {one.name: one.key for one in RECORDS if one.in_close_look}
MOST_RANKS = 5
MOST_SIMILAR = 8
# The second class is said to be close behind where it is within this of the first.
CLOSE = 0.1


class CloseLook(QWidget):
    """One image large, what the network receives, and the evidence for two classes side by side."""

    closed = Signal()
    enlarged = Signal()
    features_wanted = Signal()

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails, reviewer: Reviewer) -> None:
        super().__init__()
        self.setObjectName("closeLook")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.workspace, self._thumbnails = workspace, thumbnails
        self._workers, self._drawers = self.workspace.group(1), self.workspace.group(1)
        self._looking = LatestOnly(self._drawers)
        self._finding = LatestOnly(self._workers)
        self._drawing = LatestOnly(self._drawers)
        self._searching = LatestOnly(self._drawers)
        self.zoom: Zoom = Zoom()
        self.review = ReviewPanel(workspace, reviewer)
        self.look: ImageView | None = None
        self.evidence: HeatmapSet | None = None
        self.heat_on = True
        self.rather = False
        self.layer_name: str | None = None
        self._columns = ""
        self._build()
        workspace.topics.current.connect(self._follow)
        workspace.topics.run.connect(self._forget)
        workspace.topics.left.connect(self._begin_anew)
        workspace.topics.held.connect(self._follow_held)
        workspace.topics.selection.connect(self._follow_strained)
        self._strained: StrainedAnswers | None = None
        thumbnails.ready.connect(self._show_references)
        workspace.topics.features.connect(self._search)
        self._redraw_soon = self.workspace.soon(15, self._redraw)

    def _build(self) -> None:
        self.path, self.place = Elided(), label(soft=True)
        self.sentence = label("", "heading", wrap=True)
        self.facts = label(soft=True, wrap=True)
        self.photo, self.received = PicturePanel("original"), PicturePanel("network input")
        self.heat_predicted, self.heat_other = PicturePanel("evidence for"), PicturePanel("evidence for")
        self.received.crisp = True
        for panel in (self.photo, self.heat_predicted, self.heat_other):
            panel.share(self.zoom)
        self.layer = Choice(name="layer")
        self._offered: Sequence[Layer] = ()
        self.scale = Choice(list(SCALES), "colours of the heat")
        self.peaks = Choice(["own peak each", "common peak"])
        tip(
            self.layer,
            "The layer the heatmap is taken from (L: one nearer to the image, Shift+L: one nearer to the scores)",
        )
        self.layer.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.layer.setMinimumContentsLength(22)
        tip(self.peaks, "Divide each map by its own peak, or both by the higher one")
        self.opacity = slider("opacity of the heat", 10, 100, 70)
        self.opacity.setMinimumWidth(60)
        self.opacity.setFixedWidth(76)
        self.legend = ScaleBar()
        self.way = Choice(list(WAYS), "how the heat is made")
        tip(
            self.way,
            "How the heatmap is computed. The first three use gradients at the layer. Activation only weights the last layer by the "
            "weights behind it. Occlusion hides a window at every place and scores again, which takes longest",
        )
        self.way.activated.connect(lambda _: self._choose_way())
        self.layer.activated.connect(self._choose_layer)
        self.scale.currentTextChanged.connect(self._change_drawing)
        self.peaks.currentTextChanged.connect(self._change_drawing)
        self.opacity.valueChanged.connect(self._change_drawing)
        self.ranking = Ranking()
        self.references = [PicturePanel(), PicturePanel()]

        back = button("‹ light table", self.closed.emit, kind="quiet")
        tip(back, tooltip("light table"))
        self.previous = button("‹ mistake", lambda: self.workspace.shown.step_mistake(-1), kind="quiet")
        tip(self.previous, tooltip("previous mistake"))
        self.next = button("mistake ›", lambda: self.workspace.shown.step_mistake(1), kind="quiet")
        tip(self.next, tooltip("next mistake"))
        evidence = row(self.photo, self.heat_predicted, self.heat_other, spacing=12)
        self.reference_box = QWidget()
        references = QVBoxLayout(self.reference_box)
        references.setContentsMargins(0, 10, 0, 0)
        references.setSpacing(4)
        references.addWidget(label("reference pictures", soft=True))
        for panel in self.references:
            panel.setFixedSize(84, 106)
        references.addLayout(row(*self.references, None, spacing=12))
        self.similar = ThumbStrip(self.workspace, self._thumbnails, 64, 2)
        self.similar.chosen.connect(lambda image: self.workspace.shown.focus.look_at(image))
        self.find_similar = button("find similar images", self.features_wanted.emit, kind="small")
        tip(self.find_similar, "Work out the model's last features of all images, once; they are kept")
        self.similar_title = label("most similar images of the set: called, and labelled", soft=True)
        beside = QVBoxLayout()
        beside.setSpacing(4)
        for widget in (self.ranking, self.reference_box, self.facts):
            beside.addWidget(widget)
        beside.addStretch(1)
        lower = QGridLayout()
        lower.setHorizontalSpacing(12)
        lower.addWidget(self.received, 0, 0)
        lower.addLayout(beside, 0, 1)
        lower.setColumnStretch(0, 1)
        lower.setColumnStretch(1, 2)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(14, 4, 14, 12)
        inside.setSpacing(10)
        inside.addWidget(self.sentence)
        inside.addWidget(self.review)
        inside.addLayout(evidence)
        self.other_heat = OtherHeat(self.workspace, self.zoom)
        inside.addWidget(self.other_heat)
        self.strained_heat = StrainedHeat(self.workspace, self.zoom)
        inside.addWidget(self.strained_heat)
        self._below = (self.other_heat, self.strained_heat)
        inside.addLayout(flowing(label("layer", soft=True), self.layer, self.way, self.peaks))
        inside.addLayout(flowing(label("opacity", soft=True), self.opacity, self.scale, self.legend))
        inside.addSpacing(4)
        inside.addLayout(lower)
        inside.addLayout(flowing(self.similar_title, self.find_similar))
        inside.addWidget(self.similar)
        inside.addStretch(1)
        self.scrolled = scroll = Scrolled(body)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(4)
        self.enlarge = button("enlarge", self.enlarged.emit, kind="quiet")
        tip(self.enlarge, tooltip("enlarge"))
        top = row(6, back, self.path, self.place, self.previous, self.next, self.enlarge, 6, spacing=4)
        top.setStretchFactor(self.path, 1)
        layout.addLayout(top)
        layout.addWidget(scroll, 1)

    # --- following the workspace ---

    def _forget(self) -> None:
        """Another run: nothing that was worked out for the one before is shown again."""
        for work in (self._looking, self._finding, self._drawing, self._searching):
            work.cancel()
        self.look = self.evidence = None
        self.layer_name = None

    def _begin_anew(self) -> None:
        """The study was left: the next one is looked at in the usual way."""
        self._forget()
        self.way.setCurrentIndex(0)
        self.rather = False

    def _follow_held(self) -> None:
        """Another run is held, or none any more: the same image anew, with what both see in it."""
        self.evidence = None
        self._follow()

    def _follow_strained(self) -> None:
        """Another level of a strain test is looked at, or none any more: the same image anew, as it is there."""
        strained = self.workspace.shown.strained
        if strained is not self._strained:
            self._strained = strained
            self._follow_held()

    def _follow(self) -> None:
        image = self.workspace.shown.focus.current
        if not self.isVisible():
            return
        if image is None:
            self.closed.emit()
            return
        self.show_image(image)

    def open(self) -> None:
        """Show the workspace's current image."""
        if self.workspace.shown.focus.current is not None:
            self.scrolled.verticalScrollBar().setValue(0)
            self.show_image(self.workspace.shown.focus.current)

    def shared_classes(self, image: int) -> tuple[int, ...]:
        """The classes evidence is shown for: predicted, and labelled where that differs, else what a run held says instead, else the
        runner-up."""
        judged = self.workspace.shown.snapshot.judged
        predicted, labelled = int(judged.predicted[image]), int(judged.labels[image])
        if predicted < 0:
            return ()
        if labelled >= 0 and labelled != predicted:
            return predicted, labelled
        other = self.workspace.shown.other
        if other is not None and 0 <= other.predicted[image] < judged.classes and other.predicted[image] != predicted:
            return predicted, int(other.predicted[image])
        return (predicted, int(judged.ranking(image)[1])) if judged.has_scores else (predicted,)

    def show_image(self, image: int) -> None:
        snapshot = self.workspace.shown.snapshot
        record, judged = snapshot.record, snapshot.judged
        path = record.image_set.items[image].path
        self.path.set_text("/".join(path.split("/")[-2:]))
        tip(self.path, path)
        self.place.setText(f"{self.workspace.shown.focus.position + 1} of {len(self.workspace.shown.images)}")
        self._show_words(image)
        if self.look is None or self.look.image != image or self.evidence is None:
            for below in self._below:
                below.show_words(image)
        if self.look is not None and self.look.image == image and self.evidence is not None:
            self._redraw()
            return
        for work in (self._looking, self._finding, self._drawing):
            work.cancel()
        self.look = self.evidence = None
        self.zoom.reset()
        for panel in (self.photo, self.received, self.heat_predicted, self.heat_other):
            panel.frame = None
            panel.show_image(None, "…")
        self._caption_heat(())
        if int(judged.predicted[image]) < 0:
            for panel in (self.heat_predicted, self.heat_other):
                panel.show_image(None, "no answer to explain")
        elif not record.kind.can.gradients:
            why = record.kind.lacks("gradients need" if record.kind.can.scores else "a heatmap needs").rstrip(".")
            more = "\n\nOcclusion and random masks: under Explain, Board" if record.kind.can.scores else ""
            for panel in (self.heat_predicted, self.heat_other):
                panel.show_image(None, f"{why}{more}")
        self._looking.start(lambda work: look_at(record, image), done=self._looked, failed=self._unreadable, priority=5)
        self._show_references()
        self._search()

    def _show_words(self, image: int) -> None:
        judged, record = self.workspace.shown.snapshot.judged, self.workspace.shown.snapshot.record
        classes, labelled, predicted = record.classes, int(judged.labels[image]), int(judged.predicted[image])
        wrong = bool(judged.wrong[image])
        if predicted < 0:
            text = record.answers.reasons.get(image, "not scored")
        else:
            text = f"{classes[predicted]} at {percent(judged.confidence[image])}"
            if wrong:
                text += f" — labelled {classes[labelled]}, ranked {judged.rank[image]} of {len(classes)}"
            else:
                text += ", as labelled" if labelled >= 0 else ", no label to judge it by"
            if judged.has_scores and len(classes) > 1:
                second = int(judged.ranking(image)[1])
                runner_up = float(judged.probabilities([image])[0, second])
                if judged.confidence[image] - runner_up < CLOSE:
                    text += f"; nearly a tie with {classes[second]} at {percent(runner_up)}"
        self.sentence.setText(text)
        lines: list[RankedClass] = []
        if predicted >= 0:
            order, p = judged.ranking(image), judged.probabilities([image])[0]
            if not judged.has_scores:
                p[predicted] = judged.confidence[image]
            elif record.temperature is not None:
                p = judged.at_temperature(image, record.temperature)
            picked = [int(k) for k in order[:MOST_RANKS]]
            if labelled >= 0 and labelled not in picked and judged.has_scores:
                picked.append(labelled)
            ranks = {int(k): i + 1 for i, k in enumerate(order)}
            lines = [RankedClass(ranks[k], classes[k], float(p[k]), k == predicted, k == labelled) for k in picked]
        self.ranking.show_lines(lines)
        columns = record.image_set.items[image].columns
        shown = [f"{key}: {value}".replace(" ", "\u00a0") for key, value in columns.items() if value]
        if record.temperature is not None:
            shown.append(f"scores\u00a0at\u00a0temperature\u00a0{record.temperature:.2f}")
        self._columns = "    ".join(shown)
        self.facts.setText(self._columns)
        tip(self.facts, "\n".join(property_lines(self.workspace.shown.measures, image)))

    def _looked(self, look: ImageView) -> None:
        self.look = look
        self.facts.setText("    ".join(part for part in (self._columns, look.file) if part))
        height, width = look.place.picture
        self.photo.show_image(to_image(look.photo))
        self.photo.set_caption(
            "original",
            "",
            f"{width} × {height} px shown" if max(height, width) == 800 else f"{width} × {height} px",
        )
        self.received.show_image(to_image(look.received))
        self.received.set_caption(
            "as the network receives it",
            "",
            f"{look.received.shape[1]} × {look.received.shape[0]} px, before scaling values",
        )
        top, left, bottom, right = look.place.seen()
        if (top, left, bottom, right) != (0.0, 0.0, float(height), float(width)):
            self.photo.frame = (top / height, left / width, bottom / height, right / width)
        self._ask_evidence()

    def _unreadable(self, error: InputError) -> None:
        self.photo.show_image(None, error.what)
        self.received.show_image(None, "nothing to prepare")

    # --- evidence ---

    def _ask_evidence(self) -> None:
        snapshot, look = self.workspace.shown.snapshot, self.look
        if look is None or not snapshot.record.kind.can.gradients:
            return
        classes = self.shared_classes(look.image)
        if not classes:
            return
        self._finding.cancel()
        record, layer, method, rather = snapshot.record, self.layer_name, WAYS[self.way.currentText()], self.rather
        for panel in (self.heat_predicted, self.heat_other):
            if panel.image is None:
                panel.show_image(None, "computing the heatmap …")
        self._finding.start(
            lambda work: find_evidence(record, look, self.workspace.makers, layer, classes, method, rather),
            done=self._found,
            failed=self._no_evidence,
        )

    def _no_evidence(self, error: InputError) -> None:
        for panel in (self.heat_predicted, self.heat_other):
            panel.show_image(None, f"{error.what}. {error.hint}")

    def _found(self, evidence: HeatmapSet) -> None:
        if self.look is None or evidence.image != self.look.image:
            return
        self.evidence = evidence
        if self._offered != evidence.layers:
            self._offered = evidence.layers
            self.layer.clear()
            offer_layers(self.layer, evidence.layers)
        self.layer.setCurrentIndex(self.layer.findData(evidence.layer.tensor) if evidence.layer is not None else -1)
        self.layer.setEnabled(evidence.method in BY_GRADIENT)
        self.scale.setVisible(evidence.method not in SIGNED)
        self.legend.set_scale(self._scale())
        self._redraw()
        for below in self._below:
            below.ask(evidence.image, evidence, self._drawn_as())

    def _drawn_as(self) -> Drawing:
        """How heat is laid over photos now."""
        opacity = self.opacity.value() / 100 if self.heat_on else 0.0
        return Drawing(opacity, self._scale(), bool(self.peaks.currentIndex()))

    def _scale(self) -> str:
        """The colours drawn: those chosen, or for maps with a sign the difference scale."""
        signed = self.evidence is not None and self.evidence.method in SIGNED
        return "difference" if signed else SCALES[self.scale.currentText()]

    def _choose_way(self) -> None:
        for panel in (self.heat_predicted, self.heat_other):
            panel.show_image(None, "computing the heatmap …")
        self.evidence = None
        self._ask_evidence()

    def _choose_layer(self, index: int) -> None:
        self.layer_name = self.layer.itemData(index)
        self._ask_evidence()

    def step_layer(self, by: int) -> None:
        """Go to the next of the layers listed (1) or the one before it (-1)."""
        index = self.layer.currentIndex() + by
        while 0 <= index < self.layer.count() and self.layer.itemData(index) is None:  # a heading
            index += by
        if 0 <= index < self.layer.count():
            self.layer.setCurrentIndex(index)
            self._choose_layer(index)

    def toggle_rather(self) -> None:
        """Show the evidence for each class by itself, or rather than the other."""
        self.rather = not self.rather
        self._ask_evidence()

    def toggle_heat(self) -> None:
        """Show the heat, or the bare photo in its place."""
        self.heat_on = not self.heat_on
        self._change_drawing()

    def _change_drawing(self) -> None:
        self.legend.set_scale(self._scale())
        self._redraw_soon.start()

    def _redraw(self) -> None:
        look, evidence = self.look, self.evidence
        if look is None or evidence is None:
            return
        self._drawing.cancel()
        opacity = self.opacity.value() / 100 if self.heat_on else 0.0
        scale = self._scale()
        common = max(float(np.abs(m).max()) for m in evidence.maps) if self.peaks.currentIndex() else None
        self._drawing.start(
            lambda task: [
                to_image(overlay(look.photo, heat, look.place, opacity=opacity, scale=scale, peak=common))
                for heat in evidence.maps
            ],
            done=self._drawn,
        )
        for below in self._below:
            below.redraw(self._drawn_as())

    def _drawn(self, images: list[QImage]) -> None:
        if self.evidence is None:
            return
        for panel, image in zip((self.heat_predicted, self.heat_other), images, strict=False):
            panel.show_image(image)
        self._caption_heat(self.evidence.classes)

    def _caption_heat(self, classes: tuple[int, ...]) -> None:
        snapshot = self.workspace.shown.snapshot
        if not classes or self.evidence is None:
            for panel in (self.heat_predicted, self.heat_other):
                panel.set_caption("evidence")
            return
        labelled = int(snapshot.judged.labels[self.evidence.image])
        for panel, k, heat, part in zip(
            (self.heat_predicted, self.heat_other),
            classes,
            self.evidence.maps,
            ("predicted", "labelled" if labelled == classes[1] else self._second_part(classes[1])),
            strict=True,
        ):
            peak = float(np.abs(heat).max())
            names = snapshot.record.classes
            if self.evidence.rather:
                part = f"rather than {names[classes[1] if k == classes[0] else classes[0]]}"
            note = f"{part}; " + (f"peak {peak:.3g}" if peak > 0 else "peak 0, all zero")
            panel.set_caption("evidence for" if self.heat_on else "photo (heat off, H) for", names[k], note)

    def _second_part(self, k: int) -> str:
        """What the second class is, where it is not the labelled one."""
        held, other, evidence = self.workspace.shown.held, self.workspace.shown.other, self.evidence
        if held is not None and other is not None and evidence is not None and other.predicted[evidence.image] == k:
            return f"predicted by {words.clipped(held.names.b, 20)}"
        return "runner-up"

    # --- similar images ---

    def _search(self) -> None:
        """Look for the images most like the one looked at, where the features are known."""
        image, vectors, snapshot = (
            self.workspace.shown.focus.current,
            self.workspace.shown.results.vectors,
            self.workspace.shown.snapshot,
        )
        if not self.isVisible() or image is None:
            return
        able = snapshot.record.kind.can.features
        self.similar_title.setVisible(able)
        self.find_similar.setVisible(vectors is None and able)
        self.find_similar.setEnabled(not self.workspace.busy)
        self.similar.setVisible(vectors is not None)
        self._searching.cancel()
        if vectors is not None:
            self._searching.start(
                lambda work: nearest(vectors, [image], MOST_SIMILAR)[0].tolist(), done=self._show_similar, priority=-1
            )

    def _show_similar(self, images: list[int]) -> None:
        judged, classes = self.workspace.shown.snapshot.judged, self.workspace.shown.classes
        texts = []
        for i in images:
            called, labelled = int(judged.predicted[i]), int(judged.labels[i])
            told = "no label" if labelled < 0 else "as labelled" if called == labelled else f"≠ {classes[labelled]}"
            texts.append([classes[called] if called >= 0 else "no answer", told])
        self.similar.show_images(images, texts)

    # --- references ---

    def _show_references(self) -> None:
        if not self.workspace.is_open or not self.isVisible() or (image := self.workspace.shown.focus.current) is None:
            return
        classes = self.shared_classes(image)
        known = [k for k in classes if k in self.workspace.references]
        self.reference_box.setVisible(bool(known))
        self._thumbnails.want(self, {self.workspace.references[k] for k in known})
        for panel, k in zip(self.references, [*known, None, None], strict=False):
            panel.setVisible(k is not None)
            if k is not None:
                picture, _ = self._thumbnails.get(self.workspace.references[k])
                panel.show_image(picture, "…")
                panel.set_caption(self.workspace.shown.classes[k])

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        mine = not self._workers.busy and not self._drawers.busy and not self._redraw_soon.waiting
        return mine and all(below.settled for below in self._below)

    def stop(self) -> None:
        self._workers.stop_all()
        self._drawers.stop_all()
        for below in self._below:
            below.stop()
