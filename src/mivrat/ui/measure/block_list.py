"""The blocks of classes with the most mistakes inside, as a table; a row opens its block."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal

from mivrat.core.figures.blocks import Block
from mivrat.ui import words
from mivrat.ui.parts.tables import FigureTable

COLUMNS = ("block", "classes", "inside", "leaving", "entering")


class BlockList(FigureTable):
    """Blocks in their order, those without any mistake left out."""

    opened = Signal(int)

    def __init__(self) -> None:
        super().__init__(
            COLUMNS, (64, 60, 66, 72), "blocks with the most mistakes inside; Enter opens one", numbers=(1, 2, 3, 4)
        )
        self.verticalHeader().setDefaultSectionSize(26)
        self.cellClicked.connect(lambda line, _: self.opened.emit(line))
        self.cellActivated.connect(lambda line, _: self.opened.emit(line))

    def show_blocks(self, blocks: Sequence[Block]) -> None:
        some = [one for one in blocks if one.inside or one.leaving or one.entering]
        lines = [
            (one.name, *(words.count(n) for n in (len(one.classes), one.inside, one.leaving, one.entering)))
            for one in some
        ]
        tips = [
            f"{one.name}: {words.count(one.inside)} mistakes among its {words.count(len(one.classes))} classes, {words.count(one.leaving)} of its images called something "
            f"outside, {words.count(one.entering)} of others called one of it"
            for one in some
        ]
        self.show_lines(lines, tips)
