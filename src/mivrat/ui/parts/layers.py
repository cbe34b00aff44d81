"""Layers in a drop-down list: the likely ones first, then block by block."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QStandardItemModel
from PySide6.QtWidgets import QComboBox

from mivrat.core.gradients.layer_names import block_title, in_groups
from mivrat.core.gradients.layers import Layer, short_name
from mivrat.ui import words

LETTERS = 40


def offer_layers(
    box: QComboBox, layers: Sequence[Layer], data: Callable[[Layer], object] = lambda one: one.tensor
) -> None:
    """Add layers that give a map, in graph order, to a box, under headings that cannot be chosen; ``data`` is what stands behind each."""
    for heading, some in in_groups(layers):
        box.addItem(block_title(heading))
        font = box.font()
        font.setBold(True)
        box.setItemData(box.count() - 1, font, Qt.ItemDataRole.FontRole)
        model = box.model()
        if isinstance(model, QStandardItemModel):
            model.item(box.count() - 1).setEnabled(False)
        for one in some:
            name = words.clipped(short_name(one.tensor), LETTERS) + (", default" if one.default else "")
            box.addItem(f"{name}   {one.grid[0]} × {one.grid[1]}   {one.plain}", data(one))
            box.setItemData(box.count() - 1, one.tensor, Qt.ItemDataRole.ToolTipRole)
