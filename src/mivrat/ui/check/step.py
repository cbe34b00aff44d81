"""The figures area of the Check step: every check with its state, what it found, and the images concerned."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.base.numbers import DASH, percent
from mivrat.core.checks.catalogue import BY_NAME, Check, checks_of
from mivrat.core.checks.result import in_words
from mivrat.core.checks.run_checks import KeptResult
from mivrat.core.pictures.recipe import parse_recipe
from mivrat.core.selecting.selection import Picked
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.step_area import StepArea
from mivrat.ui.parts.widgets import Scrolled, StateMark, button, clear, field_of_study, label, restyle, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace import study_edits
from mivrat.workspace.workspace import Workspace

GROUPS = (
    ("stop", "Fix first"),
    ("look", "Needs a look"),
    ("answered", "Answered"),
    ("open", "Not known yet"),
    ("fine", "Fine"),
)
# What stands between the day of an answer and its words.
DATED = ": "
# So many lines of a table of figures are shown.
MOST_LINES = 12
# What only the report tells: a line has no room for it.
LEFT_OUT = ("log_loss_p", "same_answers")


class _List(Page, QWidget):
    """The one page of the step."""

    title, place_id = "Checks", "checks"
    help = "What could make the figures wrong: class order, preprocessing, copies, damaged files. A row selects the images concerned."


class CheckStep(StepArea):
    """All checks, the gravest first; slow ones have a button, the quick ones have run by themselves."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(_List)
        self.workspace = workspace
        page = _List()
        self.summary = label(wrap=True)
        self.all = button("Run the slow checks", lambda: workspace.jobs.check(), kind="primary")
        tip(self.all, "Read every file, look for copies, and try other recipes; can be stopped")
        self.rows = {check.name: CheckRow(check) for check in BY_NAME.values()}
        self.headings = {state: label(title, "heading") for state, title in GROUPS}
        body = QWidget()
        for check_row in self.rows.values():
            check_row.setParent(body)  # those of other kinds of models are never laid out
            check_row.hide()
        self._list = QVBoxLayout(body)
        self._list.setContentsMargins(0, 4, 8, 16)
        self._list.setSpacing(2)
        for heading in self.headings.values():
            heading.setContentsMargins(0, 10, 0, 2)
            self._list.addWidget(heading)
        self._list.addStretch(1)
        self._order: list[QWidget] = []
        scroll = Scrolled(body, wide=False)
        self._scroll = scroll
        top = row(self.summary, self.all, spacing=12)
        top.setStretchFactor(self.summary, 1)
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 4, 0, 0)
        layout.setSpacing(10)
        layout.addLayout(top)
        layout.addWidget(scroll, 1)
        self.fill(page)
        for check_row in self.rows.values():
            check_row.images_wanted.connect(self._pick)
            check_row.run_wanted.connect(lambda name: workspace.jobs.check((name,)))
            check_row.adopt_wanted.connect(self._adopt)
            check_row.again_wanted.connect(self._read_again)
            check_row.moved.connect(self._move)
            check_row.answered.connect(workspace.edits.answer_check)
        self._late = Late(
            self,
            self.refresh,
            workspace.topics.checks,
            workspace.topics.run,
            workspace.topics.busy,
            workspace.topics.figures,
        )
        workspace.topics.selection.connect(self._mark)
        theme.changed.connect(self._follow_theme)

    def refresh(self) -> None:
        """Put every check under the heading of its state."""
        snapshot, found = self.workspace.shown.snapshot, self.workspace.shown.results.checks
        answered = int((snapshot.judged.state > 0).sum())
        for name, check_row in self.rows.items():
            check_row.show_found(found.get(name), answered, self.workspace.busy)
        counts, order = [], list[QWidget]()
        for state, title in GROUPS:
            members = [one for one in self._listed() if one.state == state]
            self.headings[state].setVisible(bool(members))
            if members:
                counts.append(f"{title.lower()}: {len(members)}")
                order += [self.headings[state], *members]
        if order != self._order:
            for widget in self._order:
                self._list.removeWidget(widget)
            for i, widget in enumerate(order):
                self._list.insertWidget(i, widget)
            self._order = order
            for one in self.rows.values():
                one.setVisible(one in order)
        self.summary.setText("  ·  ".join(counts))
        self.all.setEnabled(not self.workspace.busy)
        self._mark()

    def _listed(self) -> list[CheckRow]:
        """The rows of the checks that there are for the model shown; the others are not seen."""
        there = {check.name for check in checks_of(self.workspace.shown.record.kind)}
        return [one for name, one in self.rows.items() if name in there]

    def _pick(self, name: str) -> None:
        kept = self.workspace.shown.results.checks.get(name)
        if kept is not None:
            self.workspace.shown.replace(Picked(self.rows[name].check.title.lower(), kept.result.images))

    def _follow_theme(self) -> None:
        if self.workspace.is_open:
            self._mark()

    def _mark(self) -> None:
        picked = [one for one in self.workspace.shown.conditions if isinstance(one, Picked)]
        for check_row in self.rows.values():
            check_row.mark(any(one.by == check_row.check.title.lower() for one in picked))

    def _adopt(self, name: str) -> None:
        kept, snapshot = self.workspace.shown.results.checks.get(name), self.workspace.shown.snapshot
        if kept is None:
            return
        offer, record = kept.result.offer, snapshot.record
        if "recipe" in offer:
            recipe, names = parse_recipe(offer["recipe"]), offer.get("classes")
            adopted = study_edits.add_run("recipe adopted", record.model_path, record.info.set_id, recipe)
            if names:
                adopted = study_edits.both(
                    "recipe and class order adopted", study_edits.put_in_order(names, record.classes), adopted
                )
            # Whether it was the right one shows only once it has been scored and checked again.
            self.workspace.edits.take(
                adopted, then=lambda: self.workspace.jobs.score(then=lambda: self.workspace.jobs.check(("recipe",)))
            )
        elif "classes" in offer:
            self.workspace.edits.take(study_edits.put_in_order(offer["classes"], record.classes))

    def _read_again(self, name: str) -> None:
        if (kept := self.workspace.shown.results.checks.get(name)) is not None:
            self.workspace.jobs.read_again(kept.result.images)

    def _move(self, name: str, by: int) -> None:
        """The focus to the row before or after."""
        rows = [one for state, _ in GROUPS for one in self._listed() if one.state == state]
        at = rows.index(self.rows[name]) + by
        if 0 <= at < len(rows):
            rows[at].setFocus(Qt.FocusReason.TabFocusReason)
            self._scroll.ensureWidgetVisible(rows[at])


