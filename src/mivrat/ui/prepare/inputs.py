"""The inputs of a study: its models, its image sets with their roles, and the runs of one on the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.models.kinds import model_endings
from mivrat.core.models.service.agreement import is_agreed_at, withdraw
from mivrat.core.models.service.places import address_in
from mivrat.core.pictures.image_sets import ROLES, Role
from mivrat.core.study.contents import Contents
from mivrat.core.study.records import ModelInfo, SetInfo
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ALL_FILES, ask_for_folder, ask_to_open, file_kinds
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.widgets import (
    Choice,
    Elided,
    Scrolled,
    Waiting,
    button,
    clear,
    label,
    offer_by_right_click,
    row,
    set_role,
    spin,
    tip,
)
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.theme import theme
from mivrat.workspace import study_edits
from mivrat.workspace.workspace import Workspace

INDEPENDENT = "none: independent"
MEANINGS: dict[Role, str] = {
    "held-out": "Held-out: images the model has never seen; they are scored and measured.",
    "training": "Training: only for checks, such as whether held-out images are also in them.",
    "reference": "Reference: one typical picture per class, shown in the close look.",
}


class InputsPage(Page, Scrolled):
    """Lists models, image sets and runs; everything it changes can be taken back."""

    title, place_id = "Inputs", "inputs"
    help = "The models and image sets of this study, and which runs of one on the other there are."

    run_wanted = Signal(int)
    pairs_wanted = Signal()
    service_wanted = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._drawing_from: int | None = None
        self._renaming: tuple[type, int] | None = None
        body = self._body = QWidget()
        self._list = QVBoxLayout(body)
        self._list.setContentsMargins(0, 8, 8, 16)
        self._list.setSpacing(4)
        self.setWidget(body)
        self._waiting, self._focused = Waiting(self), ""
        self._back = self.workspace.soon(0, self._focus_again)
        self._late = Late(
            self, self.refresh, workspace.topics.contents, workspace.topics.busy, workspace.topics.run, theme.changed
        )

    def refresh(self) -> None:
        """Make the lines anew; what has the focus gets it back once it can be used again."""
        had = QApplication.focusWidget()
        if had is not None and had.accessibleName() and self._body.isAncestorOf(had):
            self._focused = had.accessibleName()
            self._waiting.setFocus()
        self._fill()
        self._back.start()

    def _focus_again(self) -> None:
        if not self._waiting.hasFocus():
            self._focused = ""
            return
        for one in self._body.findChildren(QWidget):
            if one.accessibleName() == self._focused and one.isEnabled() and not one.isHidden():
                one.setFocus()

    def _fill(self) -> None:
        clear(self._list)
        contents = self.workspace.contents
        if contents is None:
            self._list.addWidget(label("Reading what the study holds …", soft=True))
            self._list.addStretch(1)
            return
        self._add_models(contents)
        self._list.addSpacing(16)
        self._add_sets(contents)
        self._list.addSpacing(16)
        self._add_runs(contents)
        self._list.addStretch(1)

    # --- models ---

    def _add_models(self, contents: Contents) -> None:
        add = button("Add a model…", self._choose_model)
        tip(add, "An ONNX file, or a table of predictions made elsewhere (path and one column per class, or predicted)")
        add.setEnabled(not self.workspace.busy)
        service = button("Add a service…", self.service_wanted.emit)
        tip(service, "A model that runs elsewhere: its address, or how it is asked")
        service.setEnabled(not self.workspace.busy)
        self._list.addLayout(row(label("Models", "heading"), None, service, add))
        for model in contents.models:
            lost = model.path in contents.missing
            entry = _Entry(contents.model_name(model.id), model.path)
            if not model.kind.can.scores:
                entry.describe(f"{model.kind.called} made elsewhere")
            else:
                guess = "; the recipe is a guess: see Recipe and Check" if model.recipe_is_guess else ""
                address = address_in(model.path) if model.kind.can.asked else ""
                host = address.partition("://")[2]
                what = f"{model.kind.called} at {host or 'an unknown host'}; " if model.kind.can.asked else ""
                entry.describe(f"{what}recipe {model.recipe.summary()}{guess}")
            if lost:
                entry.lack("The file is not there.", partial(self._choose_moved_model, model), not self.workspace.busy)
            offers: list[tuple[str, Callable[[], object]]] = [("Rename…", partial(self._start_renaming, model))]
            offers.append(("Remove", partial(self._remove_model, model)))
            if model.recipe_is_guess and model.kind.can.scores:
                offers.insert(0, ("This is the recipe", partial(self._confirm_recipe, model)))
            if model.kind.can.asked and address and is_agreed_at(address):
                offers.append((f"Ask me again before anything is sent to {host}", partial(self._withdraw, address)))
            entry.offer(offers, not self.workspace.busy)
            self._list.addWidget(entry)
            if self._renaming == (ModelInfo, model.id):
                self._list.addWidget(_NameForm(model.name, partial(self._rename, model), self._stop_renaming))

    def _start_renaming(self, one: ModelInfo | SetInfo) -> None:
        self._renaming = type(one), one.id
        self.refresh()
        for form in self.findChildren(_NameForm):
            form.name.setFocus()
            form.name.selectAll()

    def _stop_renaming(self) -> None:
        self._renaming = None
        self.refresh()

    def _rename(self, one: ModelInfo | SetInfo, name: str) -> None:
        self._renaming = None
        if not name or name == one.name:
            self.refresh()
        elif isinstance(one, ModelInfo):
            self.workspace.edits.take(study_edits.rename_model(one, name))
        else:
            self.workspace.edits.take(study_edits.rename_set(one, name))

    def _choose_model(self) -> None:
        found = ask_to_open(
            self,
            "Choose a model",
            self._folder(),
            file_kinds(words.MODEL_FILES, ALL_FILES),
        )
        if found is not None:
            self.add_model(found)

    def add_model(self, path: Path) -> None:
        """Add a model as a run on the set shown; a recipe in use in this study is taken where it fits."""
        snapshot = self.workspace.shown.snapshot
        usual = snapshot.record.recipe if snapshot.record.kind.can.scores else None
        self.workspace.allow(path.parent)
        edit = study_edits.add_model(path, snapshot.record.info.set_id, usual)
        self.workspace.edits.take(edit, then=lambda: self._describe_added(edit.words))

    def _describe_added(self, words_of_it: str) -> None:
        self.workspace.notices.say(f"{words_of_it}: Score or Show it below, under Runs. The run shown stays.")

    def _withdraw(self, address: str) -> None:
        withdraw(address)
        self.workspace.notices.say(f"Nothing more is sent to {address.partition('://')[2]} before you agree again.")
        self.refresh()

    def _confirm_recipe(self, model: ModelInfo) -> None:
        self.workspace.edits.take(study_edits.confirm_recipe(model.id, model.name))

    def _remove_model(self, model: ModelInfo) -> None:
        self.workspace.edits.take(study_edits.remove_model(model))

    def _choose_moved_model(self, model: ModelInfo) -> None:
        found = ask_to_open(self, f"Where is {model.path.name}?", self._folder())
        if found is not None:
            self.relocate_model(model, found)

    def relocate_model(self, model: ModelInfo, path: Path) -> None:
        self.workspace.allow(path.parent)
        self.workspace.edits.take(study_edits.relocate_model(model, path))

    # --- image sets ---

    def _add_sets(self, contents: Contents) -> None:
        add = QToolButton()
        add.setText("Add images…")
        add.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        add.setEnabled(not self.workspace.busy)
        menu = QMenu(add)
        for role in ROLES:
            for what in ("folder", "table or picture"):
                action = menu.addAction(f"{role} images: a {what}…")
                tip(action, MEANINGS[role])
                action.triggered.connect(lambda _=False, role=role, what=what: self._choose_images(role, what))
        menu.setToolTipsVisible(True)
        add.setMenu(menu)
        self._list.addLayout(row(label("Image sets", "heading"), None, add))
        if contents.unmatched:
            note = label(
                f"{words.images(sum(contents.unmatched.values()))} have a label that is not in the class list.",
                "look",
                wrap=True,
            )
            pair = button("Match labels to classes", self.pairs_wanted.emit)
            line = row(note, pair)
            line.setStretch(0, 1)
            self._list.addLayout(line)
        for one in sorted(contents.sets, key=lambda one: ROLES.index(one.role)):
            self._list.addWidget(self._set_entry(one, contents))
            if self._drawing_from == one.id:
                self._list.addWidget(_SubsetForm(one, self._draw, self._stop_drawing))
            if self._renaming == (SetInfo, one.id):
                self._list.addWidget(_NameForm(one.name, partial(self._rename, one), self._stop_renaming))

    def _set_entry(self, one: SetInfo, contents: Contents) -> QWidget:
        entry = _Entry(one.name, one.root)
        classes = len(contents.per_class.get(one.id, ()))
        told = f"{words.images(one.images)}, {words.count(one.labelled)} labelled, {classes} of {len(contents.classes)} classes"
        entry.describe(f"{told}; drawn: {one.drawn}" if one.drawn else told)
        role = Choice(ROLES, f"what {one.name} is used for")
        tip(role, "\n".join(MEANINGS.values()))
        role.setCurrentText(one.role)
        role.setEnabled(not self.workspace.busy)
        role.activated.connect(lambda i, one=one: self._change_role(one, ROLES[i]))
        entry.put(role)
        if one.columns and one.role == "held-out":
            entry.add_below(self._together_line(one))
        if one.root in contents.missing:
            entry.lack("The folder is not there.", partial(self._choose_moved_set, one), not self.workspace.busy)
        offers: list[tuple[str, Callable[[], object]]] = [
            ("Draw a subset…", partial(self._start_drawing, one)),
            ("Rename…", partial(self._start_renaming, one)),
            ("Relocate…", partial(self._choose_moved_set, one)),
            ("Remove", lambda: self.workspace.edits.take(study_edits.remove_set(one))),
        ]
        entry.offer(offers, not self.workspace.busy)
        return entry

    def _together_line(self, one: SetInfo) -> QHBoxLayout:
        """Which images are related, so that intervals and tests are over these units."""
        choice = Choice((INDEPENDENT, *one.columns), f"which images of {one.name} are related")
        tip(
            choice,
            "Images of one slide, patient or burst are not independent. Name the column that says which are related: every "
            "interval and test is then over whole units of it.",
        )
        choice.setCurrentText(one.unit_column or INDEPENDENT)
        choice.setEnabled(not self.workspace.busy)
        choice.activated.connect(lambda i, one=one: self._put_together(one, "" if i == 0 else one.columns[i - 1]))
        return row(label("related images share", soft=True), choice, None, spacing=8)

    def _put_together(self, one: SetInfo, column: str) -> None:
        if column != one.unit_column:
            self.workspace.edits.take(study_edits.put_together(one, column))

    def _choose_images(self, role: Role, what: str) -> None:
        if what == "folder":
            found = ask_for_folder(self, f"Choose {role} images", self._folder())
        else:
            found = ask_to_open(
                self, f"Choose a table or archive of {role} images, or one picture", self._folder(), words.IMAGE_FILES
            )
        if found is not None:
            self.add_images(found, role)

    def add_images(self, source: Path, role: Role) -> None:
        """Add a folder, a table or a picture as an image set."""
        self.workspace.allow(source if source.is_dir() else source.parent)
        self.workspace.edits.take(study_edits.add_images(source, role))

    def take_files(self, paths: Sequence[Path]) -> None:
        """Files dropped on the window: the first one is added as a model, or as held-out images."""
        if paths:
            if paths[0].suffix.lower() in model_endings(scoring=True):
                self.add_model(paths[0])
            else:
                self.add_images(paths[0], "held-out")

    def _change_role(self, one: SetInfo, role: Role) -> None:
        if role != one.role:
            self.workspace.edits.take(study_edits.change_role(one, role))

    def _choose_moved_set(self, one: SetInfo) -> None:
        found = ask_for_folder(self, f"Where are the images of {one.name}?", self._folder())
        if found is not None:
            self.relocate(one, found)

    def relocate(self, one: SetInfo, root: Path) -> None:
        """Look for a set's images in another folder."""
        self.workspace.allow(root)
        self.workspace.edits.take(study_edits.relocate_set(one, root))

    def _start_drawing(self, one: SetInfo) -> None:
        self._drawing_from = one.id
        self.refresh()
        for form in self.findChildren(_SubsetForm):
            form.number.setFocus()

    def _stop_drawing(self) -> None:
        self._drawing_from = None
        self.refresh()

    def _draw(self, one: SetInfo, number: int, seed: int, how: str) -> None:
        self._drawing_from = None
        if how == HALVES:
            self.workspace.edits.take(study_edits.draw_halves(one, seed))
        else:
            self.workspace.edits.take(study_edits.draw_subset(one, number, seed, how == OF_EACH_CLASS))

    # --- runs ---

    def _add_runs(self, contents: Contents) -> None:
        self._list.addWidget(label("Runs", "heading"))
        self._list.addWidget(label("Each model on each held-out set. Nothing is scored twice.", soft=True, wrap=True))
        shown = self.workspace.shown.snapshot.record.info.id
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(1)
        line = 0
        for one in contents.sets:
            if one.role != "held-out":
                continue
            for model in contents.models:
                state = contents.run_of(model.id, one.id)
                done = state is not None and state.answered >= state.listed
                told = (
                    f"{words.count(state.answered)} of {words.count(state.listed)}"
                    if state is not None
                    else "not begun"
                )
                if state is not None and state.info.id == shown:
                    act: QWidget = label("shown", soft=True)
                elif state is not None and not state.answered and model.kind.can.scores:
                    act = button("Score", partial(self._begin, model, one), kind="quiet")
                elif state is not None:
                    act = button("Show", partial(self.run_wanted.emit, state.info.id), kind="quiet")
                else:
                    act = button("Score", partial(self._begin, model, one), kind="quiet")
                act.setEnabled(not self.workspace.busy)
                act.setAccessibleName(f"{one.name}, {contents.model_name(model.id)}: {told}")
                for column, widget in enumerate((Elided(one.name), Elided(contents.model_name(model.id)))):
                    grid.addWidget(widget, line, column)
                grid.addWidget(label(told, soft=not done), line, 2, Qt.AlignmentFlag.AlignRight)
                grid.addWidget(act, line, 3, Qt.AlignmentFlag.AlignRight)
                grid.setRowMinimumHeight(line, 27)
                line += 1
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        self._list.addLayout(grid)

    def _begin(self, model: ModelInfo, one: SetInfo) -> None:
        recipe = model.recipe if model.kind.can.scores else None
        run = study_edits.add_run(f"{model.name} on {one.name} begun", model.path, one.id, recipe)
        self.workspace.edits.take(run, then=self.workspace.jobs.score)

    def _folder(self) -> Path:
        path = self.workspace.study_path
        return path.parent if path is not None else Path.home()


