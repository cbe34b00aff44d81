"""The layers page: every layer with its shape and parameters, which of them stand on the board, and the first filters."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QShowEvent
from PySide6.QtWidgets import QSizePolicy, QTableWidgetItem, QVBoxLayout, QWidget

from mivrat.core.gradients.layer_names import in_groups
from mivrat.core.gradients.layers import Layer, short_name
from mivrat.ui import words
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import button, field_of_study, label, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.explaining import Explainer

# More rows than this make cells too small to be compared.
MOST_ROWS = 8


class FilterStrip(QWidget):
    """Small pictures in lines, as many as fit two lines."""

    SIDE, GAP, LINES = 34, 6, 2

    def __init__(self) -> None:
        super().__init__()
        self.pictures: list[QImage] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(self.LINES * (self.SIDE + self.GAP))

    def show_pictures(self, pictures: list[QImage]) -> None:
        self.pictures = pictures
        self.update()

    @property
    def fitting(self) -> int:
        return min(len(self.pictures), self.LINES * max(1, self.width() // (self.SIDE + self.GAP)))

    def sizeHint(self) -> QSize:
        return QSize(300, self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            each_line = max(1, self.width() // (self.SIDE + self.GAP))
            for i, picture in enumerate(self.pictures[: self.fitting]):
                line, column = divmod(i, each_line)
                place = QRectF(column * (self.SIDE + self.GAP), line * (self.SIDE + self.GAP), self.SIDE, self.SIDE)
                painter.drawImage(place, picture)
                painter.setPen(theme.colour("line"))
                painter.drawRect(place)


class LayersPage(Page, QWidget):
    """The list, to be searched; a tick puts a layer on the board."""

    title, place_id = "Layers", "layers"
    help = "Every layer of the model, with its shape, and which of them the board shows."

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer = explainer
        self.listed: list[Layer] = []
        self._filling = False
        self.search = field_of_study("part of a name, a block, an operator, a size such as 14 × 14")
        self.search.setAccessibleName("find layers")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self.refresh())
        self.usual = button("one of each stage", lambda: explainer.put_rows(()), kind="small")
        tip(self.usual, "Put the last layer of each resolution on the board, as at first")
        self.told = label(soft=True, wrap=True)
        self.table = FigureTable(("layer", "what it is", "shape", "parameters"), (150, 104, 86), "layers", (3,))
        self.table.itemChanged.connect(self._ticked)
        self.table.cellActivated.connect(lambda line, _: self._toggle(line))
        self.filters_told, self.strip = label(soft=True, wrap=True), FilterStrip()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 8)
        layout.addLayout(row(self.search, self.usual))
        layout.addWidget(self.told)
        layout.addWidget(self.table, 1)
        layout.addWidget(self.filters_told)
        layout.addWidget(self.strip)
        self._late = Late(self, self.refresh, explainer.layers_changed)
        explainer.board_changed.connect(self._show_ticks)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.refresh()

    def _on_board(self) -> list[str]:
        return list(self.explainer.rows) or [one.tensor for one in self.explainer.stages()]

    def refresh(self) -> None:
        """List the layers anew."""
        if not self.isVisible():
            return
        explainer, wanted = self.explainer, self.search.text().strip().casefold().replace("x", "×").replace(" ", "")
        everything = [one for _, some in in_groups(explainer.layers) for one in some]

        def text(one: Layer) -> str:
            return (
                f"{one.tensor}{one.op}{one.plain}{one.block}{'×'.join(str(n) for n in one.shape)}".casefold()
                .replace("x", "×")
                .replace(" ", "")
            )

        self.listed = [one for one in everything if wanted in text(one)]
        lines, tips = [], []
        for one in self.listed:
            size = " × ".join(str(n) for n in one.shape)
            name = short_name(one.tensor) + ("  (default)" if one.default else "")
            what = f"{one.plain}, {one.block}" if one.block else one.plain
            lines.append((name, what, size, words.count(one.parameters) if one.parameters else ""))
            about = f"{one.tensor}\n{one.op}" + ("" if one.heatmap else f"\nno map: {one.reason}")
            tips.append(
                about + (f"\n{one.tokens.others} tokens are of no patch" if one.tokens and one.tokens.others else "")
            )
        self._filling = True
        self.table.show_lines(lines, tips)
        self._filling = False
        self._show_ticks()
        with_map, total = sum(one.heatmap for one in everything), sum(one.parameters for one in everything)
        if explainer.has_no_layers:
            self.told.setText(f"{explainer.has_no_layers[:1].upper()}{explainer.has_no_layers[1:]} has no layers.")
        elif explainer.problem:
            self.told.setText(explainer.problem)
        elif not everything:
            self.told.setText("Reading the model's layers …")
        else:
            shown = "" if len(self.listed) == len(everything) else f"{len(self.listed)} listed of "
            self.told.setText(
                f"{shown}{words.count(len(everything))} layers from image to scores, {with_map} of them with a map; "
                f"{words.count(total)} parameters. Likely ones stand first, then all others block by block, the last first. A tick puts a layer on the board (at most {MOST_ROWS}). A layer without a box has no map."
                + (f" {explainer.remark[0].upper()}{explainer.remark[1:]}." if explainer.remark else "")
            )
        found = explainer.filters
        self.strip.setVisible(not isinstance(found, str))
        if isinstance(found, str):
            self.filters_told.setText(f"No filters to look at: {found}." if found else "")
        else:
            self.strip.show_pictures([to_image(one) for one in found[1]])
            self.filters_told.setText(
                f"The {len(found[1])} filters of the first convolution, {short_name(found[0])}, on one scale (grey is 0)"
                + (f"; the first {self.strip.fitting} are shown" if self.strip.fitting < len(found[1]) else "")
            )

    def _show_ticks(self) -> None:
        if not self.isVisible():
            return
        on_board = set(self._on_board())
        self._filling = True
        for line, layer in enumerate(self.listed):
            item = self.table.item(line, 0)
            if item is not None and layer.heatmap:
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if layer.tensor in on_board else Qt.CheckState.Unchecked)
        self._filling = False

    def _ticked(self, item: QTableWidgetItem) -> None:
        if not self._filling and item.column() == 0:
            self._put(self.listed[item.row()], item.checkState() == Qt.CheckState.Checked)

    def _toggle(self, line: int) -> None:
        layer = self.listed[line]
        if layer.heatmap:
            self._put(layer, layer.tensor not in self._on_board())

    def _put(self, layer: Layer, wanted: bool) -> None:
        """Put a layer on the board or take it away; rows stand with the last layer first."""
        names = {*self._on_board(), layer.tensor} if wanted else set(self._on_board()) - {layer.tensor}
        ordered = [one.tensor for one in self.explainer.usable() if one.tensor in names]
        if ordered and len(ordered) <= MOST_ROWS:
            self.explainer.put_rows(ordered)
        else:
            self._show_ticks()

    def as_table(self) -> list[list[str]]:
        return [*self.table.as_lines()]

    @property
    def settled(self) -> bool:
        return True

    def stop(self) -> None:
        """Nothing goes on here."""
