"""Classes: labels paired with them by hand, their images in the set shown, and the families they belong to."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Mapping
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QListWidget,
    QListWidgetItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.classes import fold, natural_key
from mivrat.core.pictures.families import read_families
from mivrat.core.study.contents import Contents
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ask_to_open
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import button, clear, field_of_study, label, row, tip
from mivrat.workspace import study_edits
from mivrat.workspace.workspace import Workspace

KEY = Qt.ItemDataRole.UserRole


class ClassPage(Page, QWidget):
    """Two lists to pair labels with classes, where that is needed, above the table of classes."""

    title, place_id = "Classes", "classes"
    help = "Which name in the image set stands for which class of the model, and the families of classes."

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.pairing, self.table = Pairing(workspace), ClassFamilies(workspace)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 8, 8)
        layout.setSpacing(8)
        layout.addWidget(self.pairing, 1)
        layout.addWidget(self.table, 2)


class Pairing(QWidget):
    """Labels that no class goes by on the left, classes on the right, pairs made so far below."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.labels, self.classes = QListWidget(), QListWidget()
        self.labels.setAccessibleName("labels without a class")
        self.classes.setAccessibleName("classes, those without images first")
        self.search = field_of_study("find a class")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.pair = button("Match", self._pair, kind="primary")
        tip(self.pair, "Match the label on the left to the class on the right (Enter in either list)")
        self.aside = button("Not a class", self._put_aside)
        tip(self.aside, "Its images stay unlabelled: they are in no figure")
        for one in (self.labels, self.classes):
            one.itemActivated.connect(lambda _: self._pair())
            one.setMinimumHeight(90)
            one.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            one.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.labels.currentItemChanged.connect(lambda now, _: self._suggest(now))
        left, right = QVBoxLayout(), QVBoxLayout()
        self.count = label(soft=True)
        self.count.setMinimumHeight(30)
        left.addWidget(self.count)
        left.addWidget(self.labels, 1)
        right.addLayout(row(label("class", soft=True), self.search))
        right.addWidget(self.classes, 1)
        self._lists = QWidget()
        both = row(left, right, spacing=14)
        both.setStretch(0, 1)
        both.setStretch(1, 1)
        inner = QVBoxLayout(self._lists)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addLayout(both, 1)
        inner.addLayout(row(self.pair, self.aside, None))
        self._made = QVBoxLayout()
        self._made.setSpacing(2)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(label("Labels matched by hand", "heading"))
        layout.addWidget(self._lists, 1)
        layout.addLayout(self._made)
        self._late = Late(self, self.refresh, workspace.topics.contents, workspace.topics.busy)

    def refresh(self) -> None:
        contents = self.workspace.contents
        self.setVisible(contents is not None and bool(contents.unmatched or contents.pairing))
        if contents is None:
            return
        self._lists.setVisible(bool(contents.unmatched))
        self.count.setText(
            f"{len(contents.unmatched)} label{'' if len(contents.unmatched) == 1 else 's'} not in the class list, on "
            f"{words.images(sum(contents.unmatched.values()))}"
        )
        self.labels.clear()
        for name, images in sorted(contents.unmatched.items(), key=lambda one: natural_key(one[0])):
            item = QListWidgetItem(f"{name}   {words.count(images)}")
            item.setData(KEY, name)
            tip(item, f"{name}: {words.images(images)}")
            self.labels.addItem(item)
        if contents.unmatched:
            self._fill_classes(contents)
        for one in (self.pair, self.aside):
            one.setEnabled(not self.workspace.busy and bool(contents.unmatched))
        clear(self._made)
        for name, index in contents.pairing.items():
            meaning = f"means {contents.classes[index]}" if index is not None else "is not a class"
            undo = button("Undo", partial(self._unpair, name), kind="quiet")
            undo.setAccessibleName(f"undo: {name} {meaning}")
            undo.setEnabled(not self.workspace.busy)
            self._made.addLayout(row(label(f"{words.clipped(name, 40)}  {meaning}"), undo, None))
        if self.labels.count():
            self.labels.setCurrentRow(0)

    def _fill_classes(self, contents: Contents) -> None:
        used = {k for counts in contents.per_class.values() for k in counts}
        order = sorted(range(len(contents.classes)), key=lambda k: k in used)
        self.classes.clear()
        for k in order:
            item = QListWidgetItem(contents.classes[k] + ("" if k in used else "   no images"))
            item.setData(KEY, k)
            self.classes.addItem(item)
        self._filter(self.search.text())

    def _filter(self, text: str) -> None:
        wanted = fold(text)
        for i in range(self.classes.count()):
            item = self.classes.item(i)
            item.setHidden(wanted not in fold(item.text()))

    def _suggest(self, now: QListWidgetItem | None) -> None:
        """Put the likeliest class under the marker: the one whose name is most like the label's, if any is."""
        contents = self.workspace.contents
        if now is None or contents is None:
            return
        names = {fold(name): k for k, name in enumerate(contents.classes)}
        near = difflib.get_close_matches(fold(now.data(KEY)), names, n=1, cutoff=0.5)
        for i in range(self.classes.count()):
            if (near and self.classes.item(i).data(KEY) == names[near[0]]) or (not near and i == 0):
                self.classes.setCurrentRow(i)
                return

    def _decide(self, words_: str, change: Mapping[str, int | None], without: str = "") -> None:
        contents = self.workspace.contents
        if contents is not None and not self.workspace.busy:
            now = {**{k: v for k, v in contents.pairing.items() if k != without}, **change}
            self.workspace.edits.take(study_edits.pair_labels(words_, now, contents.pairing))

    def _pair(self) -> None:
        name, chosen = self.labels.currentItem(), self.classes.currentItem()
        if name is not None and chosen is not None and self.workspace.contents is not None:
            meaning = self.workspace.contents.classes[chosen.data(KEY)]
            self._decide(f"{name.data(KEY)} means {meaning}", {name.data(KEY): chosen.data(KEY)})

    def _put_aside(self) -> None:
        if (name := self.labels.currentItem()) is not None:
            self._decide(f"{name.data(KEY)} is not a class", {name.data(KEY): None})

    def _unpair(self, name: str) -> None:
        self._decide(f"{name} no longer matched", {}, name)


