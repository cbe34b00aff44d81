"""The four outcomes of two runs on the same images as a square of counts, each of which selects its images."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QDoubleSpinBox, QFrame, QGridLayout, QVBoxLayout, QWidget

from mivrat.core.answers.other import ONE_ONLY, SAME_WRONG
from mivrat.core.checks.result import in_words
from mivrat.core.comparing.claims import standing_of
from mivrat.core.comparing.holding import Compared
from mivrat.core.selecting.selection import Condition, OutcomeOfBoth
from mivrat.ui import words
from mivrat.ui.parts.widgets import Elided, button, calm, label, restyle, row, set_role, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace


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
        return OutcomeOfBoth(frozenset({self.state}), self.workspace.shown.held_other)

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
        on = any(isinstance(one, OutcomeOfBoth) and self.state in one.which for one in self.workspace.shown.conditions)
        edge = f"2px solid {t.ink}" if on else f"1px solid {t.line}"
        ink = getattr(t, self._token)
        restyle(
            self,
            f"#outcome {{ background: {t.accent_wash if on else t.sheet}; border: {edge}; border-radius: 3px; }} "
            f'#outcome:focus {{ border: 2px solid {t.accent}; }} QLabel[role="big"] {{ color: {ink}; font-size: 21px; font-weight: 600; }}',
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.workspace.shown.choose(
                self.condition, beside=bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            )

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.workspace.shown.enter(self.condition)

    def keyPressEvent(self, event: QKeyEvent) -> None:
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
                ("fixed", "accent"),
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
            (("right", ("both right", "broken")), ("wrong", ("fixed", "both wrong"))), 2
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
        beside.addWidget(label("not worse by more than", soft=True))
        beside.addLayout(row(self.margin, label("points:", soft=True), self.standing, None, spacing=4))
        beside.addStretch(1)
        square, said = QWidget(), QWidget()
        square.setLayout(grid)
        said.setLayout(beside)
        said.setFixedWidth(232)
        for layout in (grid, beside):
            layout.setContentsMargins(0, 0, 0, 0)
        self.setLayout(flowing(square, said, spacing=14))

    def _choose(self, state: str) -> None:
        self.workspace.shown.choose(OutcomeOfBoth(frozenset({state}), self.workspace.shown.held_other))

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
            "fixed": four.fixed,
            "broken": four.broken,
            "both wrong": four.both_wrong,
        }
        for state, number in counts.items():
            self.boxes[state].show_count(number, four.total)
        p = paired.top1.p
        exact = "exact McNemar test" if not found.unit_column else f"test over whole units of '{found.unit_column}'"
        self.test.setText(
            f"{words.images(four.changed)} are answered differently, {exact}: p {in_words(p)}"
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
        self.standing.setText(standing)
        restyle(
            self.standing,
            f"font-weight: 600; color: {getattr(theme.tokens, {'met': 'accent', 'missed': 'wrong'}.get(standing, 'look'))};",
        )
        tip(
            self.standing,
            "Met: the lower end of the difference's interval is no further below zero than this. Missed: the upper end is further below.",
        )
        other = found.shared.other_class
        if other:
            self.test.setText(
                f"{self.test.text()}\n{words.images(other)} of classes that only one list has are left out"
            )
