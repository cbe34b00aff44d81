"""Classes: recall and precision of both, class by class, drawn as points with their intervals, the surest change first."""

from __future__ import annotations

import json

from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import percent, points, signed_span
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.comparison import Comparison
from mivrat.core.comparing.holding import Compared
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.paired import ClassDifference
from mivrat.core.pictures.classes import fold
from mivrat.core.selecting.selection import Labelled
from mivrat.ui import words
from mivrat.ui.compare.compared_page import ComparedPage
from mivrat.ui.compare.lines import Drawn, LinesTable, TableCell, TableColumn, TableLine
from mivrat.ui.compare.verdict import Verdict
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import field_of_study, label, row
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

COLUMNS = (
    TableColumn("class"),
    TableColumn("images", 58, True),
    TableColumn("recall", 100),
    TableColumn("change", 60, True),
    TableColumn("95 % interval", 116, True),
    TableColumn("precision", 76, gives_way=True),
    TableColumn("change", 60, True, gives_way=True),
)


def class_lines(compared: Compared) -> list[TableLine]:
    """A line for each class, the surest change of recall first."""
    found = compared.found
    order = sorted(
        range(len(found.classes)),
        key=lambda k: (
            found.lines[k].p_holm,
            found.lines[k].recall.p if found.lines[k].recall.p is not None else 1.0,
            -abs(found.lines[k].recall.value or 0.0),
            k,
        ),
    )
    lines = []
    for k in order:
        one, name = found.lines[k], found.classes[k]
        if isinstance(one, ClassDifference):
            images, number = words.count(one.support), one.support
            test = "McNemar's exact test"
        else:
            images, number = (
                f"{words.count(one.support_a)}, {words.count(one.support_b)}",
                one.support_a + one.support_b,
            )
            test = "Fisher's exact test" if not found.unit_column else "whole units reshuffled"
        recall, precision = one.recall, one.precision
        sure = one.p_holm < 0.05 and recall.value is not None
        ink = "" if not sure else "accent" if (recall.value or 0) > 0 else "wrong"
        about = (
            f"{name}\nrecall {percent(recall.a)} and {percent(recall.b)}, difference {points(recall.value)} ({signed_span(recall.low, recall.high) or 'no interval'}); {test}: p {in_words(recall.p if recall.p is not None else 1.0)}, corrected for the number of classes (Holm) {in_words(one.p_holm)}.\n"
            f"precision {percent(precision.a)} and {percent(precision.b)}, difference {points(precision.value)} ({signed_span(precision.low, precision.high) or 'no interval'})."
        )
        sides = f"{percent(recall.a)} and {percent(recall.b)}"
        lines.append(
            TableLine(
                (
                    TableCell(name, sort=fold(name)),
                    TableCell(images, sort=number),
                    TableCell(sides, sort=recall.b, drawn=Drawn(recall, as_points=True)),
                    TableCell(points(recall.value), sort=recall.value, ink=ink),
                    TableCell(signed_span(recall.low, recall.high), sort=recall.low, ink="soft"),
                    TableCell(
                        f"{percent(precision.a)} and {percent(precision.b)}",
                        sort=precision.b,
                        drawn=Drawn(precision, as_points=True),
                    ),
                    TableCell(
                        points(precision.value),
                        sort=precision.value,
                        ink="" if not precision.beyond_chance else "accent" if precision.beyond_chance > 0 else "wrong",
                    ),
                ),
                (Labelled(frozenset({k})),),
                about,
            )
        )
    return lines


class ClassDifferencesPage(ComparedPage, QWidget):
    """The table under a field to find a class."""

    title, place_id = "Classes", "classes"
    help = "Recall and precision of both, class by class, the most certain change first."

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__()
        self.workspace = workspace
        self.verdict = Verdict(workspace, comparer, "classes")
        self.search = field_of_study("find a class")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self._show())
        self._workers = workspace.group(1)
        self._making = LatestOnly(self._workers)
        self._lines: list[TableLine] = []
        self.table = LinesTable(workspace, COLUMNS, "recall and precision of both by class; Enter selects a class")
        self.legend = label(soft=True, wrap=True)
        self.head = QWidget()
        self.head.setLayout(row(self.search, None))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 4)
        layout.addWidget(self.verdict)
        layout.addWidget(self.head)
        layout.addWidget(self.table, 1)
        layout.addWidget(self.legend)
        layout.addStretch(0)
        self._late = Late(self, self.refresh, workspace.topics.compared)

    def figure_shown(self, found: Comparison) -> tuple[str, Difference]:
        shown = self.workspace.shown
        chosen = next((one for one in shown.conditions if isinstance(one, Labelled) and len(one.classes) == 1), None)
        if chosen is None:
            return super().figure_shown(found)
        (k,) = chosen.classes
        return f"recall[{json.dumps(shown.classes[k], ensure_ascii=False)}]", found.either.classes[k].recall

    def refresh(self) -> None:
        compared = self.workspace.shown.compared
        for widget in (self.head, self.table, self.legend):
            widget.setVisible(compared is not None)
        if compared is None:
            self._making.cancel()
            self._take([])
            return
        self._making.start(lambda task: class_lines(compared), done=self._take)
        names = compared.held.names
        self.legend.setText(
            f"From 0 to 100 %: round, above, {names.a}; square, below, {names.b}. Changes are in points, and in colour where they are significant (recall: corrected for the number of classes). The most significant change comes first. Click a heading to sort."
        )

    def _take(self, lines: list[TableLine]) -> None:
        self._lines = lines
        self._show()

    def _show(self) -> None:
        """Show the classes that are looked for, or all of them."""
        wanted = fold(self.search.text())
        self.table.show_lines(
            [one for one in self._lines if wanted in fold(one.cells[0].text)] if wanted else self._lines
        )

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()

    def as_table(self) -> list[list[str]]:
        """What the table shows, for the clipboard."""
        return self.table.as_lines()