class ClassFamilies(QWidget):
    """Every class with its images in the set shown and its family, which can be typed or read from a table."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._filling = False
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("classes and their families")
        self.table.setHorizontalHeaderLabels(["class", "images", "family"])
        self.table.verticalHeader().setDefaultSectionSize(28)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setTabKeyNavigation(False)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        head = self.table.horizontalHeader()
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        head.setHighlightSections(False)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.itemChanged.connect(self._edited)
        self.family = field_of_study("family for the rows marked")
        self.family.returnPressed.connect(self.put_marked)
        self.put = button("Set the family", self.put_marked)
        tip(self.put, "Put the classes of the marked rows into this family; without a name, take them out of theirs")
        self.load = button("From a table…", self._choose)
        tip(self.load, "A CSV or TSV table with the columns class and family")
        self.note = label(soft=True, wrap=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(row(label("Classes in the model's order", "heading"), None, self.load))
        layout.addWidget(self.note)
        layout.addWidget(self.table, 1)
        layout.addLayout(row(self.family, self.put))
        self._late = Late(self, self.refresh, workspace.topics.contents, workspace.topics.run, workspace.topics.busy)

    def refresh(self) -> None:
        contents, snapshot = self.workspace.contents, self.workspace.shown.snapshot
        if contents is None:
            return
        counts = contents.per_class.get(snapshot.record.info.set_id, Counter())
        named = len(set(contents.families.values()))
        self.note.setText(
            f"{named} families over {len(contents.families)} of {len(contents.classes)} classes: accuracy within family "
            "is in the headline."
            if named
            else "Classes that are alike can be put into families; accuracy within family is then a figure too. Type a "
            "family into its column, or mark rows and name it below."
        )
        self._filling = True
        if (head := self.table.horizontalHeaderItem(1)) is not None:
            tip(head, f"labelled images in {snapshot.record.info.image_set}")
        self.table.setRowCount(len(contents.classes))
        self.table.setVerticalHeaderLabels([str(k) for k in range(len(contents.classes))])
        for k, name in enumerate(contents.classes):
            texts = (name, words.count(counts.get(k, 0)), contents.families.get(k, ""))
            for column, text in enumerate(texts):
                item = self.table.item(k, column)
                if item is None:
                    item = QTableWidgetItem()
                    if column < 2:
                        item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
                    if column == 1:
                        item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                    self.table.setItem(k, column, item)
                if item.text() != text:
                    item.setText(text)
        self._filling = False
        for widget in (self.put, self.load, self.family):
            widget.setEnabled(not self.workspace.busy)
        self.table.setEditTriggers(
            QAbstractItemView.EditTrigger.NoEditTriggers
            if self.workspace.busy
            else QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )

    def _decide(self, words_: str, now: Mapping[int, str]) -> None:
        contents = self.workspace.contents
        if contents is not None and now != contents.families:
            self.workspace.edits.take(study_edits.put_in_families(words_, now, contents.families))

    def _edited(self, item: QTableWidgetItem) -> None:
        if not self._filling and item.column() == 2:
            self._put([item.row()], item.text())

    def put_marked(self) -> None:
        """Put the classes of the marked rows into the family named below the table."""
        rows = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        if rows:
            self._put(rows, self.family.text())
            self.family.clear()

    def _put(self, rows: list[int], family: str) -> None:
        contents, family = self.workspace.contents, family.strip()
        if contents is None:
            return
        now = {k: name for k, name in contents.families.items() if k not in rows}
        if family:
            now |= dict.fromkeys(rows, family)
        what = contents.classes[rows[0]] if len(rows) == 1 else f"{len(rows)} classes"
        self._decide(f"{what} put into {family}" if family else f"{what} put into no family", dict(sorted(now.items())))

    def _choose(self) -> None:
        found = ask_to_open(self, "Choose a table of families", kinds="Tables (*.csv *.tsv)")
        if found is not None:
            self.read(found)

    def read(self, path: Path) -> None:
        """Take the families from a table with class and family (a short file: read at once)."""
        try:
            families = read_families(path, self.workspace.shown.classes)
        except InputError as error:
            self.workspace.notices.fail(error)
            return
        self._decide(f"families of {path.name}", families)
