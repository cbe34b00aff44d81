"""The recipe editor: a picture before and after, the parts of the recipe as a form, hints, and adopting it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QShowEvent
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.numbers import percent
from mivrat.core.models.hints import Hint, model_hints
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.preview import Preview, preview
from mivrat.core.pictures.recipe import Recipe, read_recipe, recipe_to_toml
from mivrat.core.pictures.recipe_draft import RecipeDraft
from mivrat.ui.parts.file_dialogs import ALL_FILES, ask_to_open, ask_to_save, file_kinds, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.picture_panel import PicturePanel
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import Elided, Scrolled, button, clear, label, row, tip
from mivrat.ui.prepare.recipe_form import RecipeForm
from mivrat.ui.prepare.recipe_views import HEIGHT, OriginalView, ValueBars
from mivrat.workspace import study_edits
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

SHOWN_SIDE = 800
NO_RECIPE = (
    "This run takes its answers from a table of predictions made elsewhere. How the images were prepared there is not "
    "known, so this run has no recipe."
)


class RecipePage(Page, QWidget):
    """Edits the recipe of the run shown; what is edited takes effect when it is adopted, as a run of its own."""

    title, place_id = "Recipe", "recipe"
    help = "How pictures are prepared for the model, with one picture before and after."

    try_wanted = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._drafts: dict[tuple[str, str, str], RecipeDraft] = {}
        self._hints: dict[tuple[str, str, str], list[Hint]] = {}
        self._workers = self.workspace.group(1)
        self._preparing = LatestOnly(self._workers)
        self._build()
        self._late = Late(self, self.refresh, workspace.topics.run, workspace.topics.busy, workspace.topics.figures)
        workspace.topics.current.connect(self._prepare)
        workspace.topics.left.connect(self._leave)

    def _build(self) -> None:
        self.none = label(NO_RECIPE, soft=True, wrap=True)
        self.name = Elided()
        self.name.setProperty("soft", True)
        self.original, self.received = OriginalView(), PicturePanel()
        self.received.room = 0
        self.received.setFixedSize(HEIGHT + 20, HEIGHT)
        self.size_told = label(soft=True, wrap=True)
        self.received.crisp = True
        self.told = label(soft=True, wrap=True)
        self.bars = ValueBars()
        self.form = RecipeForm()
        self.form.edited.connect(self._edited)
        self.problem = label("", "problem", wrap=True)
        self.problem.hide()
        self.hints_box = QVBoxLayout()
        self.hints_box.setSpacing(2)
        self.adopt = button("Adopt this recipe", self._adopt, kind="primary")
        tip(self.adopt, "Add the model with this recipe as a run of its own; the present run stays")
        self.confirm = button("This is the recipe", self._confirm)
        tip(self.confirm, "The model was trained with this recipe: it is no longer called a guess")
        self.undo_button = button("Undo", self.undo)
        self.redo_button = button("Redo", self.redo)
        self.load, self.save = button("Load…", self._choose_load), button("Save…", self._choose_save)
        pictures = QGridLayout()
        pictures.setHorizontalSpacing(14)
        pictures.addWidget(label("original; frame: network input", soft=True, wrap=True), 0, 0)
        pictures.addWidget(self.size_told, 0, 1)
        pictures.addWidget(self.original, 1, 0, Qt.AlignmentFlag.AlignTop)
        pictures.addWidget(self.received, 1, 1)
        pictures.setColumnStretch(0, 1)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 4, 8, 8)
        inside.setSpacing(8)
        inside.addLayout(pictures)
        inside.addWidget(self.told)
        inside.addWidget(self.bars)
        inside.addSpacing(4)
        inside.addWidget(self.form)
        inside.addWidget(label("Hints from the model file", "heading"))
        inside.addLayout(self.hints_box)
        inside.addStretch(1)
        self.area = Scrolled(body)
        self.foot = QWidget()
        foot = QVBoxLayout(self.foot)
        foot.setContentsMargins(0, 4, 0, 8)
        foot.addWidget(self.problem)
        foot.addLayout(row(self.adopt, self.confirm, self.undo_button, self.redo_button, None, self.load, self.save))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(self.none)
        layout.addWidget(self.name)
        layout.addWidget(self.area, 1)
        layout.addWidget(self.foot)

    def _leave(self) -> None:
        """Drafts end with the study; what was not adopted was not decided."""
        self._drafts.clear()
        self._hints.clear()
        self._no_picture("")

    @property
    def draft(self) -> RecipeDraft | None:
        """What is being edited for the model shown."""
        snapshot = self.workspace.shown.snapshot
        if not snapshot.record.kind.can.scores:
            return None
        return self._drafts.setdefault(snapshot.record.model_key, RecipeDraft(snapshot.record.recipe))

    def refresh(self) -> None:
        """Show the draft of the model shown, and what it makes of the picture."""
        draft = self.draft
        self.none.setVisible(draft is None)
        for part in (self.area, self.foot, self.name):
            part.setVisible(draft is not None)
        if draft is None:
            return
        self.form.show_recipe(draft.recipe)
        changed = draft.recipe != self.workspace.shown.snapshot.record.recipe
        self.adopt.setEnabled(changed and not self.workspace.busy)
        self.confirm.setVisible(self.workspace.shown.record.recipe_is_guess and not changed)
        self.confirm.setEnabled(not self.workspace.busy)
        self.undo_button.setEnabled(draft.can_undo)
        self.redo_button.setEnabled(draft.can_redo)
        self._show_problem("")
        self._prepare()
        self._show_hints()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def _show_problem(self, text: str) -> None:
        self.problem.setText(text)
        self.problem.setVisible(bool(text))

    # --- the picture ---

    def _image(self) -> int | None:
        shown = self.workspace.shown.images
        return (
            self.workspace.shown.focus.current
            if self.workspace.shown.focus.current is not None
            else int(shown[0])
            if len(shown)
            else None
        )

    def _prepare(self) -> None:
        draft, image, snapshot = self.draft, self._image(), self.workspace.shown.snapshot
        if draft is None or not self.isVisible():
            return
        self._preparing.cancel()
        if image is None:
            self._no_picture("No image is shown in the light table.")
            return
        path, recipe = snapshot.record.image_set.file(image), draft.recipe
        self.name.set_text(f"{path.name}; another one: choose it in the light table")
        self._preparing.start(
            lambda work: preview(path, recipe, SHOWN_SIDE),
            done=lambda made: self._prepared(made, recipe),
            failed=lambda error: self._no_picture(error.what),
        )

    def _no_picture(self, message: str) -> None:
        self.original.show_picture(None, None, QColor(), message)
        self.received.show_image(None, message)
        self.bars.show_channels([])
        self.told.setText("")

    def _prepared(self, made: Preview, recipe: Recipe) -> None:
        pad = (recipe.resize.pad_value * 3)[:3]
        if recipe.picture.mode == "BGR":
            pad = pad[::-1]
        padding = QColor(*(int(min(255, max(0, round(v)))) for v in pad))
        self.original.show_picture(to_image(made.photo), made.place, padding)
        self.received.show_image(to_image(made.received))
        height, width = made.place.output
        order = "channels blue, green, red" if recipe.picture.mode == "BGR" else "before scaling values"
        self.size_told.setText(f"network input, {width} × {height}")
        tip(self.received, f"{width} × {height} px, {order}")
        self.told.setText(_geometry_in_words(made, recipe))
        self.bars.show_channels(made.channels)

    # --- hints ---

    def _show_hints(self) -> None:
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        record = snapshot.record
        key = record.model_key
        clear(self.hints_box)
        if key not in self._hints and not record.kind.can.gradients:
            told = f"{record.kind.called[:1].upper()}{record.kind.called[1:]} says nothing about preprocessing in its first operators or metadata."
            self._hints[key] = [Hint(told)]
        elif key not in self._hints:
            self._hints[key] = []
            self._workers.start(
                lambda work: model_hints(OnnxModel(record.model_path, record.recipe, len(record.classes))),
                done=lambda hints: self._hinted(key, hints),
                failed=lambda error: self._hinted(key, [Hint(error.line())]),
            )
        for hint in self._hints[key]:
            line = row(label(hint.sentence, soft=True, wrap=True))
            line.setStretch(0, 1)
            if hint.recipe is not None:
                take = button("Take over", partial(self.put, hint.recipe), kind="quiet")
                take.setAccessibleName(f"take over: {hint.sentence}")
                line.addWidget(take)
            self.hints_box.addLayout(line)

    def _hinted(self, key: tuple[str, str, str], hints: list[Hint]) -> None:
        self._hints[key] = hints
        self._show_hints()

    # --- editing ---

    def _edited(self, part: str, entries: dict[str, object]) -> None:
        draft = self.draft
        if draft is None:
            return
        try:
            if part == "mode":
                draft.set_mode(str(entries["mode"]))
            elif part == "range":
                draft.set_values(entries["values"])  # type: ignore[arg-type]
            else:
                draft.edit(part, **entries)
        except InputError as error:
            self._show_problem(error.what)
            return
        self.refresh()

    def put(self, recipe: Recipe) -> None:
        """Put a whole recipe in place of the draft's."""
        if (draft := self.draft) is not None:
            draft.put(recipe)
            self.refresh()

    def undo(self) -> bool:
        """Take the last edit back; False where there is none."""
        draft = self.draft
        if draft is None or not draft.can_undo:
            return False
        draft.undo()
        self.refresh()
        return True

    def redo(self) -> bool:
        draft = self.draft
        if draft is None or not draft.can_redo:
            return False
        draft.redo()
        self.refresh()
        return True

    def _choose_load(self) -> None:
        found = ask_to_open(self, "Load a recipe", kinds=file_kinds("Recipes (*.toml)", ALL_FILES))
        if found is not None:
            self.load_from(found)

    def load_from(self, path: Path) -> None:
        """Edit the recipe in a file from here on; the one before is an undo away."""
        try:
            self.put(read_recipe(path))
        except InputError as error:
            self._show_problem(error.line())

    def _choose_save(self) -> None:
        place = folder_to_save_in(self.workspace.study_path) / "recipe.toml"
        found = ask_to_save(self, "Save the recipe", place, "Recipes (*.toml)")
        if found is not None:
            self.save_to(found)

    def save_to(self, path: Path) -> None:
        """Write the draft to a file."""
        if (draft := self.draft) is not None:
            try:
                write_whole(path, recipe_to_toml(draft.recipe))
            except InputError as error:
                self._show_problem(error.line())

    def _adopt(self) -> None:
        snapshot, draft = self.workspace.shown.snapshot, self.draft
        if draft is None:
            return
        record = snapshot.record
        self.workspace.edits.take(
            study_edits.add_run("recipe adopted", record.model_path, record.info.set_id, draft.recipe)
        )
        self._drafts.pop(record.model_key)
        self.try_wanted.emit()

    def _confirm(self) -> None:
        info = self.workspace.shown.record.info
        self.workspace.edits.take(study_edits.confirm_recipe(info.model_id, info.model))

    @property
    def settled(self) -> bool:
        """Whether nothing is still being worked out."""
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()


def _geometry_in_words(made: Preview, recipe: Recipe) -> str:
    place = made.place
    (height, width), resized, output = place.picture, place.resized, place.output
    parts = [f"{width} × {height} px"]
    if resized != place.picture:
        how = recipe.resize.filter + (
            "" if recipe.resize.antialias or recipe.resize.filter == "nearest" else ", not antialiased"
        )
        parts.append(f"resized to {resized[1]} × {resized[0]} ({how})")
    stretch = (resized[1] / width) / (resized[0] / height)
    if abs(stretch - 1) > 0.02:
        parts[-1] += f", stretched {max(stretch, 1 / stretch):.2f} times " + ("sideways" if stretch > 1 else "upwards")
    if output != resized or place.offset != (0, 0):
        parts.append(f"{output[1]} × {output[0]} taken")
    sentence = ", ".join(parts)
    return f"{sentence}. " + (
        f"{percent(made.lost, 0)} of the picture is not seen." if made.lost > 0.004 else "All of it is seen."
    )
