"""One image large for who reads blind: the photo, its label if it has one, and what this reader decides; no model's answer."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCompleter, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError
from mivrat.ui import words
from mivrat.ui.close_look.review_panel import ReviewPanel
from mivrat.ui.parts.picture_panel import PicturePanel, Zoom
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import Elided, Scrolled, button, clear, label, row, tip
from mivrat.ui.parts.wrapping import Flow
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.image_view import ImageView, look_at
from mivrat.workspace.reviewing import CLASS_KEYS, Reviewer
from mivrat.workspace.workspace import Workspace


class _WholePhoto(PicturePanel):
    """Takes the height that is left, so that the photo is seen whole."""

    def __init__(self) -> None:
        super().__init__("original")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(200)

    def hasHeightForWidth(self) -> bool:
        return False


class BlindLook(QWidget):
    """Takes the place of the close look while answers are hidden. An image without a label gets one by a single key, and the next one is
    shown; of one with a label it is asked whether that is right."""

    closed = Signal()
    answers_wanted = Signal()

    def __init__(self, workspace: Workspace, reviewer: Reviewer) -> None:
        super().__init__()
        self.setObjectName("closeLook")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.workspace, self.reviewer = workspace, reviewer
        self._workers = workspace.group(1)
        self._looking = LatestOnly(self._workers)
        self.look: ImageView | None = None
        self.zoom = Zoom()
        self.path, self.place = Elided(), label(soft=True)
        self.sentence = label("", "heading", wrap=True)
        self.photo = _WholePhoto()
        self.photo.share(self.zoom)
        self.review = ReviewPanel(workspace, reviewer)
        self.chips: list[QPushButton] = []
        self._flow = Flow(6)
        self.name = QLineEdit()
        self.name.setPlaceholderText("type the name of its class, then Enter")
        self.name.setAccessibleName("class of this image")
        self.name.returnPressed.connect(self._take_name)
        back = button("‹ light table", self.closed.emit, kind="quiet")
        tip(back, "Back to the thumbnails (Esc)")
        self.answers = button("show answers", self.answers_wanted.emit, kind="quiet")
        tip(self.answers, "Read blind no longer: what models answer and other readers have decided is shown again")
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(14, 4, 14, 12)
        inside.setSpacing(10)
        inside.addWidget(self.sentence)
        inside.addLayout(self._flow)
        inside.addWidget(self.name)
        inside.addWidget(self.photo, 1)
        inside.addWidget(self.review)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(4)
        top = row(6, back, self.path, self.place, self.answers, 6, spacing=4)
        top.setStretchFactor(self.path, 1)
        layout.addLayout(top)
        layout.addWidget(Scrolled(body), 1)
        workspace.topics.current.connect(self._follow)
        workspace.topics.reviews.connect(self._show_words)
        workspace.topics.run.connect(self._begin_anew)
        workspace.topics.left.connect(self._forget)

    def _forget(self) -> None:
        self._looking.cancel()
        self.look = None

    def _begin_anew(self) -> None:
        """Another run: its classes have keys of their own."""
        self._forget()
        clear(self._flow)
        self.chips = []
        self.name.clear()
        classes = self.workspace.shown.classes
        if len(classes) > len(CLASS_KEYS):
            completer = QCompleter(classes, self.name)
            completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            self.name.setCompleter(completer)
        else:
            for k, (key, name) in enumerate(zip(CLASS_KEYS, classes, strict=False)):
                chip = button(
                    f"{key}  {words.clipped(name, 24)}", partial(self.reviewer.label_and_go_on, k), kind="chip"
                )
                chip.setCheckable(True)
                tip(chip, f"Label: {name} (key {key}); then the next image")
                self._flow.addWidget(chip)
                self.chips.append(chip)

    # --- following the workspace ---

    @property
    def _image(self) -> int | None:
        return self.workspace.shown.focus.current if self.workspace.is_open else None

    def _follow(self) -> None:
        if not self.isVisible():
            return
        if self._image is None:
            self.closed.emit()
            return
        self.open()

    def open(self) -> None:
        """Show the workspace's current image."""
        image, shown = self._image, self.workspace.shown
        if image is None:
            return
        path = shown.record.image_set.items[image].path
        self.path.set_text("/".join(path.split("/")[-2:]))
        tip(self.path, path)
        self.place.setText(f"{shown.focus.position + 1} of {len(shown.images)}")
        self._show_words()
        if self.look is not None and self.look.image == image:
            return
        self._looking.cancel()
        self.look = None
        self.zoom.reset()
        self.photo.show_image(None, "…")
        record = shown.record
        self._looking.start(lambda work: look_at(record, image), done=self._looked, failed=self._unreadable)

    def _looked(self, look: ImageView) -> None:
        self.look = look
        height, width = look.place.picture
        self.photo.show_image(to_image(look.photo))
        self.photo.set_caption("original", "", f"{width} × {height} px")

    def _unreadable(self, error: InputError) -> None:
        self.photo.show_image(None, error.what)

    def _show_words(self) -> None:
        image, shown = self._image, self.workspace.shown
        if image is None:
            return
        labelled, decided = int(shown.judged.labels[image]), shown.reviews.decision(image)
        if labelled >= 0:
            asked = f"Labelled {shown.classes[labelled]}. Is that right?"
        else:
            asked = "Which class is it?"
        if decided is None or decided.label_is == "unsure":
            said = ""
        elif decided.label is not None:
            said = f" You said: {decided.label}."
        else:
            said = " You said: the label is wrong." if decided.label_is == "wrong" else " You said: it is."
        self.sentence.setText(asked + said)
        few = bool(self.chips)
        for k, chip in enumerate(self.chips):
            chip.setVisible(labelled < 0)
            chip.setChecked(shown.reviews[image].label == k)
        self.name.setVisible(labelled < 0 and not few)
        self.review.show_causes(labelled >= 0 or not few)

    # --- keys ---

    def _takes_letters(self) -> bool:
        """Whether a key is a class: the image has no label, and every class has a key."""
        image = self._image
        return image is not None and bool(self.chips) and self.workspace.shown.judged.labels[image] < 0

    def event(self, event: QEvent) -> bool:
        """Letters that are classes here are no commands of the window."""
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self._class_of(event) >= 0:
            event.accept()
            return True
        return super().event(event)

    def _class_of(self, event: QKeyEvent) -> int:
        plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        key = event.text().lower()
        if not plain or len(key) != 1 or not self._takes_letters() or self.focusWidget() not in (None, self):
            return -1
        found = CLASS_KEYS.find(key)
        return found if found < len(self.chips) else -1

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left.value: -1, Qt.Key.Key_Right.value: 1}
        found = self._class_of(event)
        if found >= 0:
            self.reviewer.label_and_go_on(found)
        elif event.key() in steps:
            self.workspace.shown.focus.step(steps[event.key()])
        elif event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.zoom.by(1.5 if event.key() == Qt.Key.Key_Plus else 1 / 1.5)
        elif event.key() == Qt.Key.Key_0:
            self.zoom.reset()
        else:
            super().keyPressEvent(event)

    def _take_name(self) -> None:
        typed, classes = self.name.text().strip().casefold(), self.workspace.shown.classes
        fitting = [k for k, name in enumerate(classes) if name.casefold() == typed]
        fitting = fitting or [k for k, name in enumerate(classes) if typed and name.casefold().startswith(typed)]
        if len(fitting) == 1:
            self.name.clear()
            self.reviewer.label_and_go_on(fitting[0])
        else:
            what = f"{len(fitting)} classes begin so" if fitting else "No class of the list is called so"
            self.workspace.notices.say(f"{what}: {self.name.text().strip() or 'type a name'}.")

    @property
    def settled(self) -> bool:
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
