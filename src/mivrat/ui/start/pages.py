"""The page that sets up a new study, and the one that asks before anything is read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent
from PySide6.QtWidgets import QGridLayout, QLineEdit, QVBoxLayout, QWidget

from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.text import quoted
from mivrat.core.models.kinds import load_model, model_endings
from mivrat.core.models.service.description import is_address, is_description
from mivrat.core.models.service.places import place_of
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.containers import ARCHIVE_ENDINGS
from mivrat.core.pictures.crop_warning import cropping_remark
from mivrat.core.pictures.image_sets import (
    PICTURE_ENDINGS,
    TABLE_ENDINGS,
    labels_do_not_match,
    list_images,
    match_labels,
)
from mivrat.core.pictures.recipe import Recipe, read_recipe
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ALL_FILES, ask_for_folder, ask_to_open, ask_to_save, file_kinds
from mivrat.ui.parts.loop import Debouncer
from mivrat.ui.parts.widgets import Elided, button, label, row, set_role, tip
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.study_jobs import FEW, Asking, NewStudy
from mivrat.workspace.workspace import Workspace


@dataclass(frozen=True)
class Fits:
    """What was found of inputs that go together, in words, and a warning where there is one."""

    found: str
    warning: str = ""


def check_inputs(new: NewStudy) -> Fits:
    """Read everything a new study needs and say what was found (slow: call it in a worker). Raises InputError for what cannot be used."""
    classes = read_class_list(new.classes)
    model = load_model(place_of(new.model), classes, read_recipe(new.recipe) if new.recipe else None)
    matched = match_labels(list_images(new.images), classes)
    items = matched.image_set.items
    if new.study.exists():
        raise InputError("exists already", where=new.study, hint="choose another name, or open it from the start page")
    if not model.kind.can.scores:
        model.looked_up(matched.image_set)
    if matched.unknown and len(matched.unused) == len(classes):
        raise labels_do_not_match(matched, new.images)
    labelled = sum(item.label is not None for item in items)
    counted = "all labelled" if labelled == len(items) else f"{words.count(labelled)} of them labelled"
    parts = [f"{words.count(len(classes))} classes", f"{words.images(len(items))}, {counted}", *model.remarks]
    if (remote := remote_of(model)) is not None:
        parts.append(remote.in_words)
    if matched.unknown:
        parts.append(
            f"not in the class list: {quoted(sorted(matched.unknown), 6)}; match these labels by hand under Prepare"
        )
    found = ". ".join(f"{part[:1].upper()}{part[1:]}" if i else part for i, part in enumerate(parts))
    files = matched.image_set.files()
    return Fits(found, cropping_remark(files, model.recipe, model.recipe_is_guess) if model.kind.can.scores else "")


class AskPage(QWidget):
    """Asks before a study that was made elsewhere may read from the folders it names."""

    allowed = Signal(object)
    refused = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._asking: Asking | None = None
        self.title = Elided()
        set_role(self.title, "title")
        self.places = label(wrap=True)
        self.places.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.yes = button("Allow it to read these folders", self._allow)
        self.no = button("Do not open it", self.refused.emit, kind="primary")
        inner = QVBoxLayout()
        inner.setSpacing(16)
        inner.addWidget(self.title)
        inner.addWidget(
            label(
                "This study reads models and images from folders outside its own that you have not chosen in Mivrat before. "
                "If you did not make this study yourself, check that you expect these:",
                wrap=True,
            )
        )
        inner.addWidget(self.places)
        inner.addWidget(
            label("Files are only read, never run or changed. Your answer is remembered.", soft=True, wrap=True)
        )
        inner.addLayout(row(self.no, self.yes, None))
        holder = QWidget()
        holder.setLayout(inner)
        holder.setFixedWidth(720)
        outer = QVBoxLayout(self)
        outer.addStretch(1)
        outer.addLayout(row(None, holder, None))
        outer.addStretch(2)

    def show_places(self, asking: Asking) -> None:
        self._asking = asking
        self.title.set_text(asking.path.stem)
        shown = [str(one) for one in asking.places[:12]]
        more = len(asking.places) - len(shown)
        self.places.setText("\n".join([*shown, *([f"and {more} more"] if more else [])]))

    def _allow(self) -> None:
        if self._asking is not None:
            self.allowed.emit(self._asking)


class _PathEdit(QLineEdit):
    """Takes a dropped file as its path; several go to the page, which finds the field of each."""

    def __init__(self, field: _PathField) -> None:
        super().__init__()
        self._field = field

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()
        else:
            super().dragEnterEvent(event)

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()
        else:
            super().dragMoveEvent(event)

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if not event.mimeData().hasUrls():
            super().dropEvent(event)
        elif len(paths) == 1:
            self._field.set_path(paths[0])
            event.acceptProposedAction()
        elif paths:
            self._field.several_dropped.emit(paths)
            event.acceptProposedAction()


class _PathField(QWidget):
    """A path with a button to choose it."""

    changed = Signal()
    settled = Signal()
    several_dropped = Signal(object)

    def __init__(self, title: str, hint: str, kind: str, pattern: str = "") -> None:
        super().__init__()
        self.title, self._kind, self._pattern = title, kind, pattern
        self.edit = _PathEdit(self)
        self.edit.setPlaceholderText(hint)
        self.edit.setAccessibleName(title)
        self.touched = False
        self.edit.textChanged.connect(lambda: self.changed.emit())
        self.edit.textEdited.connect(lambda _: setattr(self, "touched", True))
        self.edit.editingFinished.connect(lambda: self.settled.emit())
        choose = button("Choose…", self._choose)
        choose.setAccessibleName(f"choose {title}")
        parts: list[QWidget] = [self.edit, choose]
        if kind == "images":
            parts.append(button("File…", self._choose_file))
        self.setLayout(row(*parts))

    @property
    def named(self) -> Path | str | None:
        """What is named: the address of a service as it is written, else a path."""
        text = self.edit.text().strip()
        return text if is_address(text) else self.path

    @property
    def path(self) -> Path | None:
        text = self.edit.text().strip()
        return Path(text).expanduser() if text else None

    def set_path(self, path: Path) -> None:
        """Put a path in whole, as choosing or dropping it does."""
        self.edit.setText(str(path))
        self.settled.emit()

    def _choose(self) -> None:
        start = self.path or Path.home()
        if self._kind == "images":
            found = ask_for_folder(self, f"Choose the {self.title}", start)
        elif self._kind == "save":
            found = ask_to_save(self, "Keep the study as", start, self._pattern)
        else:
            found = ask_to_open(self, f"Choose the {self.title}", start, self._pattern)
        if found is not None:
            self.set_path(found)

    def _choose_file(self) -> None:
        found = ask_to_open(self, "Choose a table or archive of images, or one picture", self.path, words.IMAGE_FILES)
        if found is not None:
            self.set_path(found)


class NewStudyPage(QWidget):
    """Asks for model, class list, recipe and images; says at once, next to the form, whether they fit together."""

    start_wanted = Signal(NewStudy)
    service_wanted = Signal()
    cancelled = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAcceptDrops(True)
        self._workspace = workspace
        self._workers = workspace.parallel.group(1)
        self._checking = LatestOnly(self._workers)
        self._proposed: Path | None = None
        self.model = _PathField(
            "model",
            "an ONNX file, a table of predictions, or the address of a service",
            "open",
            file_kinds(words.MODEL_FILES, ALL_FILES),
        )
        self.service = button("Service…", self.service_wanted.emit)
        tip(self.service, "Describe a prediction service, and try one image on it")
        self.model.layout().addWidget(self.service)  # type: ignore[union-attr]
        self.classes = _PathField(
            "class list",
            "class names in the model's order, one a line",
            "open",
            file_kinds("Class lists (*.txt *.json)", ALL_FILES),
        )
        self.recipe = _PathField(
            "recipe",
            "how images are prepared (TOML); left empty, it is guessed from the model",
            "open",
            file_kinds("Recipes (*.toml)", ALL_FILES),
        )
        self.images = _PathField("images", "a folder with one folder per class, a table, or one picture", "images")
        self.study = _PathField("study", "where to keep the study", "save", "Studies (*.mivrat)")
        self.fields = (self.model, self.classes, self.recipe, self.images, self.study)
        grid = QGridLayout()
        grid.setVerticalSpacing(12)
        grid.setHorizontalSpacing(16)
        for i, field in enumerate(self.fields):
            name = field.title if field is not self.recipe else "recipe, if you have it"
            grid.addWidget(label(name), i, 0, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(field, i, 1)
            field.changed.connect(self._changed)
            field.several_dropped.connect(self.drop)
        self.images.settled.connect(self._propose_study)
        self.message = label(wrap=True)
        self.message.setMinimumHeight(64)
        self.message.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.start = button("Start the run", self._start, kind="primary")
        self.few = button(f"Try {FEW} images first", lambda: self._start(few=True))
        tip(self.few, "Score a few randomly sampled images and look at them before the full run")
        inner = QVBoxLayout()
        inner.setSpacing(16)
        inner.addWidget(label("New study", "title"))
        inner.addWidget(
            label(
                "Files stay where they are; the study remembers where. Files dropped on this page find their field.",
                soft=True,
                wrap=True,
            )
        )
        inner.addLayout(grid)
        inner.addWidget(self.message)
        inner.addLayout(row(self.start, self.few, button("Cancel", self._cancel), None))
        holder = QWidget()
        holder.setLayout(inner)
        holder.setFixedWidth(820)
        outer = QVBoxLayout(self)
        outer.addStretch(1)
        outer.addLayout(row(None, holder, None))
        outer.addStretch(2)
        self._soon = Debouncer(300, self._check)
        self._changed()

    def _propose_study(self) -> None:
        """Propose where to keep the study once the images have been named; what the user wrote, or took away, stays so."""
        images, proposed = self.images.path, self.study.path
        if images is None or self.study.touched or not images.exists() or not images.resolve().name:
            return
        if proposed is None or proposed == self._proposed:
            self._proposed = images.parent / f"{images.resolve().stem}.mivrat"
            self.study.set_path(self._proposed)

    def begin_anew(self) -> None:
        """Empty every field: the next study has nothing of the one before."""
        self._proposed = None
        for field in self.fields:
            field.edit.clear()
            field.touched = False

    def drop(self, paths: Sequence[Path]) -> None:
        """Put files into the fields they are for."""
        for path in paths:
            ending = path.suffix.lower()
            if path.is_dir() or ending in TABLE_ENDINGS | PICTURE_ENDINGS | ARCHIVE_ENDINGS:
                self.images.set_path(path)
            elif ending == ".toml" and not is_description(path):
                self.recipe.set_path(path)
            elif ending in model_endings(scoring=True):
                self.model.set_path(path)
            elif ending in (".txt", ".json"):
                self.classes.set_path(path)

    def wanted(self) -> NewStudy | None:
        model, classes, images, study = self.model.named, self.classes.path, self.images.path, self.study.path
        if model is None or classes is None or images is None or study is None:
            return None
        return NewStudy(
            model,
            classes,
            self.recipe.path,
            images,
            study if study.suffix == ".mivrat" else study.with_name(study.name + ".mivrat"),
        )

    def _enable(self, on: bool) -> None:
        self.start.setEnabled(on)
        self.few.setEnabled(on)

    def _changed(self) -> None:
        self._enable(False)
        self._checking.cancel()
        missing = [field.title for field in (self.model, self.classes, self.images, self.study) if field.path is None]
        set_role(self.message, "")
        self.message.setText(f"Still needed: {', '.join(missing)}." if missing else self._reading())
        if not missing:
            self._soon.start()

    def _reading(self) -> str:
        """That the files are read, the largest by name: it is what takes the time."""
        paths = [path for field in self.fields if (path := field.path) is not None and path.is_file()]
        largest = max(paths, key=lambda path: path.stat().st_size, default=None)
        size = largest.stat().st_size / 1e6 if largest is not None else 0
        return f"Reading {largest.name} ({size:.0f} MB) …" if largest is not None and size >= 1 else "Reading …"

    def _check(self) -> None:
        new = self.wanted()
        if new is not None:
            self._checking.start(lambda work: check_inputs(new), done=self._fits, failed=self._misfit)

    def _fits(self, fits: Fits) -> None:
        set_role(self.message, "look" if fits.warning else "good")
        warning = f"\n{fits.warning[:1].upper()}{fits.warning[1:]}." if fits.warning else ""
        self.message.setText(f"These fit together: {fits.found}.{warning}")
        self._enable(True)

    def _misfit(self, error: InputError) -> None:
        self.show_misfit(error)
        if isinstance(error, NotAgreed):
            self._workspace.notices.asked.emit(error, self._check)

    def show_misfit(self, error: InputError) -> None:
        set_role(self.message, "look" if isinstance(error, NotAgreed) else "problem")
        asked = "Nothing has been sent yet: agree to the host below first."
        self.message.setText(asked if isinstance(error, NotAgreed) else error.line())

    def classes_named(self) -> list[str]:
        """The classes of the list named. Raises InputError where there is none."""
        if self.classes.path is None:
            raise InputError("no class list has been named", hint="name it on the page before, then try again")
        return read_class_list(self.classes.path)

    def recipe_named(self) -> Recipe | None:
        """The recipe named; None without one. Raises InputError."""
        return read_recipe(self.recipe.path) if self.recipe.path is not None else None

    def first_image(self) -> Path | None:
        """An image to try, where images have been named (slow: call it in a worker)."""
        if self.images.path is None:
            return None
        found = match_labels(list_images(self.images.path), []).image_set
        return found.file(0) if found.items else None

    def _cancel(self) -> None:
        self.begin_anew()
        self.cancelled.emit()

    def _start(self, few: bool = False) -> None:
        new = self.wanted()
        if new is not None and self.start.isEnabled():
            self.start_wanted.emit(replace(new, few=few))

    def stop(self) -> None:
        self._soon.stop()
        self._workers.stop_all()
