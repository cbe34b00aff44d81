"""Difference: the four outcomes, every headline figure of both with its difference, groups, and all runs on these images."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QDoubleSpinBox, QFrame, QGridLayout, QVBoxLayout, QWidget

from mivrat.core.answers.other import ONE_ONLY, SAME_WRONG
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.claims import standing_of
from mivrat.core.comparing.groups import GroupDifference
from mivrat.core.comparing.holding import IN_POINTS, LESS_IS_BETTER, Compared, headline_differences
from mivrat.core.figures.bootstrap import LEAST
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.probability import losses, squared_errors
from mivrat.core.selecting.kept import positions_by_group
from mivrat.core.selecting.selection import Against, Caused, Condition, InGroup, Outcome, Picked
from mivrat.ui import words
from mivrat.ui.compare.lines import Cell, Column, Drawn, Line, LinesTable
from mivrat.ui.compare.verdict import Verdict
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Choice, Elided, Scrolled, button, calm, label, restyle, row, set_role, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import CAUSE, Comparer
from mivrat.workspace.workspace import Workspace

FIGURES = (Column("figure"), Column("a", 63, True), Column("b", 63, True), Column("difference", 78, True),
           Column("95 % interval", 130, True), Column("", 74, gives_way=True))  # fmt: skip
GROUPS = (Column("group"), Column("images", 58, True), Column("mended", 66, True), Column("broken", 62, True),
          Column("difference", 82, True), Column("95 % interval", 122, True), Column("", 76, gives_way=True))  # fmt: skip
RUNS = (
    Column("run"),
    Column("top-1", 66, True),
    Column("95 % interval", 112, True),
    Column("beyond chance better than"),
)


def _how(key: str, one: Difference, compared: Compared) -> str:
    """How a difference's interval was made."""
    paired = compared.found.paired is not None
    over = f" over units of '{compared.found.unit_column}'" if compared.found.unit_column else ""
    if one.low is None:
        if one.value is None or not compared.found.either.with_intervals:
            return ""
        return f"No interval: fewer than {LEAST} images, too few units, or too few images that came out differently."
    if key.startswith("top"):
        test = "McNemar's exact test" if paired else "Fisher's exact test"
        p = f" {test}: p {in_words(one.p)}." if one.p is not None else ""
        return f"Interval: Newcombe 1998, {'paired data' if paired else 'two sets'}, method 10, 95 %{over}.{p}"
    if key == "balanced_accuracy":
        return f"Interval: those of the classes' recall put together (Zou and Donner 2008), 95 %{over}."
    drawn = "images drawn once for both" if paired else "images of each set drawn again"
    which = "bootstrap-t" if key in ("log_loss", "brier") else "percentiles of a bootstrap"
    return f"Interval: {which}, 2,000 draws, {drawn}, 95 %{over}."


def figure_lines(compared: Compared) -> list[Line]:
    """A line for each headline figure."""
    lines = []
    for key, name, one in headline_differences(compared):
        points = key.startswith("top") or key in IN_POINTS
        scale, places = (100.0, 1) if points else (1.0, 3)
        shown = [words.percent(v) if points else words.decimal(v) for v in (one.a, one.b)]
        better = one.beyond_chance * (-1 if key in LESS_IS_BETTER else 1)
        told = {1: "better", -1: "worse", 0: "not beyond chance"}[better] if one.low is not None else ""
        value = words.DASH if one.value is None else words.signed(scale * one.value, places)
        bounds = words.difference_bounds(one, scale, places)
        about = f"{name}: {shown[0]} and {shown[1]}, difference {value}{f' ({bounds})' if bounds else ''}{f', {told}' if told else ''}.\n{_how(key, one, compared)}"
        reach = max(abs(one.value or 0.0), abs(one.low or 0.0), abs(one.high or 0.0), 0.02 if points else 0.05) * 1.05
        ink = {1: "accent", -1: "wrong", 0: ""}[better]
        lines.append(
            Line(
                (
                    Cell(name),
                    Cell(shown[0]),
                    Cell(shown[1], ink="second"),
                    Cell(value, ink=ink),
                    Cell(bounds, ink="soft"),
                    Cell(told, drawn=Drawn(one, reach=reach)),
                ),
                (),
                f"{about}\n{_WHAT.get(key.rstrip('0123456789'), '')}" if compared.held.other is not None else about,
                partial(moved, compared, key),
            )
        )
    return lines


