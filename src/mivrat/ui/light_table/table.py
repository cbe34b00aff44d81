"""The light table: the selected images as thumbnails, under the choices of how they stand."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from mivrat.core.selecting.ordering import (
    BANDS,
    BY_BOTH,
    BY_COLUMN,
    BY_PROPERTY,
    BY_ROLE,
    HIGHEST_FIRST,
    ORDERS,
    ORDERS_OF_BOTH,
    UNLIKE,
    columns_to_group_by,
    tells_answers,
)
from mivrat.ui import words
from mivrat.ui.light_table.thumbs import SIZES, Thumbs
from mivrat.ui.parts.pictures import Thumbnails
from mivrat.ui.parts.widgets import Choice, button, label, more_button, row, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.workspace import Workspace


class LightTable(QWidget):
    """The grid under its choices of order, bands and size; slow orders are worked out in a worker."""

    features_wanted = Signal()

    def __init__(self, workspace: Workspace, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("lightTable")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.workspace = workspace
        self._workers = self.workspace.group(1)
        self._arranging = LatestOnly(self._workers)
        self.thumbs = Thumbs(workspace, thumbnails)
        self.order, self.size_box = Choice(ORDERS, "order of the images"), Choice(list(SIZES), "size of the thumbnails")
        self.bands = Choice(BANDS, "group images by")
        self.order.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.order.setMinimumContentsLength(13)
        self.bands.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.bands.setMinimumContentsLength(8)
        self.size_box.setCurrentText("medium")
        self.order.activated.connect(lambda _: self._choose_order())
        self.bands.activated.connect(lambda _: self._choose_bands())
        self.size_box.currentTextChanged.connect(self.thumbs.set_size)
        self.count = label(soft=True)
        self.more = more_button(
            "do something with these images", "Hand these images back, keep only those marked, find more like them"
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 8, 0)
        holder = QWidget()
        holder.setLayout(flowing(self.order, self.bands, self.size_box))
        head = row(holder, self.count, self.more, 4, spacing=6)
        head.setStretch(0, 1)
        layout.addLayout(head)
        self.all = button("", lambda: workspace.shown.clear())
        self.all.hide()
        layout.addLayout(row(self.all, None))
        layout.addWidget(self.thumbs, 1)
        workspace.topics.selection.connect(self._notify)
        workspace.topics.current.connect(self._notify)
        workspace.topics.run.connect(self._list_columns)
        workspace.topics.held.connect(self._list_columns)
        workspace.topics.measures.connect(self._list_columns)
        workspace.topics.blind.connect(self._list_columns)
        workspace.topics.arrangement_wanted.connect(self._arrange)

    def _list_columns(self) -> None:
        """Offer the columns of the image table to order and to band by."""
        snapshot = self.workspace.shown.snapshot
        items = snapshot.record.image_set.items
        self.order.clear()
        both = self.workspace.shown.other is not None
        of_both = ORDERS_OF_BOTH if both else ()
        properties = [f"{BY_PROPERTY}{name}" for name in self.workspace.shown.measures.properties]
        by_property = [one + end for one in properties for end in ("", HIGHEST_FIRST)]
        by_column = [f"{BY_COLUMN}{name}" for name in (items[0].columns if items else ())]
        hidden = self.workspace.shown.blind
        orders = [*ORDERS, *of_both, *by_column, *by_property]
        self.order.addItems([one for one in orders if not (hidden and tells_answers(one))])
        bands = BANDS if snapshot.record.families else BANDS[:-1]
        self.bands.clear()
        columns = [f"{BY_COLUMN}{name}" for name in columns_to_group_by(items)]
        all_bands = [*bands, *((BY_BOTH,) if both else ()), *columns, *properties]
        self.bands.addItems([one for one in all_bands if not (hidden and tells_answers(one))])
        self._notify()

    def _choose_order(self) -> None:
        order = self.order.currentText()
        self.workspace.shown.set_order(order)
        if order == UNLIKE and self.workspace.shown.results.vectors is None:
            self.features_wanted.emit()

    def _choose_bands(self) -> None:
        if self.bands.currentText() != BY_ROLE:
            self.workspace.shown.set_bands(self.bands.currentText())

    def _class_in_sight(self) -> int | None:
        """The class that the image looked at is called, else the one the selection is about."""
        snapshot, image = self.workspace.shown.snapshot, self.workspace.shown.focus.current
        if image is not None and snapshot.judged.predicted[image] >= 0:
            return int(snapshot.judged.predicted[image])
        for condition in self.workspace.shown.conditions:
            classes = getattr(condition, "classes", ())
            if classes:
                return int(min(classes))
        return None

    def show_called_and_labelled(self) -> None:
        """Everything called a class beside everything labelled so: of the image looked at, or the selection."""
        k = self._class_in_sight()
        if k is not None:
            self.workspace.shown.show_called_and_labelled(k)

    def _arrange(self) -> None:
        """Work out an order that takes longer than a glance."""
        self._arranging.cancel()
        images, wanted = self.workspace.shown.to_arrange(), self.workspace.shown.order.wanted
        self.count.setText("sorting …")
        self._arranging.start(
            lambda work: images.arranged(*wanted),
            done=lambda found: self.workspace.shown.take_arrangement(images.judged, found),
        )

    def _notify(self) -> None:
        order, by, _ = self.workspace.shown.order.wanted
        if self.order.currentText() != order:
            self.order.setCurrentText(order)
        if self.bands.currentText() != by:
            if by == BY_ROLE and self.bands.findText(by) < 0:
                self.bands.addItem(by)
            self.bands.setCurrentText(by)
        snapshot = self.workspace.shown.snapshot
        self.all.setVisible(not len(self.workspace.shown.images) and bool(self.workspace.shown.conditions))
        self.all.setText(f"Show all {words.images(snapshot.counts.listed)}")
        at, of, marked = (
            self.workspace.shown.focus.position,
            len(self.workspace.shown.images),
            len(self.workspace.shown.focus.marked),
        )
        text = f"{at + 1} of {of}" if at >= 0 else words.images(of)
        self.count.setText(f"{words.count(marked)} marked" if marked > 1 else text)
        tip(self.count, f"{words.count(marked)} marked of {words.images(of)}" if marked > 1 else "")

    @property
    def settled(self) -> bool:
        return not self._workers.busy and self.thumbs.settled

    def stop(self) -> None:
        self._workers.stop_all()