class _Entry(QFrame):
    """One model or image set: name, what there is to say of it, where it lies, and what can be done with it."""

    def __init__(self, name: str, place: Path) -> None:
        super().__init__()
        self.setObjectName("entry")
        self._name = name
        title = Elided(name)
        title.setStyleSheet("font-weight: 600;")
        self._told, self._place = label(soft=True), Elided(mode=Qt.TextElideMode.ElideLeft)
        self._place.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._place.whole = str(place)
        self._place.set_text(f"…/{'/'.join(place.parts[-2:])}" if len(place.parts) > 3 else str(place))
        self._place.setProperty("soft", True)
        self._head = row(title, spacing=6)
        self._head.setStretch(0, 1)
        self._body = QVBoxLayout(self)
        self._body.setContentsMargins(0, 6, 0, 6)
        self._body.setSpacing(1)
        self._body.addLayout(self._head)
        about = row(self._told, self._place, spacing=14)
        about.setStretch(1, 1)
        self._body.addLayout(about)
        self.setStyleSheet(f"#entry {{ border: none; border-bottom: 1px solid {theme.tokens.line}; }}")

    def describe(self, text: str) -> None:
        self._told.setText(text)

    def put(self, widget: QWidget) -> None:
        self._head.addWidget(widget)

    def add_below(self, line: QHBoxLayout) -> None:
        self._body.addLayout(line)

    def lack(self, text: str, relocate: Callable[[], object], enabled: bool) -> None:
        """Say that it is not where it was, and offer to look elsewhere."""
        note = label(text)
        set_role(note, "problem")
        act = button("Relocate…", relocate)
        act.setEnabled(enabled)
        self._body.addLayout(row(note, act, None))

    def offer(self, offers: list[tuple[str, Callable[[], object]]], enabled: bool) -> None:
        """What can be done with it, as a menu."""
        more = QToolButton()
        more.setText("⋯")
        more.setProperty("quiet", True)
        more.setAccessibleName(f"what to do with {self._name}")
        tip(more, ", ".join(text.rstrip("…").lower() for text, _ in offers).capitalize())
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setEnabled(enabled)
        menu = QMenu(more)
        for text, wanted in offers:
            menu.addAction(text).triggered.connect(lambda _=False, wanted=wanted: wanted())
        more.setMenu(menu)
        offer_by_right_click(more, self)
        self._head.addWidget(more)