_WHAT = {
    "top": "Click to see the images that came out differently.",
    "log_loss": "Click to see the images that move it most.",
    "brier": "Click to see the images that move it most.",
    "ece": "Click to see the images whose confidence changes most.",
}
MOST_MOVED = 100


def moved(compared: Compared, key: str) -> tuple[Condition, ...]:
    """The images that a figure's difference comes from: those that came out differently, or those that move a mean most; of two
    sets the wrong ones shown."""
    other, judged = compared.held.other, compared.held.a.judged
    if other is None:
        return (Outcome(frozenset({"wrong"})),)
    both = other.both
    if key in ("log_loss", "brier", "ece"):
        if key == "ece":
            change = other.confidence - judged.confidence
        elif key == "log_loss":
            change = losses(other.own) - losses(judged.own)
        else:
            change = squared_errors(other.own, other.squares) - squared_errors(judged.own, judged.squares)
        size = np.where(both, np.abs(np.nan_to_num(change)), 0.0)
        some = np.argsort(-size, kind="stable")[:MOST_MOVED]
        some = some[size[some] > 0]
        name = {"log_loss": "change of log loss", "brier": "change of Brier score", "ece": "change of confidence"}[key]
    else:
        k = int(key[3:]) if key.startswith("top") else 1
        within = [
            (one.rank >= 1) & (one.rank <= k) if k > 1 else one.predicted == judged.labels for one in (judged, other)
        ]
        some = np.flatnonzero(both & (within[0] != within[1]))
        name = f"change of top-{k}"
    return (Picked(name, tuple(some.tolist())),) if len(some) else ()


