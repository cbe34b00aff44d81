"""The board page: one image's heatmaps by layer and target, filled as they are computed, with the value under the pointer."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import QInputDialog, QMenu, QVBoxLayout, QWidget

from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.files import write_whole
from mivrat.core.base.numbers import percent
from mivrat.core.heatmaps.board import BoardColumn, BoardMap, Row
from mivrat.core.heatmaps.maps import SATURATED, MapMaker, Target
from mivrat.core.heatmaps.methods import BY_GRADIENT, SIGNED, WITHOUT_LAYER, Method
from mivrat.core.heatmaps.overlay import place_on_map
from mivrat.core.heatmaps.setup import MapSetup, Whose
from mivrat.core.reporting.heat_pictures import BoardPicture, board_as_image, board_as_svg, with_legend
from mivrat.core.study.records import RunKey, RunRecord
from mivrat.ui import words
from mivrat.ui.close_look.panels import ScaleBar
from mivrat.ui.explain.board_view import Board, BoardCell, BoardView
from mivrat.ui.parts.file_dialogs import ask_to_save, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.page import Page
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import (
    Choice,
    Scrolled,
    button,
    label,
    more_button,
    offer_by_right_click,
    plain,
    row,
    slider,
    tip,
)
from mivrat.ui.parts.wrapping import flowing
from mivrat.workspace import heat_jobs
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.heat_jobs import BASES, BoardWanted, base_picture
from mivrat.workspace.image_view import ImageView, look_at

SCALES = {"heat scale": "heat", "grey scale": "grey"}
# The first classes of the ranking, put together by their probability.
MOST_TOGETHER = 3
FIRST_CLASSES = f"the {MOST_TOGETHER} highest, by probability"
# A column: whose evidence rather than whose; or the first classes together.
Wish = tuple[Whose, Whose | None] | str
USUAL: tuple[Wish, ...] = (("predicted", None), ("other", None), ("predicted", "other"))
OFFERED: tuple[Wish, ...] = (
    ("predicted", None),
    ("other", None),
    ("labelled", None),
    ("runner-up", None),
    ("predicted", "other"),
    ("other", "predicted"),
    FIRST_CLASSES,
)
# Classes beyond this number are asked for by name instead of being listed.
MOST_LISTED = 24


@dataclass(frozen=True)
class OtherRows:
    """The image as the model held receives it, and the names of its layers on the board."""

    look: ImageView
    names: list[str]


class BoardPage(Page, QWidget):
    """The controls, the board, and a line that reads the value under the pointer."""

    title, place_id = "Board", "board"
    help = "Heatmaps of one image, side by side by layer and by class."

    layers_wanted = Signal()

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.look: ImageView | None = None
        self.other_look: ImageView | None = None
        self.wishes: list[Wish] = list(USUAL)
        self._wanted: BoardWanted | None = None
        self._drawers = self.workspace.group(1)
        self._filling: Task | None = None
        # What the service has been asked for in this window, and how many answers have come for the board.
        self._asked: set[tuple[RunKey, int, Method]] = set()
        self._answers = 0
        self._before: int | None = None
        self._drawing = LatestOnly(self._drawers)
        self._again = self.workspace.soon(15, self._redraw)
        self._room_later = self.workspace.soon(0, self._give_room)
        self._build()
        self._late = Late(
            self,
            self.refresh,
            explainer.board_changed,
            explainer.layers_changed,
            self.workspace.topics.current,
            self.workspace.topics.figures,
            self.workspace.topics.held,
        )
        self.workspace.topics.run.connect(self._usual_way)

    def _build(self) -> None:
        self.way = Choice(list(words.METHODS.values()), "how the maps are made")
        for i, about in enumerate(words.METHOD_TIPS.values()):
            self.way.setItemData(i, plain(about), Qt.ItemDataRole.ToolTipRole)
        self.base = Choice(BASES, "what the heatmap is drawn over")
        self.scale = Choice(list(SCALES), "colours of the heat")
        self.peaks = Choice(
            ("own peak each", "common peak"), "divide each map by its own peak, or all by the highest one"
        )
        self.opacity = slider("opacity of the heat", 10, 100, 70)
        self.opacity.setFixedWidth(90)
        self.legend = ScaleBar()
        self.way.activated.connect(lambda _: self.refresh())
        for choice in (self.base, self.scale, self.peaks):
            choice.activated.connect(lambda _: self._redraw_soon())
        self.opacity.valueChanged.connect(lambda _: self._redraw_soon())
        self.targets = button("targets ▾", kind="quiet")
        tip(self.targets, "The targets in the columns")
        self.layers = button("layers ▾", kind="quiet")
        tip(self.layers, "The layers in the rows")
        self.more = more_button("save from the board", "Save a map or the board")
        for opener in (self.targets, self.layers):
            opener.setMenu(QMenu(opener))
        self.targets.menu().aboutToShow.connect(self._fill_targets)
        self.layers.menu().aboutToShow.connect(self._fill_layers)
        menu = QMenu(self.more)
        for text, wanted in (
            (
                "Save this map as a picture with its legend…",
                lambda: self._ask("map.png", "Pictures (*.png)", self.save_overlay),
            ),
            ("Save this map as it is, unscaled (NPY)…", lambda: self._ask("map.npy", "Arrays (*.npy)", self.save_raw)),
            ("Save the board (PNG or SVG)…", lambda: self._ask("board.png", "Boards (*.png *.svg)", self.save_board)),
        ):
            menu.addAction(text).triggered.connect(lambda _=False, w=wanted: w())
        self.more.setMenu(menu)
        self.note = label(wrap=True)
        self.told = label(soft=True, wrap=True)
        self.told.setMinimumHeight(34)
        self.stop_button = button("Stop", self.stop_filling, kind="small")
        self.ask_button = button("Ask the service", self.ask, kind="primary")
        self.view = BoardView()
        offer_by_right_click(self.more, self.view)
        self.view.pointed.connect(self._read_value)
        self.view.left.connect(self._show_focus)
        self.view.focused.connect(self._show_focus)
        body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 0, 8, 8)
        inside.addWidget(self.note)
        inside.addLayout(row(self.ask_button, None))
        inside.addWidget(self.view)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 6)
        layout.setSpacing(6)
        layout.addLayout(flowing(self.way, self.base, self.layers, self.targets))
        layout.addLayout(flowing(self.scale, self.peaks, self.opacity, self.legend, self.more, self.stop_button))
        self.scrolled = Scrolled(body)
        layout.addWidget(self.scrolled, 1)
        layout.addWidget(self.told)
        self.stop_button.hide()
        self.ask_button.hide()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        # Behind the layout that is going on; by the outer size, which no scroll bar that comes or goes changes.
        self._room_later.start()

    def _give_room(self) -> None:
        bar = self.scrolled.verticalScrollBar().sizeHint().width()
        self.view.set_room(self.scrolled.width() - bar - 8, self.scrolled.height() - 16)

    def begin_anew(self) -> None:
        self.stop_filling()
        self._wanted = None
        self._before, self.wishes = None, list(USUAL)
        self.way.setCurrentIndex(0)
        self._usual_way()

    def _usual_way(self) -> None:
        """A model without layers is looked at by what needs none, and one with layers as before."""
        ways = list(words.METHODS)
        if self.explainer.without_layers(self.method):
            self._before, at = self.way.currentIndex(), ways.index("occlusion")
            self.way.setCurrentIndex(at)
        elif self._before is not None and not self.explainer.has_no_layers:
            self.way.setCurrentIndex(self._before)
            self._before = None

    # --- what is wanted ---

    @property
    def method(self) -> Method:
        return list(words.METHODS)[self.way.currentIndex()]

    def _wish_name(self, wish: Wish) -> str:
        if isinstance(wish, str):
            return wish
        of, against = wish
        names = {"other": "labelled, else runner-up"}

        def name(one: Whose) -> str:
            return self.workspace.shown.classes[one] if isinstance(one, int) else names.get(one, one)

        return name(of) + (f" rather than {name(against)}" if against is not None else "")

    def _fill_targets(self) -> None:
        menu, classes = self.targets.menu(), self.workspace.shown.classes
        menu.clear()
        picked: list[Wish] = [(k, None) for k in range(len(classes))] if len(classes) <= MOST_LISTED else []
        extra = [w for w in self.wishes if w not in OFFERED and w not in picked]
        for wish in (*OFFERED, *picked, *extra):
            if wish == (0, None):
                menu.addSeparator()
            action = menu.addAction(self._wish_name(wish).replace("&", "&&"))
            action.setCheckable(True)
            action.setChecked(wish in self.wishes)
            action.triggered.connect(lambda _=False, w=wish: self.toggle(w))
        menu.addSeparator()
        if not picked:
            menu.addAction("Another class…").triggered.connect(lambda: self._ask_class(None))
        menu.addAction("One class rather than another…").triggered.connect(lambda: self._ask_class("rather"))
        menu.addAction("Back to the usual ones").triggered.connect(lambda: self.set_wishes(USUAL))

    def _ask_class(self, rather: str | None) -> None:
        classes = self.workspace.shown.classes
        of, given = QInputDialog.getItem(
            self, "A target", "Evidence for", classes, 0, rather is None and len(classes) > 40
        )
        if not given or of not in classes:
            return
        against: int | None = None
        if rather is not None:
            others = [name for name in classes if name != of]
            other, given = QInputDialog.getItem(self, "A target", f"{of} rather than", others, 0, False)
            if not given:
                return
            against = classes.index(other)
        self.toggle((classes.index(of), against))

    def toggle(self, wish: Wish) -> None:
        """Put a target on the board, or take it away; the last one stays."""
        self.set_wishes([w for w in self.wishes if w != wish] if wish in self.wishes else [*self.wishes, wish])

    def set_wishes(self, wishes: Sequence[Wish]) -> None:
        if wishes:
            self.wishes = list(wishes)
            self.refresh()

    def _fill_layers(self) -> None:
        menu, explainer = self.layers.menu(), self.explainer
        menu.clear()
        stages = menu.addAction("The last layer of each stage")
        stages.setCheckable(True)
        stages.setChecked(not explainer.rows)
        stages.triggered.connect(lambda: explainer.put_rows(()))
        together = menu.addAction("All of them combined, as a further row")
        together.setCheckable(True)
        together.setChecked(explainer.all_combined)
        together.triggered.connect(lambda: explainer.combine_all(not explainer.all_combined))
        menu.addAction("Choose layers…").triggered.connect(self.layers_wanted.emit)

    def _columns(self, image: int) -> list[BoardColumn | None]:
        snapshot = self.workspace.shown.snapshot
        judged, classes, found = snapshot.judged, self.workspace.shown.classes, list[BoardColumn | None]()
        for wish in self.wishes:
            if isinstance(wish, str):
                if not judged.has_scores:
                    found.append(None)
                    continue
                order = [int(k) for k in judged.ranking(image)[:MOST_TOGETHER]]
                p = judged.probabilities([image])[0]
                found.append(BoardColumn(wish, tuple(Target(k) for k in order), tuple(float(p[k]) for k in order)))
                continue
            target = MapSetup(of=wish[0], against=wish[1]).target(judged, image)
            if target is None:
                found.append(None)
                continue
            name = classes[target.of]
            if target.against is not None:
                name = f"{name}\nrather than {classes[target.against]}"
            else:
                roles = [
                    role
                    for role, k in (("predicted", judged.predicted[image]), ("labelled", judged.labels[image]))
                    if k == target.of
                ]
                p_text = f"p {judged.probabilities([image])[0, target.of]:.3f}" if judged.has_scores else ""
                name = f"{name}\n{', '.join([*roles, p_text] if p_text else roles)}"
            found.append(BoardColumn(name, (target,)))
        return found

    # --- filling ---

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.explainer.prepare()
        self.refresh()

    def refresh(self) -> None:
        """Fill the board for the image looked at, if anything about it has changed."""
        snapshot, image = self.workspace.shown.snapshot, self.workspace.shown.focus.current
        if not self.isVisible():
            return
        problem = self.explainer.without_layers(self.method)
        self.ask_button.hide()
        if not snapshot.record.kind.can.scores:
            problem = snapshot.record.kind.lacks("Heatmaps need")
        elif problem:
            pass
        elif self.explainer.problem:
            problem = self.explainer.problem
        elif image is None:
            problem = "Look at an image: click one on the light table, or press M for the next mistake. Its heatmaps appear here."
        elif snapshot.judged.predicted[image] < 0:
            problem = "This image has no answer to explain."
        waiting = not self.explainer.layers and not self.explainer.has_no_layers
        if problem or waiting or image is None:
            self.stop_filling()
            self._wanted = None
            self.view.show_board(Board())
            self.note.setText(problem or "Reading the model's layers …")
            self.told.setText("")
            return
        maker_rows = self._rows()
        if isinstance(maker_rows, InputError):
            self.stop_filling()
            self._wanted = None
            self.view.show_board(Board())
            self.note.setText(f"{maker_rows.what[0].upper()}{maker_rows.what[1:]}: {maker_rows.hint}.")
            return
        wanted = BoardWanted(image, maker_rows, tuple(self._columns(image)), self.method, self._in_other(image))
        if wanted == self._wanted:
            return
        if self.explainer.asks and (snapshot.record.key, image, self.method) not in self._asked:
            self._offer_to_ask(image)
            return
        self._fill(wanted)

    def _offer_to_ask(self, image: int) -> None:
        """Say how often the service would be asked for this image, and leave it to the user."""
        self.stop_filling()
        self._wanted = None
        self.view.show_board(Board())
        size = self.workspace.shown.record.recipe.output_size()
        about = self.explainer.cost(self.explainer.answers_taken(self.method, size))
        self.note.setText(
            f"A map by {words.METHODS[self.method]} of this image takes up to {about} to the service, for all its targets together. "
            "Answers are kept: what was sent before is not sent again."
        )
        self.told.setText("")
        self.ask_button.show()

    def ask(self) -> None:
        """Ask the service for what a map of the image looked at takes."""
        image = self.workspace.shown.focus.current
        if image is not None:
            self._asked.add((self.workspace.shown.record.key, image, self.method))
            self.refresh()

    def _in_other(self, image: int) -> tuple[RunKey, int] | None:
        """The run held, and where the image stands there, where its model can tell of it."""
        held, other = self.workspace.shown.held, self.workspace.shown.other
        if held is None or other is None or other.at[image] < 0 or not held.b.record.kind.can.gradients:
            return None
        return held.b.record.key, int(other.at[image])

    def _rows(self) -> tuple[Row, ...] | InputError:
        snapshot = self.workspace.shown.snapshot
        try:
            if self.method in WITHOUT_LAYER:
                return heat_jobs.rows_without_layer()
            maker = self.workspace.makers.seen(snapshot.record)
            if maker is None:
                raise InputError("its layers have not been read", hint="look at the board again")
            return heat_jobs.rows_for(
                maker, self.method, self.explainer.rows, self.explainer.stages(), self.explainer.all_combined
            )
        except InputError as error:
            return error

    def _fill(self, wanted: BoardWanted) -> None:
        snapshot = self.workspace.shown.snapshot
        self.stop_filling()
        self._wanted, self._answers = wanted, 0
        record, held = snapshot.record, self.workspace.shown.held
        names = [one.name for one in wanted.rows]
        if wanted.other is not None and held is not None:
            letters = words.clipped(held.names.b, 14)
            names = [name for one in wanted.rows for name in (one.name, f"{letters}\n…")]
        board = Board(names, [])
        board.columns = [
            one.name if one is not None else f"{self._wish_name(wish)}\nnot here"
            for one, wish in zip(wanted.columns, self.wishes, strict=True)
        ]
        board.cells = [[self._waiting(one) for one in wanted.columns] for _ in names]
        for line in board.cells[1::2] if wanted.other is not None else ():
            for cell in line:
                cell.of_other = True
        if self.look is not None and self.look.image != wanted.image:
            self.look = self.other_look = None
        self.note.setText("")
        self.view.show_board(board)
        self.legend.set_scale(self._scale())
        self.scale.setEnabled(self.method not in SIGNED)
        self.stop_button.setVisible(self.method not in BY_GRADIENT)
        look, makers, looks = self.look, self.workspace.makers, self._looks()
        other = held.b.record if held is not None and wanted.other is not None else None
        step = 1 if other is None else 2

        def fill(work: Task) -> ImageView:
            seen = look or look_at(record, wanted.image, side=480)
            work.report(seen)
            with makers.acquire(record) as maker:
                maker.answered = work.report if record.kind.can.asked else maker.answered
                for cell in heat_jobs.compute_board(seen, maker, record, wanted):
                    placed = replace(cell, row=step * cell.row)
                    work.report((placed, to_image(heat_jobs.draw(seen, cell.heat, *looks, None))))
                if other is not None and wanted.other is not None and not work.stop.stopped:
                    fill_other(work, maker, other, wanted.other[1])
            return seen

        def fill_other(work: Task, maker: MapMaker, other: RunRecord, image: int) -> None:
            seen = replace(look_at(other, image, side=480), image=wanted.image)
            with makers.acquire(other) as its:
                rows = heat_jobs.rows_of_other(wanted.rows, maker, its, wanted.method)
                work.report(OtherRows(seen, [row.name for row in rows]))
                for cell in heat_jobs.compute_board(seen, its, other, replace(wanted, rows=rows)):
                    placed = replace(cell, row=2 * cell.row + 1)
                    work.report((placed, to_image(heat_jobs.draw(seen, cell.heat, *looks, None))))

        self._filling = self.explainer.workers.start(
            fill,
            done=lambda seen: self._filled(seen, looks),
            failed=self._not_filled,
            progress=self._take,
            priority=5,
        )

    def _looks(self) -> tuple[int, float, str]:
        """How maps are drawn: the base, the opacity and the scale."""
        return self.base.currentIndex(), self.opacity.value() / 100, self._scale()

    @staticmethod
    def _waiting(column: BoardColumn | None) -> BoardCell:
        return BoardCell(note="…" if column is not None else "Label and prediction agree, or one of them is missing.")

    def _take(self, event: object) -> None:
        if isinstance(event, ImageView):
            self.look = event
            return
        if isinstance(event, int):
            self._answers += event
            self.told.setText(f"{words.count(self._answers)} answers so far, those kept from before among them.")
            return
        if isinstance(event, OtherRows):
            self.other_look = event.look
            board = self.view.board
            for i, name in enumerate(event.names):
                board.rows[2 * i + 1] = f"{board.rows[2 * i + 1].split(chr(10))[0]}\n{name.split(chr(10))[0]}"
            self.view.update()
            return
        assert isinstance(event, tuple)
        cell: BoardMap = event[0]
        shown = self.view.board.cells[cell.row][cell.column]
        shown.heat, shown.picture = cell.heat, event[1]
        shown.note = f"peak {cell.peak:.3g}" if cell.peak > 0 else "all zero"
        self.view.announce()
        self.view.update()
        self._show_focus()

    def _filled(self, look: ImageView, looks: tuple[int, float, str]) -> None:
        self.look, self._filling = look, None
        self.stop_button.hide()
        for line in self.view.board.cells:
            for cell in line:
                if cell.heat is None and cell.note == "…":
                    cell.note = "stopped"
        if self.peaks.currentIndex() or looks != self._looks():
            self._redraw()
        self.view.update()

    def _not_filled(self, error: InputError) -> None:
        self._filling, self._wanted = None, None
        if isinstance(error, NotAgreed):
            self._asked.clear()
            self.refresh()
            self.workspace.notices.asked.emit(error, self.ask)
            return
        self.stop_button.hide()
        self.view.show_board(Board())
        self.note.setText(f"{error.what[0].upper()}{error.what[1:]}. {error.hint}")

    def stop_filling(self) -> None:
        """Stop working on the board; what is there stays."""
        if self._filling is not None:
            self._filling.cancel()
            self._filling = None
            for line in self.view.board.cells:
                for cell in line:
                    if cell.heat is None and cell.note == "…":
                        cell.note = "stopped"
            self.view.update()
        self.stop_button.hide()

    # --- drawing anew ---

    def _scale(self) -> str:
        return "difference" if self.method in SIGNED else SCALES[self.scale.currentText()]

    def _redraw_soon(self) -> None:
        self.legend.set_scale(self._scale())
        self._again.start()

    def _redraw(self) -> None:
        look, board = self.look, self.view.board
        if look is None:
            return
        self._drawing.cancel()
        looks, other_look = self._looks(), self.other_look
        heats = [
            (r, c, cell.heat, other_look if cell.of_other and other_look is not None else look)
            for r, line in enumerate(board.cells)
            for c, cell in enumerate(line)
            if cell.heat is not None
        ]
        common = (
            max((float(np.abs(h).max()) for _, _, h, _ in heats), default=0.0) if self.peaks.currentIndex() else None
        )

        def draw(work: Task) -> None:
            for r, c, heat, seen in heats:
                if work.stop.stopped:
                    return
                work.report((r, c, to_image(heat_jobs.draw(seen, heat, *looks, common))))

        def take(event: object) -> None:
            assert isinstance(event, tuple)
            if self.view.board is board:
                board.cells[event[0]][event[1]].picture = event[2]
                self.view.update()

        self._drawing.start(draw, progress=take)

    # --- reading values ---

    def _read_value(self, r: int, c: int, across: float, down: float) -> None:
        cell = self.view.board.cells[r][c]
        look = self._look_of(cell)
        if cell.heat is None or look is None:
            return
        _, place = base_picture(look, 2) if self.base.currentIndex() == 2 else (None, look.place)
        height, width = place.picture
        at = place_on_map(place, cell.heat.shape, down * height, across * width)
        if at is None:
            self.told.setText("Cropped away: the network does not see this part.")
            return
        value, peak = float(cell.heat[at]), float(np.abs(cell.heat).max())
        share = f", {percent(value / peak, 0)} of the peak {peak:.3g}" if peak else ""
        self.told.setText(
            f"{self._name_of(r, c)}: {value:.3g}{share}; place {at[0] + 1}, {at[1] + 1} of {cell.heat.shape[0]} × {cell.heat.shape[1]}"
        )

    def _look_of(self, cell: BoardCell) -> ImageView | None:
        """The picture as the model of a cell receives it."""
        return self.other_look if cell.of_other else self.look

    def _name_of(self, r: int, c: int) -> str:
        column = " ".join(self.view.board.columns[c].split("\n")[: 2 if "rather" in self.view.board.columns[c] else 1])
        told = self.view.board.rows[r].split(chr(10))
        return f"{column}, {' '.join(told) if self.view.board.cells[r][c].of_other else told[0]}"

    def _show_focus(self) -> None:
        """Say what the cell in focus is, and what has to be said beside it."""
        if not self.view.board.cells or not self.workspace.is_open:
            return
        r, c = self.view.at
        cell, told = self.view.board.cells[r][c], [self._name_of(r, c)]
        if cell.heat is not None and not np.any(cell.heat):
            told.append("all zero: no evidence for the target at this layer")
        elif cell.heat is not None:
            told.append(cell.note)
        wanted = self._wanted
        if wanted is not None and (column := wanted.columns[c]) is not None:
            judged = self.workspace.shown.snapshot.judged
            p = float(judged.probabilities([wanted.image])[0, column.targets[0].of]) if judged.has_scores else 0.0
            if p > SATURATED and wanted.method in WITHOUT_LAYER:
                told.append(f"p = {p:.5f}: so sure that hiding little hardly moves it")
        if self.explainer.remark:
            told.append(self.explainer.remark)
        self.told.setText("; ".join(told))

    def step_target(self, by: int) -> None:
        """Go to the next target."""
        self.view.move(0, by)

    def step_layer(self, by: int) -> None:
        """Go to the next layer towards the image (1) or the scores (-1)."""
        self.view.move(by, 0)

    # --- saving ---

    def _ask(self, name: str, kinds: str, save: Callable[[Path], None]) -> None:
        path, image = self.workspace.study_path, self.workspace.shown.focus.current
        if path is None or image is None:
            return
        stem = Path(self.workspace.shown.name_of(image)).stem
        wanted = ask_to_save(self, "Save", folder_to_save_in(path) / f"{stem}-{name}", kinds)
        if wanted is not None:
            save(wanted if wanted.suffix else wanted.with_suffix(Path(name).suffix))

    def _save(self, path: Path, data: bytes | str) -> None:
        try:
            write_whole(path, data)
            self.explainer.workspace.notices.say(f"Written: {path.name}.", path)
        except InputError as error:
            self.explainer.workspace.notices.fail(error)

    def _about(self) -> list[str]:
        snapshot, image = self.workspace.shown.snapshot, self.workspace.shown.focus.current
        assert image is not None
        info = snapshot.record.info
        return [f"{snapshot.record.image_set.items[image].path}", f"model {info.model}, {self.way.currentText()}"]

    def save_overlay(self, path: Path) -> None:
        """Write the map in focus over its base, with a legend."""
        r, c = self.view.at
        cell = self.view.board.cells[r][c] if self.view.board.cells else BoardCell()
        look = self._look_of(cell)
        if cell.heat is None or look is None:
            return
        pixels = heat_jobs.draw(
            look, cell.heat, self.base.currentIndex(), self.opacity.value() / 100, self._scale(), None
        )
        data = io.BytesIO()
        peak = float(np.abs(cell.heat).max())
        with_legend(pixels, self._scale(), peak, [f"evidence for {self._name_of(r, c)}", *self._about()]).save(
            data, "PNG"
        )
        self._save(path, data.getvalue())

    def save_raw(self, path: Path) -> None:
        """Write the map in focus as it is."""
        r, c = self.view.at
        cell = self.view.board.cells[r][c] if self.view.board.cells else BoardCell()
        if cell.heat is not None:
            data = io.BytesIO()
            np.save(data, cell.heat)
            self._save(path, data.getvalue())

    def save_board(self, path: Path) -> None:
        """Write the board as a picture, or as a drawing where the name ends in .svg."""
        board, look = self.view.board, self.look
        if look is None or not board.cells:
            return
        common = None
        if self.peaks.currentIndex():
            common = max(
                float(np.abs(cell.heat).max()) for line in board.cells for cell in line if cell.heat is not None
            )
        looks = self._looks()
        pictures = [
            [
                None if one.heat is None else heat_jobs.draw(self._look_of(one) or look, one.heat, *looks, common)
                for one in line
            ]
            for line in board.cells
        ]
        notes = [[one.note for one in line] for line in board.cells]
        title = "; ".join(self._about())
        columns = [name.replace("\n", " ") for name in board.columns]
        drawn = BoardPicture(title, board.rows, columns, pictures, notes, looks[2])
        if path.suffix.lower() == ".svg":
            self._save(path, board_as_svg(drawn))
            return
        data = io.BytesIO()
        board_as_image(drawn).save(data, "PNG")
        self._save(path, data.getvalue())

    def as_table(self) -> list[list[str]]:
        """The board's peaks, for the clipboard."""
        board = self.view.board
        lines = [
            [name.replace("\n", " "), *(cell.note for cell in line)]
            for name, line in zip(board.rows, board.cells, strict=True)
        ]
        return [["layer", *(name.replace("\n", " ") for name in board.columns)], *lines]

    @property
    def settled(self) -> bool:
        return self._filling is None and not self._drawers.busy and not self._again.waiting

    def stop(self) -> None:
        self._drawers.stop_all()