OF_EACH_CLASS, HALVES = "images of each class", "as two halves"


class _NameForm(QFrame):
    """Asks for another name."""

    def __init__(self, name: str, rename: Callable[[str], object], cancel: Callable[[], object]) -> None:
        super().__init__()
        self.name = QLineEdit(name)
        self.name.setAccessibleName(f"another name for {name}")
        self.name.returnPressed.connect(lambda: rename(self.name.text().strip()))
        self.act = button("Rename", lambda: rename(self.name.text().strip()))
        layout = row(self.name, self.act, button("Cancel", cancel, kind="quiet"))
        layout.setContentsMargins(0, 0, 0, 8)
        self.setLayout(layout)


class _SubsetForm(QFrame):
    """Asks how many images to draw, by class or in all, or for two halves; and by which seed."""

    def __init__(
        self, one: SetInfo, draw: Callable[[SetInfo, int, int, str], object], cancel: Callable[[], object]
    ) -> None:
        super().__init__()
        self.number = spin(1, max(1, one.images), min(30, one.images), "how many images")
        self.seed = spin(0, 2**31 - 1, 0, "seed: the same one draws the same images again")
        self.seed.setMinimumWidth(60)
        self.each = Choice([OF_EACH_CLASS, "images in all", HALVES], "by class, in all, or as two halves")
        tip(self.each, "Two halves: look at one, and confirm on the other what you found (Conclude, Findings)")
        self.each.activated.connect(lambda _: self.number.setVisible(self.each.currentText() != HALVES))
        act = button("Draw", lambda: draw(one, self.number.value(), self.seed.value(), self.each.currentText()))
        self.act = act
        seed = QWidget()
        seed.setLayout(row(label("seed", soft=True), self.seed))
        layout = flowing(self.number, self.each, seed, act, button("Cancel", cancel, kind="quiet"), spacing=8)
        layout.setContentsMargins(16, 0, 0, 8)
        self.setLayout(layout)
