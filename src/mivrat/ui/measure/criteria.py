"""What was claimed and what is required, held against what was measured."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import DASH, percent
from mivrat.core.checks.result import in_words
from mivrat.core.concluding.criterion_words import figure_in_words, in_plain_words, read_criterion
from mivrat.core.concluding.evaluation_context import reference_of
from mivrat.core.concluding.requirements import RequirementOutcome, parse_criterion, with_reference
from mivrat.core.study.contents import Contents
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import Elided, StateMark, button, clear, field_of_study, label, row, tip
from mivrat.workspace import study_edits
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.workspace import Workspace

STATES = {"met": "fine", "missed": "stop", "inconclusive": "look"}


_HASH = re.compile(r"#[0-9a-f]{16}\b")


def shown_text(text: str, classes: Sequence[str]) -> str:
    """A criterion as it is shown: in plain words; one that names what is no more, as it was entered, without hashes."""
    try:
        return in_plain_words(parse_criterion(text, classes), classes)
    except InputError:
        return _HASH.sub("", text)


def _model_id(workspace: Workspace) -> int:
    """The model shown, whose claim and criteria these are."""
    return workspace.shown.snapshot.record.info.model_id


def verdict(workspace: Workspace) -> tuple[str, str]:
    """The state and the words of all criteria together; empty without any."""
    found = [one.outcome for one in workspace.shown.results.criteria]
    if not found:
        return "", ""
    failed, open_ = (sum(one.verdict == which for one in found) for which in ("missed", "inconclusive"))
    one = len(found) == 1
    if failed:
        return "stop", "criterion missed" if one else f"{failed} of {len(found)} criteria missed"
    if open_:
        return (
            "look",
            "criterion inconclusive" if one else f"{open_} of {len(found)} criteria inconclusive",
        )
    return "fine", "criterion met" if one else f"all {len(found)} criteria met"


class Criteria(QWidget):
    """The claimed accuracy with a test against it, and criteria that are met, missed, or inconclusive at this N, and then
    the number of further images needed. They are always of all images."""

    def __init__(self, workspace: Workspace, concluder: Concluder | None = None) -> None:
        """With a ``concluder`` each criterion can be made a finding."""
        super().__init__()
        self.workspace, self.concluder = workspace, concluder
        self.claim = field_of_study("such as 95")
        self.claim.setFixedWidth(90)
        self.claim.setAccessibleName("claimed top-1 accuracy in percent")
        self.claim.editingFinished.connect(self._change_claim)
        self.verdict = label(soft=True, wrap=True)
        self.new = field_of_study("such as 95 % of all, or recall of CLASS 80 %, or every class at least 70 %")
        self.new.setAccessibleName("a new criterion")
        self.new.returnPressed.connect(self._add)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        line = row(label("claimed top-1, %"), self.claim, self.verdict)
        line.setStretch(2, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 14, 8, 12)
        self.title = label("Claim and criteria", "heading")
        self.take_over = button("", self._take_over, kind="quiet")
        tip(self.take_over, "Hold this model to the same claim and the same criteria")
        layout.addLayout(row(self.title, None, self.take_over))
        layout.addLayout(line)
        layout.addLayout(self._list)
        layout.addLayout(row(self.new, button("Add", self._add)))
        layout.addWidget(self.problem)
        self._late = Late(
            self,
            self.refresh,
            workspace.topics.measured,
            workspace.topics.contents,
            workspace.topics.busy,
            workspace.topics.criteria,
        )

    def refresh(self) -> None:
        contents = self.workspace.contents
        if contents is None:
            return
        if not (self.claim.hasFocus() and self.claim.isModified()):
            claim = contents.claims.get(self._model)
            self.claim.setText("" if claim is None else f"{100 * claim:g}")
        for one in (self.claim, self.new):
            one.setEnabled(not self.workspace.busy)
        self.verdict.setText(self._claim_in_words())
        self.title.setText(f"Claim and criteria of {words.clipped(contents.model_name(self._model), 40)}")
        others = self._others(contents)
        self.take_over.setVisible(bool(others))
        self.take_over.setEnabled(not self.workspace.busy)
        if others:
            self.take_over.setText(f"Copy the criteria of {words.clipped(contents.model_name(others[0]), 40)}")
        clear(self._list)
        for found in self.workspace.shown.results.criteria:
            self._list.addLayout(self._line(found.outcome))
            if found.more or found.outcome.problem:
                told = label(
                    found.more or f"{found.outcome.problem[:1].upper()}{found.outcome.problem[1:]}.",
                    soft=True,
                    wrap=True,
                )
                self._list.addLayout(row(24, told))

    @property
    def _model(self) -> int:
        return _model_id(self.workspace)

    def _others(self, contents: Contents) -> list[int]:
        """The other models with criteria, the latest first, where the one shown has none. What was claimed of a model is its own."""
        return [] if self._model in contents.criteria else sorted(contents.criteria, reverse=True)

    def _take_over(self) -> None:
        contents = self.workspace.contents
        others = self._others(contents) if contents is not None else []
        if contents is None or not others:
            return
        what = f"criteria of {contents.model_name(others[0])} copied"
        self.workspace.edits.take(study_edits.set_criteria(self._model, what, contents.criteria.get(others[0], ()), ()))

    def _claim_in_words(self) -> str:
        contents = self.workspace.contents
        claim = contents.claims.get(self._model) if contents is not None else None
        if claim is None:
            return "Enter what was claimed at training time, to test it against these images."
        measured = self.workspace.shown.results.measured
        top1 = measured.figures.top_k[1]
        if top1.value is None:
            return "Nothing measured yet."
        snapshot = self.workspace.shown.snapshot
        p = snapshot.judged.against_claim(claim, measured.among)
        units = snapshot.judged.units
        exact = f"score test over units of '{units.column}'" if units is not None else "score test"
        side = "below" if top1.value < claim else "above"
        if p < 0.05:
            return f"Measured {percent(top1.value)} (N = {top1.total}): significantly {side} the claim ({exact}, p {in_words(p)})."
        return f"Measured {percent(top1.value)} (N = {top1.total}): not significantly different from the claim ({exact}, p {in_words(p)})."

    def _line(self, found: RequirementOutcome) -> QVBoxLayout:
        classes = self.workspace.shown.classes
        figure = DASH
        if found.value is not None:
            figure = figure_in_words(parse_criterion(found.text, classes), replace(found, problem=""), classes)
        name = Elided(shown_text(found.text, classes))
        name.whole = f"{name.full_text}\nAs a formula: {_HASH.sub('', found.text)}"
        away = button("×", lambda: self._remove(found.text), kind="quiet")
        away.setAccessibleName(f"remove {found.text}")
        tip(away, "Remove this criterion")
        away.setEnabled(not self.workspace.busy)
        head = row(StateMark(STATES[found.verdict]), name, label(found.verdict), away)
        head.setStretch(1, 1)
        below: list[QWidget | int | None] = [24, label(figure, soft=True), None]
        if self.concluder is not None:
            add = button("add to findings", lambda: self._add_finding(found.text), kind="quiet")
            add.setAccessibleName(f"add {found.text} as a finding")
            tip(add, "Add this criterion as a finding, to be checked on every later model")
            below.append(add)
        lines = QVBoxLayout()
        lines.setSpacing(0)
        lines.addLayout(head)
        lines.addLayout(row(*below))
        return lines

    def _add_finding(self, text: str) -> None:
        if self.concluder is not None:
            self.concluder.add_criterion(text)

    def _change_claim(self) -> None:
        contents, text = self.workspace.contents, self.claim.text().strip().rstrip("%").replace(",", ".")
        if contents is None:
            return
        try:
            now = float(text) / 100 if text else None
            if now is not None and not 0 < now <= 1:
                raise ValueError
        except ValueError:
            self._notify("The claim is a percentage above 0 and up to 100.")
            return
        self._notify("")
        before = contents.claims.get(self._model)
        if self.claim.isModified() and now != before:
            self.claim.setModified(False)
            self.workspace.edits.take(study_edits.claim_accuracy(self._model, now, before))

    def _add(self) -> None:
        contents, text = self.workspace.contents, self.new.text().strip()
        if contents is None or not text or self.workspace.busy:
            return
        try:
            held = self.workspace.shown.held
            if held is not None:
                text = with_reference(text, reference_of(held.b.record))
            text = read_criterion(text, contents.classes)
            wanted = parse_criterion(text, contents.classes)
            if wanted.figure.startswith("top") and int(wanted.figure[3:]) > len(contents.classes):
                raise InputError(f"there are only {len(contents.classes)} classes", hint="ask for a smaller k")
        except InputError as error:
            self._notify(f"{error.what}. {error.hint[:1].upper()}{error.hint[1:]}.")
            return
        self._notify("")
        self.new.clear()
        before = contents.criteria.get(self._model, ())
        if text not in before:
            self.workspace.edits.take(study_edits.add_criterion(self._model, text, contents.classes, before))

    def _remove(self, text: str) -> None:
        contents = self.workspace.contents
        if contents is not None:
            before = contents.criteria.get(self._model, ())
            left = [one for one in before if one != text]
            what = f"criterion removed: {shown_text(text, contents.classes)}"
            self.workspace.edits.take(study_edits.set_criteria(self._model, what, left, before))

    def _notify(self, problem: str) -> None:
        self.problem.setText(problem)
        self.problem.setVisible(bool(problem))
        self.problem.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
