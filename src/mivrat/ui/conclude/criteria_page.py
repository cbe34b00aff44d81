"""The criteria of the model shown, each with what it would take to tell, and what they may name."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.ui.measure.criteria import Criteria
from mivrat.ui.parts.widgets import Scrolled, label
from mivrat.workspace.concluding import Concluder

EXAMPLES = (
    ("top1 >= 0.9", "a figure of all images; top3, macro_f1, balanced_accuracy, log_loss, ece … as well"),
    ('recall["ragweed"] >= 0.8', "a figure of one class; precision, specificity, f1, support as well"),
    ("low(top1) >= 0.85", "the lower end of its interval; high(…) the upper one"),
    ('recall[family = "trees"] >= 0.9', "of a family of classes, where families were entered under Prepare"),
    ('top1[station = "north roof"] >= 0.8', "of the images of one group, by a column of the image table"),
    ("difference(top1) >= 0", "this model less the one held against it on the same images"),
)


class CriteriaPage(QWidget):
    """The claim, the criteria, and examples of what can be asked for."""

    def __init__(self, concluder: Concluder) -> None:
        super().__init__()
        self.workspace = concluder.workspace
        self.criteria = Criteria(self.workspace, concluder)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 0, 8, 12)
        inside.addWidget(self.criteria)
        inside.addWidget(label("What can be asked for", "heading"))
        inside.addWidget(
            label(
                "Met: the whole 95 % interval of the figure meets it. Missed: the whole interval misses it. Else so few images "
                "cannot tell, and how many more it would take stands below it. Always of all images, whatever is selected.",
                soft=True,
                wrap=True,
            )
        )
        examples = QGridLayout()
        examples.setHorizontalSpacing(16)
        examples.setColumnStretch(1, 1)
        for line, (text, about) in enumerate(EXAMPLES):
            examples.addWidget(label(text), line, 0, Qt.AlignmentFlag.AlignTop)
            examples.addWidget(label(about, soft=True, wrap=True), line, 1)
        inside.addLayout(examples)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body, wide=False))

    def as_table(self) -> list[list[str]]:
        """The criteria, for the clipboard."""
        lines = [["criterion", "state", "figure", "low", "high", "N", "what it would take"]]
        for one in self.workspace.shown.criteria:
            found = one.outcome
            figures = ["" if value is None else f"{value:.6g}" for value in (found.value, found.low, found.high)]
            lines.append(
                [
                    found.text,
                    found.verdict,
                    *figures,
                    "" if found.images is None else str(found.images),
                    one.more or found.problem,
                ]
            )
        return lines
