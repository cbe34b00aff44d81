"""The parts of a recipe as a form; every change is told of as soon as it is made."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLineEdit, QSpinBox, QWidget

from mivrat.core.pictures.recipe import Recipe
from mivrat.core.pictures.value_ranges import VALUE_RANGES, meaning_of
from mivrat.ui.parts.widgets import Choice, label, row, spin, tip

MODES = {"RGB": "RGB", "BGR": "BGR (blue first)", "L": "grey"}
RULES = {
    "none": "not resized",
    "shorter-side": "shorter side to",
    "stretch": "stretch to",
    "fit-pad": "fit into, pad to",
}
FILTERS = ("nearest", "bilinear", "bicubic", "box", "lanczos")
ORDERS = {"NCHW": "channels, height, width (NCHW)", "NHWC": "height, width, channels (NHWC)"}
DTYPES = ("float32", "float16", "uint8")
KINDS = {
    "auto": "detected from the first batch",
    "logits": "logits",
    "probabilities": "probabilities",
    "sigmoid": "one sigmoid",
}
OWN = "custom values"


class RecipeForm(QWidget):
    """Shows a recipe and tells what is changed in it: the part, and its entries (``mode`` and ``range`` are parts too)."""

    edited = Signal(str, dict)

    def __init__(self) -> None:
        super().__init__()
        self._filling = False
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(7)
        self._grid.setColumnStretch(1, 1)
        self.mode = self._choice(MODES, "colour mode", lambda key: self._notify("mode", mode=key))
        self.rotate = self._check("apply EXIF orientation", lambda on: self._notify("picture", exif_rotate=on))
        self.rule = self._choice(RULES, "resize rule", self._change_rule)
        self.height_box, self.width_box = (self._spin(name, self._change_size) for name in ("height", "width"))
        self.times, self.crop_times, self.padding_name = (label(text, soft=True) for text in ("×", "×", "padding"))
        self.filter = self._choice(dict.fromkeys(FILTERS), "filter", lambda key: self._notify("resize", filter=key))
        self.antialias = self._check("antialiased", lambda on: self._notify("resize", antialias=on))
        tip(self.antialias, "Widen the filter when shrinking, so that no pixel is passed over")
        self.padding = self._numbers("padding, 0 to 255", lambda numbers: self._notify("resize", pad_value=numbers))
        self.crop = self._check("centre crop", self._toggle_crop)
        self.crop_height, self.crop_width = (
            self._spin(f"crop {name}", self._change_crop) for name in ("height", "width")
        )
        self.range = self._choice(dict.fromkeys([*VALUE_RANGES, OWN]), "values, by meaning", self._choose_range)
        self.scale = self._numbers(
            "scale", lambda numbers: self._notify("values", scale=numbers[0] if numbers else None)
        )
        self.mean = self._numbers("mean", lambda numbers: self._notify("values", mean=numbers))
        self.std = self._numbers("deviation", lambda numbers: self._notify("values", std=numbers))
        self.order = self._choice(ORDERS, "order of the axes", lambda key: self._notify("tensor", order=key))
        self.dtype = self._choice(
            dict.fromkeys(DTYPES), "type of the values", lambda key: self._notify("tensor", dtype=key)
        )
        self.input, self.output = (self._text(name, f"the model's only {name}") for name in ("input", "output"))
        self.kind = self._choice(KINDS, "kind of scores", lambda key: self._notify("scores", kind=key))
        self._row("Picture", row(self.mode, self.rotate, None))
        self._row("Resize", row(self.rule, self.height_box, self.times, self.width_box, None))
        self._row("", row(self.filter, self.antialias, None, self.padding_name, self.padding))
        self._row("Crop", row(self.crop, self.crop_height, self.crop_times, self.crop_width, None))
        self._row("Values", row(self.range, None))
        self._row(
            "",
            row(
                label("(v ×", soft=True),
                self.scale,
                label("−", soft=True),
                self.mean,
                label(") ÷", soft=True),
                self.std,
            ),
        )
        self._row("Tensor", row(self.order, self.dtype, None))
        self._row("", row(label("input", soft=True), self.input, label("output", soft=True), self.output))
        self._row("Scores", row(self.kind, None))

    def _row(self, name: str, fields: QHBoxLayout) -> None:
        at = self._grid.rowCount()
        self._grid.addWidget(label(name, soft=True), at, 0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addLayout(fields, at, 1)

    # --- fields ---

    def _choice(self, entries: dict[str, Any], name: str, changed: Callable[[str], object]) -> Choice:
        made = Choice(name=name)
        for key, text in entries.items():
            made.addItem(text or key, key)
        made.activated.connect(lambda i: changed(made.itemData(i)))
        return made

    def _check(self, text: str, changed: Callable[[bool], object]) -> QCheckBox:
        made = QCheckBox(text)
        made.toggled.connect(lambda on: None if self._filling else changed(on))
        return made

    def _spin(self, name: str, changed: Callable[[], object]) -> QSpinBox:
        made = spin(1, 16384, 1, f"{name} in pixels")
        made.valueChanged.connect(lambda _: None if self._filling else changed())
        return made

    def _numbers(self, name: str, changed: Callable[[list[float]], object]) -> QLineEdit:
        made = self._line(name)
        made.editingFinished.connect(lambda: self._read_numbers(made, name, changed))
        return made

    def _text(self, entry: str, hint: str) -> QLineEdit:
        made = self._line(f"name of the {entry}")
        made.setPlaceholderText(hint)
        made.editingFinished.connect(
            lambda: self._notify("tensor", **{entry: made.text().strip()}) if made.isModified() else None
        )
        return made

    def _line(self, name: str) -> QLineEdit:
        made = QLineEdit()
        made.setAccessibleName(name)
        tip(made, name)
        made.setMinimumWidth(50)
        return made

    def _read_numbers(self, field: QLineEdit, name: str, changed: Callable[[list[float]], object]) -> None:
        if field.isModified():
            found = numbers_in(field.text())
            # What is no number goes on as it is, so that the recipe's own check names it.
            changed(found if found is not None else [field.text()])  # type: ignore[list-item]

    # --- showing and telling ---

    def show_recipe(self, recipe: Recipe) -> None:
        """Fill the form."""
        self._filling = True
        resize, values, tensor = recipe.resize, recipe.values, recipe.tensor
        self.mode.setCurrentIndex(self.mode.findData(recipe.picture.mode))
        self.rotate.setChecked(recipe.picture.exif_rotate)
        self.rule.setCurrentIndex(self.rule.findData(resize.rule))
        if resize.size is not None:
            height, width = resize.height_width()
            self.height_box.setValue(height)
            self.width_box.setValue(width)
        resized = resize.rule != "none"
        part: QWidget
        for part in (self.height_box, self.filter, self.antialias):
            part.setVisible(resized)
        for two in (self.times, self.width_box):
            two.setVisible(resized and resize.rule != "shorter-side")
        self.filter.setCurrentIndex(self.filter.findData(resize.filter))
        self.antialias.setChecked(resize.antialias)
        self.antialias.setEnabled(resize.filter != "nearest")
        self._show_text(self.padding, numbers_as_text(resize.pad_value))
        self.crop.setChecked(recipe.crop is not None)
        for part in (self.crop_height, self.crop_width, self.crop_times):
            part.setVisible(recipe.crop is not None)
        for part in (self.padding, self.padding_name):
            part.setVisible(resize.rule == "fit-pad" or recipe.crop is not None)
        if recipe.crop is not None:
            self.crop_height.setValue(recipe.crop.size[0])
            self.crop_width.setValue(recipe.crop.size[1])
        self.range.setCurrentText(meaning_of(recipe) or OWN)
        self._show_text(self.scale, "1/255" if values.scale == 1 / 255 else f"{values.scale:.12g}")
        self._show_text(self.mean, numbers_as_text(values.mean))
        self._show_text(self.std, numbers_as_text(values.std))
        self.order.setCurrentIndex(self.order.findData(tensor.order))
        self.dtype.setCurrentIndex(self.dtype.findData(tensor.dtype))
        self._show_text(self.input, tensor.input)
        self._show_text(self.output, tensor.output)
        self.kind.setCurrentIndex(self.kind.findData(recipe.scores.kind))
        self._filling = False

    def _show_text(self, field: QLineEdit, text: str) -> None:
        if field.text() != text:
            field.setText(text)
        field.setModified(False)
        field.setCursorPosition(0)

    def _notify(self, part: str, **entries: Any) -> None:
        if not self._filling:
            self.edited.emit(part, entries)

    def _change_rule(self, rule: str) -> None:
        both = rule in ("stretch", "fit-pad")
        size = [self.height_box.value(), self.width_box.value()] if both else self.height_box.value()
        if self.height_box.value() == 1:  # never set: the crop's size, or the commonest one
            side = self.crop_height.value() if self.crop.isChecked() else 224
            size = [side, side] if both else side
        self._notify("resize", rule=rule, size=None if rule == "none" else size)

    def _change_size(self) -> None:
        rule = self.rule.currentData()
        height, width = self.height_box.value(), self.width_box.value()
        self._notify("resize", size=height if rule == "shorter-side" else [height, width])

    def _toggle_crop(self, on: bool) -> None:
        side = self.height_box.value() if self.rule.currentData() != "none" else 224
        last = self.crop_height.value(), self.crop_width.value()
        self._notify("crop", size=(last if last != (1, 1) else (side, side)) if on else None)

    def _change_crop(self) -> None:
        self._notify("crop", size=(self.crop_height.value(), self.crop_width.value()))

    def _choose_range(self, name: str) -> None:
        if name in VALUE_RANGES:
            self._notify("range", values=VALUE_RANGES[name])


def numbers_in(text: str) -> list[float] | None:
    """Numbers parted by commas or spaces; each may be a fraction such as 1/255. None where one cannot be read."""
    found = []
    for part in re.split(r"[,;\s]+", text.strip()):
        above, _, below = part.replace("−", "-").partition("/")
        try:
            found.append(float(above) / (float(below) if below else 1.0))
        except (ValueError, ZeroDivisionError):
            return None
    return found


def numbers_as_text(numbers: Sequence[float]) -> str:
    return ", ".join(f"{number:.12g}" for number in numbers)
