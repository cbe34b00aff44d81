"""Sets: where the difference between two image sets comes from, how unlike they are to the model, and what can be estimated of one
without labels."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.numbers import percent, points, signed_span, span
from mivrat.core.comparing.estimates import MIX_RESTS_ON, Estimates, in_sentences
from mivrat.core.comparing.holding import Compared
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.compare.compared_page import ComparedPage
from mivrat.ui.compare.confusions_page import PAIRS, pair_lines
from mivrat.ui.compare.drop_diagram import DropDiagram
from mivrat.ui.compare.lines import LinesTable, TableCell, TableColumn, TableLine
from mivrat.ui.compare.verdict import Verdict
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Scrolled, button, label, row, tip
from mivrat.workspace.compare_jobs import FoundUnlike
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace

# So many pairs are listed here; the page of confusions has more.
MOST_PAIRS = 8
# An image farther off than this share of the other set's own images counts as unlike anything there.
FAR = 0.99
MIX = (
    TableColumn("class"),
    TableColumn("labelled set", 110, True),
    TableColumn("estimated", 90, True),
    TableColumn("95 % interval", 120, True),
)


class SetsPage(ComparedPage, Scrolled):
    """The drop by class and by pair, the tests of how unlike, the estimates."""

    title, place_id = "Sets", "sets"
    help = "One model on two image sets: where the difference comes from, and how unlike the sets are."

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__(wide=False)
        self.workspace, self.comparer = workspace, comparer
        self.verdict = Verdict(workspace, comparer)
        self.same_images = label(
            "Both runs use the same images, so there is only one set. Compare with the same model on another image set "
            "to see where a difference between the sets comes from.",
            soft=True,
            wrap=True,
        )
        self.split = label(wrap=True)
        self.diagram = DropDiagram(workspace)
        self.legend = label(
            "upper bar: recognised better or worse   ·   lower, grey bar: another share of the images",
            soft=True,
            wrap=True,
        )
        self.pairs_head = label("Pairs that add most", "heading")
        self.pairs = LinesTable(workspace, PAIRS, "pairs that add most to the difference; Enter selects", whole=True)
        self.unlike_head = label("Difference between the two sets as the model sees them", "heading")
        self.unlike_told = label(wrap=True)
        self.work_out = button("Compute", comparer.find_unlike, kind="small")
        tip(
            self.work_out,
            "By the features before the model's last layer: maximum mean discrepancy (Gretton 2012), images reshuffled 999 times; features are computed first where they are unknown",
        )
        self.far = button("", self._show_far, kind="small")
        self.estimates_head = label("Estimates without labels", "heading")
        self.estimates_told = label(wrap=True)
        self.mix = LinesTable(workspace, MIX, "estimated class mix", whole=True)
        self.set_parts: list[QWidget] = [self.split, self.diagram, self.legend, self.pairs_head, self.pairs]
        self.unlike_parts: list[QWidget] = [self.unlike_head, self.unlike_told]
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 8, 8, 16)
        layout.setSpacing(10)
        for widget in (self.verdict, self.same_images, *self.set_parts, *self.unlike_parts):
            layout.addWidget(widget)
        layout.addLayout(row(self.work_out, self.far, None))
        for widget in (self.estimates_head, self.estimates_told, self.mix):
            layout.addWidget(widget)
        layout.addStretch(1)
        self.setWidget(body)
        self._late = Late(self, self.refresh, workspace.topics.compared, workspace.topics.busy)

    def refresh(self) -> None:
        compared = self.workspace.shown.compared
        sets = compared.found.sets if compared is not None else None
        held = self.workspace.shown.held
        on_sets = held is not None and held.on_sets is not None
        self.same_images.setVisible(held is not None and not on_sets)
        labelled = sets is not None and bool(sets.total_a and sets.total_b)
        for widget in self.set_parts:
            widget.setVisible(labelled)
        if compared is not None and labelled:
            self._show_drop(compared)
        self._show_unlike(on_sets)

    def _show_drop(self, compared: Compared) -> None:
        sets = compared.found.sets
        assert sets is not None
        drop = sets.drop
        ends = drop.intervals or {}

        def told(name: str) -> str:
            return f" ({signed_span(*ends[name])})" if name in ends else ""

        self.split.setText(
            f"{points(drop.total)} points in all  =  {points(drop.class_mix)}{told('class_mix')} by another class mix  +  "
            f"{points(drop.within)}{told('within')} by the same classes being recognised better or worse"
        )
        tip(
            self.split,
            "Kitagawa 1955. Intervals: percentiles of a bootstrap, 2,000 draws, images (or units) of each set drawn again, 95 %.",
        )
        self.diagram.refresh()
        self.pairs.show_lines(pair_lines(compared, self.workspace.shown.held_other)[:MOST_PAIRS])

    # --- how unlike ---

    def _show_unlike(self, on_sets: bool) -> None:
        found, shown = self.comparer.unlike, self.workspace.shown
        can = (
            on_sets
            and shown.held is not None
            and shown.held.a.record.kind.can.features
            and shown.held.a.record.model_key == shown.held.b.record.model_key
        )
        for widget in self.unlike_parts:
            widget.setVisible(on_sets)
        self.work_out.setVisible(can and found is None)
        self.work_out.setEnabled(not self.workspace.busy)
        self.far.setVisible(found is not None)
        estimated = found is not None and found.estimates is not None
        self.estimates_head.setVisible(estimated)
        self.estimates_told.setVisible(estimated)
        self.mix.setVisible(estimated)
        if not on_sets:
            return
        if not can:
            why = (
                "the two are answered by different models"
                if shown.held is not None and shown.held.a.record.model_key != shown.held.b.record.model_key
                else f"{shown.record.kind.called} tells no features"
            )
            self.unlike_told.setText(f"Unknown: {why}.")
            return
        if found is None:
            self.unlike_told.setText(
                "Not computed yet. It uses the features before the model's last layer, not by labels."
            )
            return
        self._show_found(found)

    def _show_found(self, found: FoundUnlike) -> None:
        sentences = found.unlike.sentences()
        self.unlike_told.setText(
            " ".join(f"{one[0].upper()}{one[1:]}." for one in sentences) or "There are too few images to tell."
        )
        self.far.setText(
            f"{words.images(len(self._far(found)))} here unlike anything in {words.clipped(self.workspace.shown.held.names.b, 26)}"
            if self.workspace.shown.held
            else ""
        )
        self.far.setEnabled(bool(len(self._far(found))))
        tip(
            self.far,
            "Images of the set shown that lie farther from the other set than 99 % of that set's own images from the rest of it (distance to the 10th nearest, by features)",
        )
        if found.estimates is not None:
            self._show_estimates(found.estimates)

    @staticmethod
    def _far(found: FoundUnlike) -> np.ndarray:
        """The images shown that are unlike anything in the set held, the farthest first."""
        far = found.unlike.far_a
        some = np.flatnonzero(np.nan_to_num(far.percentile) > FAR)
        return some[np.argsort(-far.distance[some], kind="stable")]

    def _show_far(self) -> None:
        found, held = self.comparer.unlike, self.workspace.shown.held
        if found is not None and held is not None:
            self.workspace.shown.replace(Picked(f"unlikeness to {held.names.b}", tuple(self._far(found).tolist())))

    def _show_estimates(self, found: Estimates) -> None:
        held = self.workspace.shown.held
        assert held is not None
        without = int(((held.b.judged.labels < 0) & (held.b.judged.state == SCORED)).sum())
        told = [
            f"{words.images(without)} of {held.names.b} have an answer and no label. What follows are estimates, no figures."
        ]
        if found.accuracy is not None:
            one = found.accuracy
            told.append(f"Estimated accuracy there. {' '.join(in_sentences(one))}")
        if found.mix.shares is None:
            told.append(f"Class mix: refused. It rests on {MIX_RESTS_ON}. Here {found.mix.refused}.")
        else:
            told.append(f"Class mix: see below. It rests on {MIX_RESTS_ON}.")
        self.estimates_told.setText("\n".join(told))
        self.mix.setVisible(found.mix.shares is not None)
        if found.mix.shares is not None:
            use = held.a.judged.evaluated
            here = np.bincount(held.a.judged.labels[use], minlength=len(found.mix.shares)) / max(1, int(use.sum()))
            self.mix.show_lines(
                [
                    TableLine(
                        (
                            TableCell(name),
                            TableCell(percent(float(here[k]))),
                            TableCell(percent(float(found.mix.shares[k]))),
                            TableCell(span(*found.mix.intervals[k]), ink="soft"),
                        )
                    )
                    for k, name in enumerate(held.a.record.classes)
                ]
            )

    def as_table(self) -> list[list[str]]:
        """The drop by class, then by pair, for the clipboard."""
        compared = self.workspace.shown.compared
        if compared is None or compared.found.sets is None:
            return [["this run is compared with no other set"]]
        drop = compared.found.sets.drop
        lines = [["class", "by its share", "by recall"]]
        lines += [
            [name, f"{one.class_mix:.6f}", f"{one.within:.6f}"]
            for name, one in zip(compared.found.classes, drop.classes, strict=True)
        ]
        lines.append(["all", f"{drop.class_mix:.6f}", f"{drop.within:.6f}"])
        return [*lines, [], *self.pairs.as_lines()]
