"""Difference: the four outcomes, every headline figure of both with its difference, groups, and all runs on these images."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.numbers import bounds, percent, points, signed_span
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.groups import GroupDifference
from mivrat.core.comparing.holding import Compared
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.selection import Caused, Condition, InGroup
from mivrat.ui import words
from mivrat.ui.compare.compared_page import ComparedPage
from mivrat.ui.compare.figure_lines import FIGURES, figure_lines
from mivrat.ui.compare.lines import LinesTable, TableCell, TableColumn, TableLine
from mivrat.ui.compare.outcome_square import OutcomeSquare
from mivrat.ui.compare.verdict import Verdict
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Choice, Scrolled, button, label, row
from mivrat.ui.theme import theme
from mivrat.workspace.compare_jobs import CAUSE
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace

GROUPS = (
    TableColumn("group"),
    TableColumn("images", 58, True),
    TableColumn("fixed", 66, True),
    TableColumn("broken", 62, True),
    TableColumn("difference", 82, True),
    TableColumn("95 % interval", 122, True),
    TableColumn("", 76, gives_way=True),
)
RUNS = (
    TableColumn("run"),
    TableColumn("top-1", 66, True),
    TableColumn("95 % interval", 112, True),
    TableColumn("significantly better than"),
)


class DifferencePage(ComparedPage, Scrolled):
    """The verdict, the square, the figures, the groups, and all runs on these images."""

    title, place_id = "Difference", "difference"
    help = "Two runs on the same images: which images changed, and the difference of every figure."

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__(wide=False)
        self.workspace, self.comparer = workspace, comparer
        self.verdict, self.square = Verdict(workspace, comparer), OutcomeSquare(workspace, comparer)
        self.figures = LinesTable(workspace, FIGURES, "the figures of both and their differences", whole=True)
        self.legend = label(soft=True, wrap=True)
        self.by = Choice((), "groups: by which column")
        self.by.activated.connect(lambda _: self._show_groups())
        self.groups = LinesTable(workspace, GROUPS, "differences by group; Enter selects a group", whole=True)
        self.group_head = QWidget()
        self.group_head.setLayout(row(label("By", "heading"), self.by, None, spacing=4))
        self.all_runs = button("", comparer.compare_all, kind="small")
        self.runs = LinesTable(workspace, RUNS, "all runs on these images, best first", whole=True)
        self.runs_told = label(soft=True, wrap=True)
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 8, 8, 16)
        layout.setSpacing(10)
        for widget in (self.verdict, self.square, self.figures, self.legend, self.group_head, self.groups):
            layout.addWidget(widget)
        layout.addLayout(row(self.all_runs, None))
        for widget in (self.runs, self.runs_told):
            layout.addWidget(widget)
        layout.addStretch(1)
        self.setWidget(body)
        self._late = Late(self, self.refresh, workspace.topics.compared, workspace.topics.contents, theme.changed)

    def refresh(self) -> None:
        compared = self.workspace.shown.compared
        paired = compared is not None and compared.found.paired is not None and compared.found.paired.total > 0
        self.square.setVisible(paired)
        self.figures.setVisible(compared is not None)
        self.legend.setVisible(compared is not None)
        if compared is not None:
            if paired:
                self.square.refresh(compared)
            self.figures.show_lines(figure_lines(compared))
            names = compared.held.names
            self.legend.setText(
                f"a: {names.a}   ·   b: {names.b}   ·   difference: b − a, of shares in points; the tick is none"
                + ("" if compared.found.either.with_intervals else "; intervals are being computed …")
            )
        self._list_groups(compared)
        self._show_runs()

    # --- groups ---

    def _list_groups(self, compared: Compared | None) -> None:
        names = [name for name, some in compared.groups if some] if compared is not None else []
        now = self.by.currentText()
        if [self.by.itemText(i) for i in range(self.by.count())] != names:
            self.by.clear()
            self.by.addItems(names)
            if now in names:
                self.by.setCurrentText(now)
        self.group_head.setVisible(bool(names))
        self.groups.setVisible(bool(names))
        self._show_groups()

    def _show_groups(self) -> None:
        compared = self.workspace.shown.compared
        some = dict(compared.groups).get(self.by.currentText()) if compared is not None else None
        if some:
            self.groups.show_lines(self._group_lines(self.by.currentText(), some))

    def _group_lines(self, column: str, some: Sequence[GroupDifference]) -> list[TableLine]:
        shown = self.workspace.shown
        places = {} if column == CAUSE else positions_by_group(shown.record.image_set.items, column)
        ids = {one.name: one.id for one in shown.reviews.causes}
        lines = []
        for one in some:
            if column == CAUSE and one.name not in ids:
                continue  # taken out of the list since
            condition: Condition = (
                Caused(frozenset({ids[one.name]}), shown.reviews)
                if column == CAUSE
                else InGroup(column, frozenset({(one.name, places[one.name])}))
            )
            sure = one.p_holm < 0.05
            told = "" if not sure else "better" if (one.top1.value or 0) > 0 else "worse"
            about = f"{column} {one.name}: {one.fixed} fixed of {one.wrong_before} wrong before, {one.broken} broken, N = {one.total}.\nMcNemar's exact test, corrected over the {len(some)} groups (Holm): p {in_words(one.p_holm)}."
            lines.append(
                TableLine(
                    (
                        TableCell(one.name),
                        TableCell(words.count(one.total)),
                        TableCell(f"{one.fixed} of {one.wrong_before}"),
                        TableCell(words.count(one.broken)),
                        TableCell(points(one.top1.value), ink={"better": "accent", "worse": "wrong"}.get(told, "")),
                        TableCell(signed_span(one.top1.low, one.top1.high), ink="soft"),
                        TableCell(told or "not sure", ink="soft"),
                    ),
                    (condition,),
                    about,
                )
            )
        return lines

    # --- all runs ---

    def _show_runs(self) -> None:
        several, runs = self.comparer.several, self.comparer.runs_here
        self.all_runs.setVisible(len(runs) > 2)
        self.all_runs.setText(f"Compare all {len(runs)} runs on these images")
        self.runs.setVisible(several is not None)
        self.runs_told.setVisible(several is not None)
        if several is None:
            return
        found, names = several.found, several.names
        lines = []
        for i in found.order:
            beyond = [names[one.worse] for one in found.pairs if one.better == i and one.p_holm < 0.05]
            share = found.accuracy[i]
            lines.append(
                TableLine(
                    (
                        TableCell(names[i]),
                        TableCell(percent(share.value)),
                        TableCell(bounds(share), ink="soft"),
                        TableCell(", ".join(beyond) or "none of them"),
                    ),
                    (),
                    names[i],
                )
            )
        self.runs.show_lines(lines)
        self.runs_told.setText(
            f"Over the {words.images(found.total)} that all have answered. All as good as one another: p {in_words(found.p)} (Cochran's Q). "
            f"Pairs by McNemar's exact test with Holm's correction. Whoever takes the best takes it from {len(names)}: its figure looks "
            f"about {100 * found.optimism:.1f} points too good for having been chosen."
        )

    def as_table(self) -> list[list[str]]:
        """The figures and the groups, for the clipboard."""
        if self.workspace.shown.compared is None:
            return [["this run is compared with nothing"]]
        told = self.figures.as_lines()
        if self.group_head.isVisibleTo(self):
            told += [[], *self.groups.as_lines()]
        if self.comparer.several is not None:
            told += [[], *self.runs.as_lines()]
        return told
