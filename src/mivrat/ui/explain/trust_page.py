"""Trust in the maps: deletion and insertion, the weight-shuffle check, agreement of methods, and what that supports."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import DASH, decimal, percent
from mivrat.core.checks.result import in_words
from mivrat.core.gradients.layers import short_name
from mivrat.core.heatmaps.faithfulness import ANSWERS, DRAWS
from mivrat.core.heatmaps.reliance import Reliance
from mivrat.core.heatmaps.shuffled import ALIKE, DEPTHS
from mivrat.core.heatmaps.shuffled import DRAWS as SHUFFLES
from mivrat.ui import words
from mivrat.ui.explain.curves import CurveDiagram
from mivrat.ui.explain.setup_row import SetupRow
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import Scrolled, button, label, row
from mivrat.workspace.explaining import Explainer

# So many images of a selection are examined, drawn at random.
SOME = 12
SEED = 0


class TrustPage(Page, QWidget):
    """Asks for the examination and shows it as it comes."""

    title, place_id = "Trust", "trust"
    help = "Whether the heatmaps can be believed: deletion and insertion, shuffled weights, agreement of methods."

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.setup = SetupRow(explainer)
        self.one = button("Examine this image's map", self.examine_one, kind="primary")
        self.some = button(f"Examine {SOME} of the images shown", self.examine_some)
        self.note = label(soft=True, wrap=True)
        self.verdict = label("", "verdict", wrap=True)
        self.about = label(soft=True, wrap=True)
        self.deletion, self.insertion = CurveDiagram("deletion"), CurveDiagram("insertion")
        self.legend = label(
            "Line: the maps. Grey: the range of random orders of places, drawn as maps of the same grid.",
            soft=True,
            wrap=True,
        )
        self.areas = FigureTable(
            ("area under the curve", "map", "random", "better than random in"), (64, 74, 200), "areas", (1, 2)
        )
        self.shuffled = FigureTable(
            ("weights shuffled in", "rank correlation", ""), (130, 250), "weight-shuffle check", (1,)
        )
        self.agreement = FigureTable(
            ("methods", "rank correlation", "same hottest tenth"), (130, 150), "agreement of methods", (1, 2)
        )
        for table, lines in ((self.areas, 2), (self.shuffled, 3), (self.agreement, 6)):
            table.setFixedHeight(38 + 30 * lines)
        self.titles = [
            label(text, "heading") for text in ("Deletion and insertion", "Weights shuffled", "Agreement of methods")
        ]
        diagrams = row(self.deletion, self.insertion, spacing=10)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 4, 10, 12)
        inside.setSpacing(8)
        inside.addWidget(self.verdict)
        inside.addWidget(self.about)
        inside.addWidget(self.titles[0])
        inside.addLayout(diagrams)
        inside.addWidget(self.legend)
        for part in (self.areas, self.titles[1], self.shuffled, self.titles[2], self.agreement):
            inside.addWidget(part)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.setup)
        layout.addLayout(row(self.one, self.some, None))
        layout.addWidget(self.note)
        layout.addWidget(Scrolled(body), 1)
        self._late = Late(self, self.refresh, explainer.reliance_changed, explainer.layers_changed)
        for signal in (self.workspace.topics.current, self.workspace.topics.selection, self.workspace.topics.busy):
            signal.connect(self._show_buttons)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self._show_buttons()
        self.refresh()

    def _usable(self) -> list[int]:
        snapshot = self.workspace.shown.snapshot
        shown = self.workspace.shown.images
        found: list[int] = shown[self.explainer.setup.possible(snapshot.judged)[shown]].tolist()
        return found

    def _show_buttons(self) -> None:
        if not self.isVisible():
            return
        free, usable, image = (
            not self.workspace.busy and self.explainer.can_explain,
            self._usable(),
            self.workspace.shown.focus.current,
        )
        self.one.setEnabled(
            free
            and image is not None
            and self.explainer.setup.target(self.workspace.shown.snapshot.judged, image) is not None
        )
        number = min(SOME, len(usable))
        self.some.setEnabled(free and number > 1)
        self.some.setText(f"Examine {words.count(number)} of the {words.images(len(usable))} shown")
        if not self.explainer.can_explain:
            self.note.setText(self.workspace.shown.snapshot.record.kind.lacks("Heatmaps need"))
        elif problem := self.explainer.without_layers(self.explainer.setup.method):
            self.note.setText(problem)
        elif self.explainer.asks:
            each = self.explainer.answers_taken(self.explainer.setup.method) + ANSWERS
            self.note.setText(
                f"Each image takes {self.explainer.cost(each)}. Without weights to shuffle and gradients to compare with, only "
                "deletion and insertion can be examined."
            )
        elif self.explainer.setup.method == "masks":
            self.note.setText(
                "Random masks take a thousand answers for each map: examine one image, or use another method."
            )
        else:
            self.note.setText("")
        self.note.setVisible(bool(self.note.text()))

    def examine_one(self) -> None:
        if self.workspace.shown.focus.current is not None:
            self.explainer.examine([self.workspace.shown.focus.current])

    def examine_some(self) -> None:
        """Examine some of the images shown, the same ones each time."""
        usable = self._usable()
        picked = np.random.default_rng(SEED).permutation(len(usable))[:SOME]
        self.explainer.examine([usable[i] for i in np.sort(picked)])

    def refresh(self) -> None:
        """Show what has been found so far."""
        if not self.isVisible():
            return
        found = self.explainer.reliance
        parts: list[QWidget] = [
            self.about,
            self.deletion,
            self.insertion,
            self.legend,
            self.areas,
            self.shuffled,
            self.agreement,
            *self.titles,
        ]
        for part in parts:
            part.setVisible(found is not None)
        if found is None:
            self.verdict.setText(
                "A heatmap that looks right proves nothing. Examine it: does the answer depend on what is hot, and does the map change with the model?"
            )
            return
        sentences = found.sentences()
        self.verdict.setText(" ".join(sentences) if sentences else "Examining …")
        method, whose = words.METHODS[found.setup.method], found.setup.in_words(self.workspace.shown.classes)
        name = (
            self.workspace.shown.name_of(found.images[0]) if len(found.images) == 1 else words.images(len(found.images))
        )
        from_layer = ", ".join(short_name(one) for one in found.setup.layers) or "default layer"
        state = "" if found.finished else "; not finished"
        self.about.setText(f"{name}; {method}, {from_layer}, for {whose}; seed {SEED}{state}.")
        self.deletion.show_curves(found.faithful)
        self.insertion.show_curves(found.faithful)
        self._show_areas(found)
        lines = []
        for depth in DEPTHS:
            alike = found.alike(depth)
            meaning = "" if alike is None else "the maps change" if alike < ALIKE else "the maps stay alike"
            lines.append((depth, decimal(alike, 2), meaning))
        tip = f"Median size of Spearman's rank correlation between the maps before and after, over {SHUFFLES} draws and the images; alike from {ALIKE:g} on."
        self.shuffled.show_lines(lines, [tip] * 3)
        self.agreement.show_lines(
            [
                (
                    f"{words.METHODS[one.one]}, {words.METHODS[one.other]}",
                    _two(one.correlation),
                    percent(None if np.isnan(one.overlap) else one.overlap),
                )
                for one in found.agreements
            ],
            ["Medians over the images. Hottest tenth: the places both have, of those either has."]
            * len(found.agreements),
        )

    def _show_areas(self, found: Reliance) -> None:
        lines = []
        for which, wish in (("deletion", "less is better"), ("insertion", "more is better")):
            if not found.faithful:
                continue
            mine = np.mean([getattr(one, f"{which}_area") for one in found.faithful])
            random = np.mean([getattr(one, f"random_{which}_areas").mean() for one in found.faithful])
            if len(found.faithful) == 1:
                told = f"{found.place_among_random(which)} of {DRAWS} random orders"
            else:
                better, total, p = found.better_than_random(which)
                told = f"{better} of {total} images, p {in_words(p)}"
            lines.append((f"{which} ({wish})", f"{mine:.3f}", f"{random:.3f}", told))
        self.areas.show_lines(
            lines, ["Areas under the curves above, mean over the images. Several images: exact sign test."] * len(lines)
        )

    def as_table(self) -> list[list[str]]:
        return [*self.areas.as_lines(), *self.shuffled.as_lines(), *self.agreement.as_lines()]


def _two(value: float) -> str:
    return DASH if np.isnan(value) else f"{value:.2f}"
