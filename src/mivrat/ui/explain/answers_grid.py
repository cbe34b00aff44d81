"""A small table of answers below pictures: a name, then one column for each picture."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QGridLayout

from mivrat.ui.parts.widgets import Elided


class AnswersGrid(QGridLayout):
    """Lines of texts, the first of them a heading; nothing is seen before ``show_lines``."""

    def __init__(self, lines: int, columns: int) -> None:
        super().__init__()
        self.setHorizontalSpacing(12)
        self.setVerticalSpacing(4)
        self.cells = [[Elided() for _ in range(columns)] for _ in range(lines)]
        for r, line in enumerate(self.cells):
            for c, cell in enumerate(line):
                cell.setProperty("soft", not r)
                self.addWidget(cell, r, c)
        self.setColumnStretch(0, 2)
        for c in range(1, columns):
            self.setColumnStretch(c, 3)

    def show_lines(self, lines: Sequence[Sequence[str]]) -> None:
        """Show these texts; none hides the table."""
        for r, cells in enumerate(self.cells):
            for c, cell in enumerate(cells):
                cell.setVisible(bool(lines))
                cell.set_text(lines[r][c] if lines else "")
