"""The criteria of the model shown, each with what it would take to tell, and what they may name."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.ui import words
from mivrat.ui.measure.criteria import Criteria
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import Scrolled, label
from mivrat.workspace.concluding import Concluder

LONGEST = 24


def _examples(name: str, family: str, column: str, value: str) -> tuple[tuple[str, str], ...]:
    """What may be asked for, with what it is of."""
    return (
        ("95 % of all", "the share right of all images; so too: top-3 accuracy 99 %, log loss at most 0.3"),
        (f"recall of {name} 80 %", "of one class; precision, specificity, F1, number of images as well"),
        (
            "every class at least 70 %",
            "the recall of each class, as one criterion; so too: precision of every class 70 %",
        ),
        ("top1 >= 0.9", "the same as a formula; top3, macro_f1, balanced_accuracy, log_loss, ece … as well"),
        (f'recall["{name}"] >= 0.8', "a figure of one class as a formula; precision, specificity, f1, support as well"),
        ("low(top1) >= 0.85", "the lower end of its interval; high(…) the upper one"),
        (f'recall[family = "{family}"] >= 0.9', "of a family of classes, where families were entered under Prepare"),
        (f'top1[{column} = "{value}"] >= 0.8', "of the images of one group, by a column of the image table"),
        ("difference(top1) >= 0", "this model minus the one it is compared with, on the same images"),
    )


class CriteriaPage(Page, QWidget):
    """The claim, the criteria, and examples of what can be asked for."""

    title, place_id = "Criteria", "criteria"
    help = "The requirements of this model, each met, missed or inconclusive."

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
                "Met: the whole 95 % interval of the figure meets it. Missed: the whole interval misses it. Inconclusive otherwise; "
                "the number of further images needed is shown below it. Criteria are always of all images, not of the selection.",
                soft=True,
                wrap=True,
            )
        )
        examples = QGridLayout()
        examples.setHorizontalSpacing(16)
        examples.setColumnStretch(1, 1)
        self.examples = []
        for line, (text, about) in enumerate(_examples("class", "family", "column", "value")):
            self.examples.append(label(text))
            examples.addWidget(self.examples[-1], line, 0, Qt.AlignmentFlag.AlignTop)
            examples.addWidget(label(about, soft=True, wrap=True), line, 1)
        inside.addLayout(examples)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(Scrolled(body, wide=False))
        self.workspace.topics.run.connect(self._name)

    def _name(self) -> None:
        """Let the examples name what this study has."""
        record = self.workspace.shown.record
        items, families = record.image_set.items, list(record.families.values())
        columns = columns_to_group_by(items)
        group = (columns[0], items[0].columns[columns[0]]) if columns else ("column", "value")
        names = (record.classes[0], families[0] if families else "family", *group)
        for shown, (text, _) in zip(
            self.examples, _examples(*(words.clipped(one, LONGEST) for one in names)), strict=True
        ):
            shown.setText(text)

    def as_table(self) -> list[list[str]]:
        """The criteria, for the clipboard."""
        lines = [["criterion", "state", "figure", "low", "high", "N", "what it would take"]]
        for one in self.workspace.shown.results.criteria:
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