class CheckRow(QFrame):
    """One check: mark, title, what it found; opened, also why it matters and all figures."""

    images_wanted, run_wanted, adopt_wanted = Signal(str), Signal(str), Signal(str)
    again_wanted = Signal(str)
    # Its name and the answer to what it found.
    answered = Signal(str, str)
    moved = Signal(str, int)

    def __init__(self, check: Check) -> None:
        super().__init__()
        self.check, self.state, self.opened = check, "", False
        self._shown: tuple[KeptResult | None, int] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        tip(self, "Click, or press Enter, for the figures")
        name = check.name
        self.mark_box = QVBoxLayout()
        self.title = label(check.title)
        self.title.setStyleSheet("font-weight: 600;")
        self.sentence = label(wrap=True)
        self.images = button("", lambda: self.images_wanted.emit(name), kind="small")
        self.adopt = button("", lambda: self.adopt_wanted.emit(name), kind="small")
        self.again = button("Read again", lambda: self.again_wanted.emit(name), kind="small")
        tip(self.again, "Read these files again, and score those that can be read or have changed")
        self.reply = button("Answer…", self._reply, kind="small")
        tip(
            self.reply,
            "Say why this is as it should be, or what was done. The answer stays while model, images and finding are the same",
        )
        self.answer = field_of_study("what you looked at, and why it is as it should be (Enter)")
        self.answer.setAccessibleName(f"answer to {check.title}")
        self.answer.returnPressed.connect(self._answer)
        self.answer.hide()
        self.run = button("Check", lambda: self.run_wanted.emit(name), kind="small")
        self.details = QWidget()
        self._inside = QVBoxLayout(self.details)
        self._inside.setContentsMargins(0, 4, 0, 4)
        self._inside.setSpacing(8)
        words_ = QVBoxLayout()
        words_.setSpacing(3)
        head = row(self.title, self.adopt, self.images, self.again, self.reply, self.run, spacing=4)
        head.setStretch(0, 1)
        words_.addLayout(head)
        words_.addWidget(self.sentence)
        words_.addWidget(self.answer)
        words_.addWidget(self.details)
        self.mark_box.setContentsMargins(0, 2, 0, 0)
        whole = row(self.mark_box, words_, spacing=8, margins=(6, 7, 6, 7))
        whole.setStretch(1, 1)
        whole.setAlignment(self.mark_box, Qt.AlignmentFlag.AlignTop)
        self.setLayout(whole)
        self.details.hide()
        self.mark(False)

    def show_found(self, kept: KeptResult | None, answered: int, busy: bool) -> None:
        """Show a kept result, or that there is none yet."""
        self.run.setVisible(self.check.slow)
        self.run.setText("Check" if kept is None else "Check again")
        for one in (self.run, self.adopt, self.again, self.reply):
            one.setEnabled(not busy)
        if self._shown is not None and self._shown[0] is kept and self._shown[1] == answered:
            return
        self._shown = kept, answered
        result = kept.result if kept is not None else None
        found = result.state if result is not None else "open"
        self.state = "answered" if result is not None and result.answer else found
        clear(self.mark_box)
        self.mark_box.addWidget(StateMark(found))
        text = result.sentence if result is not None else f"Not checked yet. {self.check.why}"
        if kept is not None and kept.answered != answered:
            text += (
                f" (Found when {words.images(kept.answered)} had been scored; now there are {words.count(answered)}.)"
            )
        if result is not None and result.answer:
            text += f"\nAnswered: {result.answer}"
        self.reply.setVisible(found in ("look", "stop"))
        self.reply.setText("Change the answer…" if self.state == "answered" else "Answer…")
        self.answer.hide()
        self.sentence.setText(text)
        self.setAccessibleName(f"{self.check.title}: {text}")
        concerned = len(result.images) if result is not None else 0
        self.images.setText(words.images(concerned))
        tip(self.images, "Show these images in the light table")
        self.images.setVisible(bool(concerned))
        self.again.setVisible(bool(concerned) and self.check.name in ("readable", "changed"))
        offer = result.offer if result is not None else {}
        self.adopt.setText("Adopt this recipe" if "recipe" in offer else "Use this class order")
        tip(
            self.adopt,
            "Add the model with this recipe as a run of its own; the present one stays"
            if "recipe" in offer
            else "Name the model's outputs in this order. Nothing must be scored again. Ctrl+Z undoes it",
        )
        self.adopt.setVisible(bool(offer))
        self._fill()

    def _reply(self) -> None:
        """Let an answer be typed, beginning with the one there is."""
        kept = self._shown[0] if self._shown else None
        if kept is not None:
            self.answer.setText(kept.result.answer.partition(DATED)[2])
            self.answer.show()
            self.answer.setFocus(Qt.FocusReason.OtherFocusReason)

    def _answer(self) -> None:
        text = " ".join(self.answer.text().split())
        self.answer.hide()
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self.answered.emit(self.check.name, f"{date.today().isoformat()}{DATED}{text}" if text else "")

    def _fill(self) -> None:
        clear(self._inside)
        if not self.opened:
            return
        self._inside.addWidget(label(self.check.why, soft=True, wrap=True))
        kept = self._shown[0] if self._shown else None
        if kept is not None:
            for table in figure_tables(kept.result.figures):
                self._inside.addLayout(_grid(table))
            self._inside.addWidget(
                label(
                    f"Found on {kept.at[:16]}, when {words.images(kept.answered)} had been scored.",
                    soft=True,
                    wrap=True,
                )
            )

    def toggle(self) -> None:
        """Show or hide why it matters and the figures."""
        self.opened = not self.opened
        self._fill()
        self.details.setVisible(self.opened)

    def mark(self, on: bool) -> None:
        t = theme.tokens
        restyle(
            self,
            f"CheckRow {{ background: {t.accent_wash if on else 'transparent'}; border: 1px solid transparent; "
            f"border-bottom: 1px solid {t.line}; }} CheckRow:focus {{ border: 1px solid {t.accent}; }}",
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.toggle()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.toggle()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.moved.emit(self.check.name, 1 if event.key() == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)


def figure_tables(figures: Mapping[str, Any]) -> list[list[tuple[str, ...]]]:
    """A check's figures as tables of text: one of names and values, then one for each list of like entries."""
    plain: list[tuple[str, ...]] = []
    tables: list[list[tuple[str, ...]]] = []
    for key, value in figures.items():
        name = key.replace("_", " ")
        if isinstance(value, list) and value and isinstance(value[0], Mapping):
            heads = [head for head in value[0] if head not in LEFT_OUT]
            lines = [tuple(_value(head, entry.get(head)) for head in heads) for entry in value[:MOST_LINES]]
            more = len(value) - len(lines)
            tables.append([tuple("p" if head.endswith("_p") else head.replace("_", " ") for head in heads), *lines])
            if more > 0:
                tables[-1].append((f"and {more} more",))
        elif isinstance(value, Mapping):
            plain.append((name, _listed([f"{inner}: {_value(key, one)}" for inner, one in value.items()])))
        else:
            plain.append((name, _value(key, value)))
    return ([plain] if plain else []) + tables


def _listed(texts: list[str]) -> str:
    more = len(texts) - MOST_LINES
    return (", ".join(texts[:MOST_LINES]) or "none") + (f" and {more} more" if more > 0 else "")


def _value(key: str, value: Any) -> str:
    if value is None:
        return DASH
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return _listed([str(one) for one in value])
    if isinstance(value, float):
        if key == "accuracy":
            return percent(value)
        if key == "p" or key.endswith("_p"):
            return in_words(value).removeprefix("= ")
        return f"{value:.3f}" if abs(value) < 100 else f"{value:.4g}"
    return words.count(value) if isinstance(value, int) else str(value)


def _grid(table: list[tuple[str, ...]]) -> QGridLayout:
    grid = QGridLayout()
    grid.setHorizontalSpacing(16)
    grid.setVerticalSpacing(2)
    headed = len(table[0]) > 2
    for i, line in enumerate(table):
        for j, text in enumerate(line):
            cell = label(text, soft=j == 0 if not headed else i == 0, wrap=j == (0 if headed else 1))
            right = headed and j > 0
            grid.addWidget(cell, i, j, Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag(0))
    grid.setColumnStretch(0 if headed else 1, 1)
    return grid
