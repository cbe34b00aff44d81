"""Where labels go: of each stratum its share of the images beside its share of the labels."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize

from mivrat.core.concluding.labelling import LabelStratum
from mivrat.ui import words
from mivrat.ui.parts.plot import Diagram, bars, line, pen, text
from mivrat.ui.theme import mix, theme


class StrataDiagram(Diagram):
    """Strata stand from the least values to the highest, as wide as each other; ``choose`` is called with the one selected."""

    def __init__(self, choose: Callable[[int, bool], object]) -> None:
        super().__init__("where the labels go; arrow keys move over the strata, Enter selects")
        self._choose = choose
        self.strata: Sequence[LabelStratum] = ()
        self.setMinimumSize(QSize(240, 150))
        self.setFixedHeight(160)
        self.plot = self.add(0, x=(0, 1), y=(0, 1))
        self.plot.getAxis("left").enableAutoSIPrefix(False)

    def show_strata(self, strata: Sequence[LabelStratum]) -> None:
        """Show these strata."""
        self.strata, self.cursor = strata, -1
        self.redraw()

    def marks(self) -> int:
        return len(self.strata)

    def mark_at(self, point: QPointF) -> int:
        x = self.numbers(self.plot, point).x()
        return int(x) if 0 <= x < len(self.strata) else -1

    def mark_rect(self, mark: int) -> QRectF:
        low, high = self.plot.viewRange()[1]
        return QRectF(self.place(self.plot, mark, high), self.place(self.plot, mark + 1, low))

    def describe(self, mark: int) -> str:
        one = self.strata[mark]
        return f"{one.name}: {words.count(one.labels)} of {words.images(one.pool)} to label"

    def select(self, mark: int, beside: bool, *, enter: bool = False) -> None:
        self._choose(mark, enter)

    def draw(self) -> None:
        if not self.strata:
            return
        number, at = len(self.strata), np.arange(len(self.strata))
        pool = np.array([one.pool for one in self.strata], float)
        labels = np.array([one.labels for one in self.strata], float)
        shares = pool / pool.sum(), labels / max(1.0, labels.sum())
        top = 1.3 * float(max(shares[0].max(), shares[1].max()))
        self.plot.setXRange(0, number, padding=0)
        self.plot.setYRange(0, top, padding=0)
        self.name_axes(self.plot, "stratum, by rising " + self.strata[0].name.partition(" ")[0], "share")
        self.tick(self.plot, "left", [(0, "0"), (top / 1.3, f"{100 * top / 1.3:.0f} %")])
        self.tick(self.plot, "bottom", [(i + 0.5, str(i + 1)) for i in range(number) if number <= 20 or not i % 5])
        sheet = theme.colour("sheet")
        for heights, left, token in ((shares[0], 0.1, "soft"), (shares[1], 0.52, "accent")):
            fill = mix(sheet, theme.colour(token), 0.75)
            self.plot.addItem(bars(at + left, at + left + 0.38, np.zeros(number), heights, fill))
        self.plot.addItem(line([0, number], [0, 0], pen("ink")))
        for words_of_it, place, token in (
            (f"images: N = {words.count(int(pool.sum()))}", 0.0, "soft"),
            (f"labels: N = {words.count(int(labels.sum()))}", number / 3, "accent"),
        ):
            self.plot.addItem(text(words_of_it, place, top, token, (0, 0)), ignoreBounds=True)