class OutcomeBox(QFrame):
    """One of the four outcomes: a count that selects its images."""

    def __init__(self, workspace: Workspace, state: str, token: str) -> None:
        super().__init__()
        self.workspace, self.state, self._token = workspace, state, token
        self.setObjectName("outcome")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFixedSize(104, 60)
        self.count = label("0", "big")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 6, 8, 6)
        layout.setSpacing(0)
        layout.addWidget(self.count)
        layout.addWidget(label(state))
        workspace.topics.selection.connect(self.mark)
        theme.changed.connect(self._follow_theme)

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self.mark()

    @property
    def condition(self) -> Condition:
        return Against(frozenset({self.state}), self.workspace.shown.held_other)

    def show_count(self, number: int, of: int) -> None:
        self.count.setText(words.count(number))
        self.setAccessibleName(f"{self.state}: {words.images(number)}")
        tip(
            self,
            f"{self.state}: {words.images(number)} of {words.count(of)} that both have answered. Click to see them.",
        )
        self.mark()

    def mark(self) -> None:
        t = theme.tokens
        on = any(isinstance(one, Against) and self.state in one.which for one in self.workspace.shown.conditions)
        edge = f"2px solid {t.ink}" if on else f"1px solid {t.line}"
        ink = getattr(t, self._token)
        restyle(
            self,
            f"#outcome {{ background: {t.accent_wash if on else t.sheet}; border: {edge}; border-radius: 3px; }} "
            f'#outcome:focus {{ border: 2px solid {t.accent}; }} QLabel[role="big"] {{ color: {ink}; font-size: 21px; font-weight: 600; }}',
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        if event.button() == Qt.MouseButton.LeftButton:
            self.workspace.shown.choose(
                self.condition, beside=bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            )

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:  # noqa: N802
        self.workspace.shown.enter(self.condition)

    def keyPressEvent(self, event: QKeyEvent) -> None:  # noqa: N802
        beside = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.workspace.shown.enter(self.condition, beside=beside)
        elif event.key() == Qt.Key.Key_Space:
            self.workspace.shown.choose(self.condition, beside=beside)
        elif event.key() in (Qt.Key.Key_Right, Qt.Key.Key_Left, Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(event.key() in (Qt.Key.Key_Right, Qt.Key.Key_Down))
        else:
            super().keyPressEvent(event)


class OutcomeSquare(QWidget):
    """The four outcomes as a square, and beside it what the counts say."""

    def __init__(self, workspace: Workspace, comparer: Comparer) -> None:
        super().__init__()
        self.workspace, self.comparer = workspace, comparer
        self.boxes = {
            state: OutcomeBox(workspace, state, token)
            for state, token in (
                ("both right", "ink"),
                ("broken", "wrong"),
                ("mended", "accent"),
                ("both wrong", "soft"),
            )
        }
        self.rows = [label(role="good"), label(role="second")]
        grid = QGridLayout()
        grid.setSpacing(4)
        self.across = label(role="second")
        grid.addWidget(self.across, 0, 1, 1, 2, Qt.AlignmentFlag.AlignHCenter)
        for column, text in ((1, "right"), (2, "wrong")):
            grid.addWidget(label(text, soft=True), 1, column, Qt.AlignmentFlag.AlignHCenter)
        self.down = Elided()
        self.down.setFixedWidth(74)
        self.down.setAlignment(Qt.AlignmentFlag.AlignRight)
        set_role(self.down, "good")
        grid.addWidget(self.down, 1, 0, Qt.AlignmentFlag.AlignRight)
        for line, (text, states) in enumerate(
            (("right", ("both right", "broken")), ("wrong", ("mended", "both wrong"))), 2
        ):
            grid.addWidget(label(text, soft=True), line, 0, Qt.AlignmentFlag.AlignRight)
            for column, state in enumerate(states, 1):
                grid.addWidget(self.boxes[state], line, column)
        self.test = label(wrap=True)
        self.same = button("", lambda: self._choose(SAME_WRONG), kind="quiet")
        self.alone = button("", lambda: self._choose(ONE_ONLY), kind="quiet")
        self.margin = QDoubleSpinBox()
        calm(self.margin)
        self.margin.setRange(0.0, 50.0)
        self.margin.setDecimals(1)
        self.margin.setSingleStep(0.5)
        self.margin.setValue(100 * comparer.margin)
        self.margin.setKeyboardTracking(False)
        self.margin.setFixedWidth(64)
        self.margin.setAccessibleName("margin in points: how much worse still counts as not worse")
        tip(self.margin, "Not worse than this run: how many points worse still counts as that")
        self.margin.valueChanged.connect(lambda v: comparer.set_margin(v / 100))
        self.standing = label()
        beside = QVBoxLayout()
        beside.setSpacing(6)
        beside.addWidget(self.test)
        for one in (self.same, self.alone):
            beside.addLayout(row(one, None))
        beside.addLayout(row(label("within", soft=True), self.margin, label("points:", soft=True), None, spacing=4))
        beside.addWidget(self.standing)
        beside.addStretch(1)
        square, said = QWidget(), QWidget()
        square.setLayout(grid)
        said.setLayout(beside)
        said.setFixedWidth(232)
        for layout in (grid, beside):
            layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(flowing(square, said, spacing=14))

    def _choose(self, state: str) -> None:
        self.workspace.shown.choose(Against(frozenset({state}), self.workspace.shown.held_other))

    def refresh(self, compared: Compared) -> None:
        found, paired = compared.found, compared.found.paired
        assert paired is not None
        names = compared.held.names
        self.across.setText(words.clipped(names.b, 26))
        tip(self.across, names.b)
        self.down.set_text(names.a)
        four = paired.four
        counts = {
            "both right": four.both_right,
            "mended": four.mended,
            "broken": four.broken,
            "both wrong": four.both_wrong,
        }
        for state, number in counts.items():
            self.boxes[state].show_count(number, four.total)
        p = paired.top1.p
        exact = "exact McNemar test" if not found.unit_column else f"test over whole units of '{found.unit_column}'"
        self.test.setText(
            f"{words.images(four.changed)} came out differently, {exact}: p {in_words(p)}"
            if p is not None
            else "no image to compare"
        )
        alone = found.shared.only_a + found.shared.only_b
        self.same.setText(f"same wrong answer: {words.count(four.same_wrong)}")
        self.alone.setText(f"answered by one only: {words.count(alone)}")
        self.same.setEnabled(bool(four.same_wrong))
        here = compared.held.other is not None and bool(compared.held.other.mask(ONE_ONLY).any())
        self.alone.setEnabled(here)
        tip(
            self.alone,
            f"{words.images(found.shared.only_a)} by {names.a} only, {words.images(found.shared.only_b)} by {names.b} only; in no figure here."
            if alone
            else "",
        )
        standing = standing_of(found, self.comparer.margin)
        self.standing.setText({"met": "not worse", "missed": "worse"}.get(standing, "cannot tell"))
        restyle(
            self.standing,
            f"font-weight: 600; color: {getattr(theme.tokens, {'met': 'accent', 'missed': 'wrong'}.get(standing, 'look'))};",
        )
        tip(
            self.standing,
            "Not worse: the lower end of the difference's interval is no further below zero than this. Worse: the upper end is further below.",
        )
        other = found.shared.other_class
        if other:
            self.test.setText(
                f"{self.test.text()}\n{words.images(other)} of classes that only one list has are left out"
            )


class DifferencePage(Scrolled):
    """The verdict, the square, the figures, the groups, and all runs on these images."""

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
        self._late = Late(self, self.refresh)
        workspace.topics.compared.connect(self._late.ask)
        theme.changed.connect(self._follow_theme)
        workspace.topics.contents.connect(self._late.ask)

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self.refresh()

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
                + ("" if compared.found.either.with_intervals else "; intervals are being worked out …")
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

    def _group_lines(self, column: str, some: Sequence[GroupDifference]) -> list[Line]:
        shown = self.workspace.shown
        places = {} if column == CAUSE else positions_by_group(shown.record.image_set.items, column)
        ids = {one.name: one.id for one in shown.reviews.causes}
        lines = []
        for one in some:
            condition: Condition = (
                Caused(frozenset({ids[one.name]}), shown.reviews)
                if column == CAUSE
                else InGroup(column, frozenset({(one.name, places[one.name])}))
            )
            sure = one.p_holm < 0.05
            told = "" if not sure else "better" if (one.top1.value or 0) > 0 else "worse"
            about = f"{column} {one.name}: {one.mended} mended of {one.wrong_before} wrong before, {one.broken} broken, N = {one.total}.\nMcNemar's exact test, corrected over the {len(some)} groups (Holm): p {in_words(one.p_holm)}."
            lines.append(
                Line(
                    (
                        Cell(one.name),
                        Cell(words.count(one.total)),
                        Cell(f"{one.mended} of {one.wrong_before}"),
                        Cell(words.count(one.broken)),
                        Cell(words.points(one.top1.value), ink={"better": "accent", "worse": "wrong"}.get(told, "")),
                        Cell(words.difference_bounds(one.top1), ink="soft"),
                        Cell(told or "not sure", ink="soft"),
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
            lines.append(Line((Cell(names[i]), Cell(words.percent(share.value)), Cell(words.bounds(share), ink="soft"), Cell(", ".join(beyond) or "none of them")), (), names[i]))  # fmt: skip
        self.runs.show_lines(lines)
        self.runs_told.setText(
            f"Over the {words.images(found.total)} that all have answered. All as good as one another: p {in_words(found.p)} (Cochran's Q). "
            f"Pairs by McNemar's exact test with Holm's correction. Whoever takes the best takes it from {len(names)}: its figure looks "
            f"about {100 * found.optimism:.1f} points too good for having been chosen."
        )

    def as_table(self) -> list[list[str]]:
        """The figures and the groups, for the clipboard."""
        if self.workspace.shown.compared is None:
            return [["nothing is held against this run"]]
        told = self.figures.as_lines()
        if self.group_head.isVisibleTo(self):
            told += [[], *self.groups.as_lines()]
        if self.comparer.several is not None:
            told += [[], *self.runs.as_lines()]
        return told
