"""The page that describes a prediction service in a short form, and tries one image on it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.models.scores import guess_kind, to_probabilities
from mivrat.core.models.service.description import FORMAT, Description, description_from, read_description
from mivrat.core.models.service.keys import to_keyring
from mivrat.core.models.service.model import WORDS, ServiceModel, ServiceTrial
from mivrat.core.models.service.places import keep
from mivrat.core.pictures.decode import UnreadablePicture, read_file
from mivrat.core.pictures.recipe import Recipe
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ask_to_open
from mivrat.ui.parts.widgets import Choice, Elided, Scrolled, button, calm, label, row, set_role, spin, tip
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace

SENDS = {
    "open-inference": "the Open Inference Protocol",
    "json": "JSON with the image in it",
    "multipart": "a form with the image as a file",
    "body": "the image itself",
}
ENCODINGS = {
    None: "as the server asks for it",
    "jpeg": "JPEG",
    "png": "PNG",
    "original": "the file as it is",
    "tensor": "numbers, by the recipe",
}
ANSWERS = {"scores": "an array of scores, in class order", "pairs": "a list of classes with their scores"}
KINDS = {
    "auto": "told from the answers",
    "logits": "logits",
    "probabilities": "probabilities",
    "sigmoid": "one sigmoid",
}
MOST_RANKED = 5


class ServicePage(QWidget):
    """Asks where a service is and how it is asked; ``used`` tells of the description's file, ``left`` that none is wanted.

    ``for_images`` says what it is to answer for: the classes (which may raise InputError), the recipe, and a first image to try.
    """

    used = Signal(Path)
    left = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._workspace = workspace
        self._workers = workspace.parallel.group(1)
        self._trying = LatestOnly(self._workers)
        self._classes: Callable[[], Sequence[str]] = list
        self._recipe: Callable[[], Recipe | None] = lambda: None
        self.image: Path | None = None
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(8)
        self._grid.setColumnStretch(1, 1)
        self._make_fields()
        self._lay_out()
        self._follow()

    # --- fields ---

    def _make_fields(self) -> None:
        self.address = self._line("address", "https://host/v2/models/NAME, or any address that takes an image")
        self.sends, self.encoding = (
            self._choice(SENDS, "what is sent"),
            self._choice(ENCODINGS, "what the image is sent as"),
        )
        self.encoding.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.place = self._line("where the image goes", "/image")
        self.answers, self.pointer = (
            self._choice(ANSWERS, "what comes back"),
            self._line("where it is in the answer", "/scores"),
        )
        self.name, self.score = (
            self._line("the class in each entry", "/label"),
            self._line("the score in each entry", "/score"),
        )
        self.kind = self._choice(KINDS, "kind of scores")
        self.header, self.scheme = (
            self._line("header", "no key"),
            self._line("what stands before the key", "such as Bearer"),
        )
        self.environment = self._line("environment variable", "MIVRAT_SERVICE_KEY")
        self.key = self._line("the key itself", "kept in the desktop's keyring, nowhere else")
        self.key.setEchoMode(QLineEdit.EchoMode.Password)
        self.at_once, self.per_request = spin(1, 256, 4, "requests at once"), spin(1, 1024, 1, "images in one request")
        self.timeout = spin(1, 3600, 30, "seconds until a request must be answered")
        self.per_second = QDoubleSpinBox()
        self.per_second.setRange(0, 100_000)
        self.per_second.setDecimals(1)
        self.per_second.setSpecialValueText("no limit")
        self.per_second.setAccessibleName("requests a second; 0 for no limit")
        tip(self.per_second, "Requests a second at most; 0: as fast as they are answered")
        calm(self.per_second)
        self._row("Address", row(self.address))
        self._row("It takes", row(self.sends, None))
        image = row(label("as", soft=True), self.encoding, 10, label("at", soft=True), self.place)
        image.addStretch(0)  # for where the last field is not shown
        self.as_row = self._row("Image", image)
        self.answer_row = self._row("Answer", row(self.answers, label("at", soft=True), self.pointer))
        self.pair_row = self._row(
            "", row(label("class at", soft=True), self.name, label("score at", soft=True), self.score)
        )
        self.kind_row = self._row("Scores", row(self.kind, None))
        self._row("Key", row(label("header", soft=True), self.header, self.scheme))
        self.key_row = self._row("", row(label("from", soft=True), self.environment, label("or", soft=True), self.key))
        self._row(
            "Limits",
            row(self.at_once, label("at once", soft=True), 6, self.per_second, label("a second", soft=True), None),
        )
        self.batch_row: list[QWidget] = [self.per_request, label("images in one request", soft=True)]
        self._row("", row(self.timeout, label("s to answer", soft=True), 6, *self.batch_row, None))
        self.header.textChanged.connect(lambda _: self._follow())
        self.address.textChanged.connect(lambda _: self._address_typed())
        for choice in (self.sends, self.answers):
            choice.activated.connect(lambda _: self._follow())

    def _row(self, name: str, fields: QHBoxLayout) -> list[QWidget]:
        at = self._grid.rowCount()
        title = label(name, soft=True)
        self._grid.addWidget(title, at, 0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addLayout(fields, at, 1)
        shown = [title]
        for i in range(fields.count()):
            item = fields.itemAt(i)
            if item is not None and (widget := item.widget()) is not None:
                shown.append(widget)  # type: ignore[arg-type]
        return list(shown)

    @staticmethod
    def _line(name: str, hint: str) -> QLineEdit:
        made = QLineEdit()
        made.setPlaceholderText(hint)
        made.setAccessibleName(name)
        made.setMinimumWidth(56)
        tip(made, name)
        return made

    @staticmethod
    def _choice(entries: dict[str, str] | dict[str | None, str], name: str) -> Choice:
        made = Choice(name=name)
        for key, text in entries.items():
            made.addItem(text, key)
        return made

    def _lay_out(self) -> None:
        self.try_button = button("Try one image", self.try_one, kind="primary")
        self.other = button("Another image…", self._choose_image)
        self.picture = Elided()
        self.picture.setProperty("soft", True)
        self.message = label(wrap=True)
        self.ranked = label(wrap=True)
        self.request, self.answer = self._shown("what was sent"), self._shown("what came back")
        self.use = button("Use this service", self._use)
        self.cancel = button("Cancel", self.left.emit)
        form, trial = QVBoxLayout(), QVBoxLayout()
        for layout in (form, trial):
            layout.setSpacing(12)
        form.addLayout(self._grid)
        form.addStretch(1)
        trial.addLayout(row(self.try_button, self.other, self.picture))
        for part in (self.message, self.ranked):
            trial.addWidget(part)
        self.request_title, self.answer_title = label("Sent", "heading"), label("Came back", "heading")
        for title, shown in ((self.request_title, self.request), (self.answer_title, self.answer)):
            trial.addWidget(title)
            trial.addWidget(shown, 1)
        trial.addStretch(0)
        left, right = QWidget(), QWidget()
        left.setLayout(form)
        right.setLayout(trial)
        both = row(Scrolled(left), right, spacing=24)
        both.setStretch(0, 12)
        both.setStretch(1, 10)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(32, 28, 32, 20)
        outer.setSpacing(14)
        outer.addWidget(label("Prediction service", "title"))
        outer.addWidget(
            label(
                "A model that runs elsewhere. No image is sent before you have agreed to the host; keys are kept out of the study.",
                soft=True,
                wrap=True,
            )
        )
        outer.addLayout(both, 1)
        outer.addLayout(row(self.use, self.cancel, None))
        self._show_trial(None)

    @staticmethod
    def _shown(name: str) -> QPlainTextEdit:
        made = QPlainTextEdit()
        made.setReadOnly(True)
        made.setTabChangesFocus(True)
        made.setAccessibleName(name)
        made.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
        return made

    def _address_typed(self) -> None:
        """Take an address of the open protocol for what it is, until something else is chosen."""
        if "/v2/models/" in self.address.text():
            self.sends.setCurrentIndex(0)
        elif self.sends.currentIndex() == 0 and self.address.text().count("/") > 2:
            self.sends.setCurrentIndex(1)
        self._follow()

    def _follow(self) -> None:
        """Show what the choices made leave to be said."""
        sends, pairs = self.sends.currentData(), self.answers.currentData() == "pairs"
        described, key = sends != "open-inference", bool(self.header.text().strip())
        for widget in (*self.answer_row, *self.kind_row):
            widget.setVisible(described)
        for widget in self.pair_row:
            widget.setVisible(described and pairs)
        for widget in self.batch_row:
            widget.setVisible(not described)
        for widget in (*self.key_row, self.scheme):
            widget.setVisible(key)
        for widget in self.as_row[-2:]:
            widget.setVisible(sends in ("json", "multipart"))
        self.place.setPlaceholderText("image" if sends == "multipart" else "/image")
        self.pointer.setPlaceholderText("/classes" if pairs else "/scores")
        item = self.encoding.findData(None)
        if described and item >= 0:
            self.encoding.setItemText(item, "JPEG, as is usual")
        elif item >= 0:
            self.encoding.setItemText(item, ENCODINGS[None])

    def set_up(
        self,
        classes: Callable[[], Sequence[str]],
        recipe: Callable[[], Recipe | None],
        image: Callable[[], Path | None],
    ) -> None:
        """What the service is to answer for, and an image to try; all are read in a worker, and may raise InputError."""
        self._classes, self._recipe = classes, recipe
        self._put_image(None)
        self._workers.start(lambda task: image(), done=self._put_image)
        self._show_trial(None)
        self.address.setFocus()

    def show_description(self, path: Path) -> None:
        """Fill the form from a file. Raises InputError where it is none."""
        one = read_description(path)
        self.address.setText(one.url)
        for choice, data in ((self.sends, one.send), (self.encoding, one.encoding), (self.kind, one.response.kind)):
            choice.setCurrentIndex(max(0, choice.findData(data)))
        pairs = one.response.pairs is not None
        self.answers.setCurrentIndex(int(pairs))
        self.place.setText(one.image)
        self.pointer.setText((one.response.pairs if pairs else one.response.scores) or "")
        self.name.setText(one.response.label)
        self.score.setText(one.response.score)
        if one.key is not None:
            for field, text in (
                (self.header, one.key.header),
                (self.scheme, one.key.scheme),
                (self.environment, one.key.environment),
            ):
                field.setText(text)
        self.at_once.setValue(one.limits.at_once)
        self.per_request.setValue(one.limits.per_request)
        self.per_second.setValue(one.limits.per_second or 0)
        self.timeout.setValue(round(one.limits.timeout) or 1)
        self._follow()

    def description(self) -> Description:
        """What the form says. Raises InputError naming what is wrong."""
        sends = self.sends.currentData()
        data: dict[str, object] = {"format": FORMAT, "url": self.address.text().strip(), "send": sends}
        if (encoding := self.encoding.currentData()) is not None:
            data["encoding"] = encoding
        if sends in ("json", "multipart"):
            data["image"] = self.place.text().strip() or self.place.placeholderText()
        if sends != "open-inference":
            at = self.pointer.text().strip() or self.pointer.placeholderText()
            response = {str(self.answers.currentData()): at, "kind": self.kind.currentData()}
            if self.answers.currentData() == "pairs":
                response |= {
                    "label": self.name.text().strip() or "/label",
                    "score": self.score.text().strip() or "/score",
                }
            data["response"] = response
        if header := self.header.text().strip():
            data["key"] = {
                "header": header,
                "scheme": self.scheme.text().strip(),
                "environment": self.environment.text().strip() or "MIVRAT_SERVICE_KEY",
            }
        limits: dict[str, object] = {"at_once": self.at_once.value(), "timeout": self.timeout.value()}
        if self.per_second.value():
            limits["per_second"] = self.per_second.value()
        if sends == "open-inference":
            limits["per_request"] = self.per_request.value()
        data["limits"] = limits
        return description_from(data, "the form")

    # --- one image ---

    def _put_image(self, image: Path | None) -> None:
        self.image = image
        self.picture.set_text(image.name if image is not None else "no image chosen")

    def _choose_image(self) -> None:
        found = ask_to_open(self, "Choose an image to try", self.image.parent if self.image is not None else None)
        if found is not None:
            self._put_image(found)
            self.try_one()

    def _kept_key(self, description: Description) -> bool:
        """Put a key that was typed into the keyring; false, and it is said, where there is none."""
        key = self.key.text().strip()
        if not key or description.key is None:
            return True
        if not to_keyring(description.host, key):
            self._say(
                f"This desktop has no keyring to save the key in. Set the environment variable {description.key.environment} before Mivrat is started.",
                "problem",
            )
            return False
        self.key.clear()
        return True

    def try_one(self) -> None:
        """Send one image, and show what was sent and what came."""
        try:
            description = self.description()
        except InputError as error:
            self._say(error.line(), "problem")
            return
        if self.image is None:
            self._choose_image()
            return
        if not self._kept_key(description):
            return
        image, classes, recipe = self.image, self._classes, self._recipe
        self._show_trial(None)
        self._say("Asking …", "")

        def ask(task: object) -> tuple[ServiceModel, ServiceTrial, list[str]]:
            names = list(classes())
            model = ServiceModel(Path(description.name), names, recipe(), description)
            try:
                return model, model.try_one(read_file(image)), names
            except UnreadablePicture as error:
                raise InputError(str(error), where=image, hint="choose another image") from error

        self._trying.start(ask, done=self._tried, failed=self._not_tried)

    def _not_tried(self, error: InputError) -> None:
        if isinstance(error, NotAgreed):
            self._say("Nothing has been sent yet: agree to the host below first.", "look")
            self._workspace.notices.asked.emit(error, self.try_one)
        else:
            self._say(error.line(), "problem")

    def _tried(self, found: tuple[ServiceModel, ServiceTrial, list[str]]) -> None:
        model, trial, names = found
        self._show_trial(trial)
        remarks = "".join(f" {one[:1].upper()}{one[1:]}." for one in model.remarks)
        if trial.row is None:
            self._say(f"The service gave no scores: {trial.problem}.{remarks}", "problem")
            return
        version = f", version {model.version}" if model.version else ""
        self._say(f"It answers{version}; images go {WORDS[model.form]}.{remarks}", "good")
        rows = trial.row[None]
        p = to_probabilities(rows, model.settled if model.settled not in (None, "prediction") else guess_kind(rows))[0]
        order = sorted(range(len(p)), key=lambda k: -p[k])[:MOST_RANKED]
        self.ranked.setText(
            "   ".join(f"{words.clipped(names[k] if k < len(names) else str(k), 24)} {p[k]:.3f}" for k in order)
        )

    def _say(self, text: str, role: str) -> None:
        set_role(self.message, role)
        self.message.setText(text)

    def _show_trial(self, trial: ServiceTrial | None) -> None:
        self.ranked.setText("")
        self._say(
            "" if trial is not None else "One image shows whether service, recipe and class list go together.", ""
        )
        shown: tuple[tuple[QLabel, QPlainTextEdit, str], ...] = (
            (self.request_title, self.request, trial.request if trial is not None else ""),
            (self.answer_title, self.answer, trial.answer if trial is not None else ""),
        )
        for title, field, text in shown:
            field.setPlainText(text)
            for widget in (title, field):
                widget.setVisible(trial is not None)

    def _use(self) -> None:
        try:
            description = self.description()
            if self._kept_key(description):
                self.used.emit(keep(description))
        except InputError as error:
            self._say(error.line(), "problem")

    @property
    def settled(self) -> bool:
        """Whether nothing is being asked."""
        return not self._workers.busy

    def stop(self) -> None:
        self._workers.stop_all()
