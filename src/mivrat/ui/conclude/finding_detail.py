"""One finding in full: its words, its weight, its figures where it was found and where it is checked, its pictures."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtWidgets import QCheckBox, QLineEdit, QMenu, QVBoxLayout, QWidget

from mivrat.core.base.numbers import DASH
from mivrat.core.checks.result import in_words
from mivrat.core.concluding.checking import told_confirmed
from mivrat.core.concluding.findings import WEIGHTS, Checked, Finding
from mivrat.core.concluding.formatting import measure_told
from mivrat.core.selecting.kept import from_data
from mivrat.core.selecting.selection import Condition, Picked
from mivrat.ui import words
from mivrat.ui.measure.criteria import shown_text
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.thumb_strip import ThumbStrip
from mivrat.ui.parts.widgets import Choice, button, label, more_button, row, set_role, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.parts.writing import Writing
from mivrat.workspace.concluding import Concluder

RULE = (
    "gone: significantly less than where it was found, and no longer different from what it is compared with. Of a criterion: met\n"
    "weaker: significantly less, but still there\n"
    "holds: unchanged, or no significant change and still different from what it is compared with\n"
    "worse: significantly more\n"
    "inconclusive: the intervals allow either, the claim cannot be checked here, or the run is worse as a whole\n"
    "Changes by the 95 % interval of the difference (Newcombe). docs/findings.md says it in full."
)
ROLES = {"gone": "good", "weaker": "look", "holds": "problem", "worse": "problem", "inconclusive": "look"}
KINDS = {
    "criterion": "a criterion",
    "share": "a share in a selection, by rule",
    "cover": "a cover test",
    "difference": "a difference to another model",
    "labels": "labels found wrong by hand",
    "strain": "a strain test",
    "estimate": "an estimate from labels drawn by chance",
}
SIDE = 92


class FindingDetail(QWidget):
    """The finding chosen; what is changed here is kept at once and can be undone."""

    def __init__(self, concluder: Concluder, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.concluder, self.workspace = concluder, concluder.workspace
        self.finding: Finding | None = None
        self._chosen = -1
        self.title = QLineEdit()
        self.title.setAccessibleName("title of the finding")
        self.title.editingFinished.connect(self._keep_title)
        self.weight = Choice(WEIGHTS, "weight of the finding")
        tip(
            self.weight,
            "blocks: the model cannot be accepted with it · matters: to be known and corrected · note: for the record",
        )
        self.weight.activated.connect(lambda i: self._weigh(i))
        self.more = more_button("what to do with this finding", "Its images, its place in the list, aside, remove")
        self.menu = QMenu(self.more)
        self.more.setMenu(self.menu)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.sentence = Writing("what was found, in your words", "what was found, in a sentence or two")
        self.sentence.written.connect(lambda text: self._change("words of a finding", sentence=text))
        self.claim = label(soft=True, wrap=True)
        self.table = FigureTable(("", "where it was found", "checked"), (200, 200), "figures of the finding")
        self.why = label("", wrap=True)
        tip(self.why, RULE)
        self.confirm_button = button("Confirm on the other half", self._confirm, kind="small")
        tip(
            self.confirm_button,
            "Ask the same of the half of the images that you have not looked at. It was not chosen there, so its figures need no correction "
            "for what else was looked at. Halves are drawn under Prepare, before you look.",
        )
        self.pictures = ThumbStrip(self.workspace, thumbnails, SIDE, 1)
        self.pictures.setAccessibleName("pictures of the finding")
        self.pictures.chosen.connect(self._choose_picture)
        self.add_pictures = button("+ pictures from the light table", self._add_pictures, kind="small")
        tip(self.add_pictures, "The images marked there, or the one looked at")
        self.caption = QLineEdit()
        self.caption.setAccessibleName("caption of the picture")
        self.caption.setPlaceholderText("caption of this picture")
        self.caption.editingFinished.connect(self._keep_caption)
        self.heat = QCheckBox("with its heatmap")
        self.heat.clicked.connect(self._toggle_heat)
        self.remove_picture = button("Remove this picture", self._remove_picture, kind="small")
        self._one = QWidget()
        self._one.setLayout(row(self.caption, self.heat, self.remove_picture))
        self._lay_out()
        self.show_finding(None)

    def _lay_out(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 8, 12)
        layout.setSpacing(8)
        head = row(self.title, self.weight, self.more)
        head.setStretch(0, 1)
        layout.addLayout(head)
        self._confirming = _flow(self.confirm_button)
        for part in (self.sentence, self.claim, self._confirming, self.table, self.why, self.pictures, self._one):
            layout.addWidget(part)
        layout.addWidget(_flow(self.add_pictures))
        layout.addStretch(1)

    # --- showing ---

    def show_finding(self, finding: Finding | None) -> None:
        """Show a finding, or none."""
        if finding is None or self.finding is None or finding.id != self.finding.id:
            self._chosen = -1
        self.finding = finding
        self.setVisible(finding is not None)
        if finding is None:
            return
        if not (self.title.hasFocus() and self.title.isModified()):
            self.title.setText(finding.title)
            self.title.setCursorPosition(0)
        self.sentence.show_text(finding.sentence)
        self.weight.setCurrentIndex(WEIGHTS.index(finding.weight))
        self._show_figures(finding, self.concluder.checked.get(finding.id))
        self._show_pictures(finding)

    def _show_figures(self, finding: Finding, checked: Checked | None) -> None:
        made, before = finding.made, finding.before
        self.claim.setText(
            f"Claim: {KINDS[finding.claim.kind]}. Found on {made.model_name}, {made.images_name}, {made.day}"
            + (f", seed {made.seed}" if finding.claim.kind in ("cover", "strain") else "")
            + (f"; judged as the most striking of {made.looks} that could have been chosen" if made.looks > 1 else "")
            + (f"; {told_confirmed(finding)}" if finding.confirmed is not None else "")
            + ("; set aside, so it is neither checked nor reported." if finding.aside else ".")
        )
        self._confirming.setVisible(finding.claim.kind == "share" and made.looks > 1 and finding.confirmed is None)
        target = self.concluder.target
        heads = ("", f"{words.clipped(made.model_name, 16)}, found", f"{words.clipped(target.model, 16)}, checked")
        self.table.setHorizontalHeaderLabels(list(heads))
        after = checked.after if checked is not None else None
        lines = [
            (
                shown_text(before.words, self.workspace.shown.classes),
                measure_told(before),
                measure_told(after) if after is not None else "…",
            )
        ]
        beside = before.beside or (after.beside if after is not None else None)
        if beside is not None:
            lines.append(
                (
                    beside.name,
                    measure_told(before, beside=True),
                    measure_told(after, beside=True) if after is not None else "…",
                )
            )
        if before.p is not None:
            p = f"p {in_words(after.p)}" if after is not None and after.p is not None else DASH
            lines.append(("paired test", f"p {in_words(before.p)}", p))
        self.table.show_lines(lines, [f"{line[0]}\n{line[1]}\n{line[2]}" for line in lines])
        self.table.setFixedHeight(36 + 30 * len(lines))
        state = "" if finding.aside else "checking …" if checked is None else f"{checked.state}: {checked.why}"
        self.why.setText(f"{state[:1].upper()}{state[1:]}{'.' if checked is not None else ''}")
        set_role(self.why, ROLES.get(checked.state, "") if checked is not None else "")

    def _show_pictures(self, finding: Finding) -> None:
        names = self.workspace.shown.record.names
        places = [(i, names.position(one.image)) for i, one in enumerate(finding.pictures)]
        self._there = [(i, at) for i, at in places if at is not None]
        texts = [
            [self._told(at) + (" · heat" if finding.pictures[i].heat else "")]
            if not finding.pictures[i].caption
            else [finding.pictures[i].caption]
            for i, at in self._there
        ]
        self.pictures.show_images([at for _, at in self._there], texts)
        self.pictures.setVisible(bool(self._there))
        chosen = finding.pictures[self._chosen] if 0 <= self._chosen < len(finding.pictures) else None
        self._one.setVisible(chosen is not None)
        if chosen is not None:
            if not (self.caption.hasFocus() and self.caption.isModified()):
                self.caption.setText(chosen.caption)
            self.heat.setChecked(chosen.heat)

    def _told(self, at: int) -> str:
        judged, classes = self.workspace.shown.judged, self.workspace.shown.classes
        k, confidence = int(judged.predicted[at]), float(judged.confidence[at])
        if k < 0:
            return "no answer"
        return classes[k] if confidence != confidence else f"{classes[k]} {confidence:.2f}"

    # --- changing ---

    def _change(self, what: str, **parts: object) -> None:
        if self.finding is not None:
            self.concluder.change(self.finding.id, what, **parts)

    def _confirm(self) -> None:
        if self.finding is not None:
            self.concluder.confirm(self.finding.id)

    def _keep_title(self) -> None:
        text = self.title.text().strip()
        if self.title.isModified():
            self.title.setModified(False)
            if text and self.finding is not None and text != self.finding.title:
                self._change("title of a finding", title=text)
            elif self.finding is not None:
                self.title.setText(self.finding.title)

    def _weigh(self, index: int) -> None:
        if self.finding is not None and WEIGHTS[index] != self.finding.weight:
            self.concluder.weigh(self.finding.id, WEIGHTS[index])

    def _add_pictures(self) -> None:
        if self.finding is not None:
            self.concluder.add_pictures(self.finding.id)

    def _choose_picture(self, at: int) -> None:
        self._chosen = next((i for i, place in self._there if place == at), -1)
        self.workspace.shown.focus.look_at(at)
        if self.finding is not None:
            self._show_pictures(self.finding)

    def _change_picture(self, what: str, **parts: object) -> None:
        if self.finding is not None and 0 <= self._chosen < len(self.finding.pictures):
            some = list(self.finding.pictures)
            some[self._chosen] = replace(some[self._chosen], **parts)  # type: ignore[arg-type]
            self._change(what, pictures=tuple(some))

    def _keep_caption(self) -> None:
        if self.caption.isModified():
            self.caption.setModified(False)
            self._change_picture("caption", caption=self.caption.text().strip())

    def _toggle_heat(self) -> None:
        self._change_picture("picture with or without heat", heat=self.heat.isChecked())

    def _remove_picture(self) -> None:
        if self.finding is not None and 0 <= self._chosen < len(self.finding.pictures):
            left = tuple(one for i, one in enumerate(self.finding.pictures) if i != self._chosen)
            self._chosen = -1
            self._change("picture removed", pictures=left)

    # --- the menu ---

    def _fill_menu(self) -> None:
        self.menu.clear()
        one = self.finding
        if one is None:
            return
        entries = (
            ("Show its images", self.show_images),
            ("Up", lambda: self.concluder.move(one.id, -1)),
            ("Down", lambda: self.concluder.move(one.id, 1)),
            ("Take back in" if one.aside else "Put aside", self.put_aside),
            ("Check again", self.concluder.check_again),
            ("Remove", lambda: self.concluder.remove(one.id)),
        )
        for text, do in entries:
            self.menu.addAction(text).triggered.connect(lambda _=False, do=do: do())

    def put_aside(self) -> None:
        """Put the finding aside, or take it back in."""
        if self.finding is not None:
            aside = not self.finding.aside
            self._change("finding set aside" if aside else "finding taken back in", aside=aside)

    def show_images(self) -> None:
        """Select the images that the finding is of."""
        one, shown = self.finding, self.workspace.shown
        if one is None:
            return
        record = shown.record
        found: tuple[Condition, ...] = ()
        plan = self.concluder.plan_of(one) if one.claim.kind == "cover" else None
        if plan is not None:
            found = (Picked(f"finding, {words.clipped(one.title, 30)}", plan.images),)
        elif one.claim.kind == "labels":
            places = record.names.positions(image for image, _, _ in one.claim.labels)
            found = (Picked(f"finding, {words.clipped(one.title, 30)}", places),) if places else ()
        elif one.claim.conditions:
            try:
                found = tuple(
                    from_data(
                        dict(c),
                        record.classes,
                        record.image_set.items,
                        record.names,
                        shown.reviews,
                        measures=shown.measures,
                    )
                    for c in one.claim.conditions
                )
            except (KeyError, ValueError, TypeError):
                found = ()
        if found:
            shown.replace(*found)
        else:
            self.workspace.notices.say("This finding is of all images, or none of its images stand here.")


def _flow(*widgets: QWidget) -> QWidget:
    holder = QWidget()
    holder.setLayout(flowing(*widgets))
    return holder
