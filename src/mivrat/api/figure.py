"""One figure: its value, the ends of its interval, the number of images it is of, and why it is missing where it is."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape

from mivrat.core.base.numbers import decimal, percent, points, signed, signed_span, span
from mivrat.core.base.text import count, plural
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.metrics import Metric, Unit


@dataclass(frozen=True, repr=False)
class Figure:
    """A figure of one run, or the difference of two (``of_difference``).

    ``low`` and ``high`` are the ends of its 95 % interval (None: it has none, and ``how`` says why, as it says how the interval was made
    where there is one). ``value`` is None where the figure is undefined, and ``why`` says so. ``n`` is the number of images, ``units``
    that of what belongs together, where the images say so; ``p`` the probability of so large a difference by chance, where it is tested.
    """

    key: str
    name: str
    value: float | None
    low: float | None
    high: float | None
    n: int
    units: int | None = None
    unit: Unit = "%"
    why: str = ""
    how: str = ""
    p: float | None = None
    of_difference: bool = False

    def __float__(self) -> float:
        """The value; NaN where there is none."""
        return float("nan") if self.value is None else self.value

    def _told(self) -> tuple[str, str]:
        """The value and its interval, as every window and report writes them."""
        if self.value is None:
            return "–", ""
        if self.unit == "images":
            return count(round(self.value)), ""
        if self.unit == "points" or (self.of_difference and self.unit == "%"):
            return f"{points(self.value)} points", signed_span(self.low, self.high)
        if self.of_difference:
            return signed(self.value, 3), signed_span(self.low, self.high, 1, 3)
        if self.unit == "%":
            return percent(self.value), span(self.low, self.high)
        return decimal(self.value), span(self.low, self.high, 1, 3)

    @property
    def _of(self) -> str:
        return f"N = {count(self.n)}" + (f", {plural(self.units, 'unit')}" if self.units is not None else "")

    def __str__(self) -> str:
        value, ends = self._told()
        if self.value is None:
            return f"{self.name}: none ({self.why})"
        if self.unit == "images":
            return f"{self.name} {value}"
        return f"{self.name} {value} ({ends or 'no interval'}, {self._of})"

    def __repr__(self) -> str:
        return f"<{self}>"

    def _repr_html_(self) -> str:
        return f"<span title='{escape(self.how or self.why, quote=True)}'>{escape(str(self))}</span>"

    def cells(self) -> tuple[str, str, str, str]:
        """Name, value, interval and what it is of, as texts."""
        return (self.name, *self._told(), self._of)


def of_share(metric: Metric, share: Proportion, why: str = "") -> Figure:
    """A share with its interval: Wilson's, or over units."""
    how = "Wilson score interval, 95 %"
    if share.units is not None:
        how = f"95 % interval over {plural(share.units, 'unit')}"
    if share.low is None and share.value is not None:
        how = f"no interval: {plural(share.units or 0, 'unit')} are too few"
    why = why if share.value is None else ""
    return Figure(
        metric.key, metric.name, share.value, share.low, share.high, share.total, share.units, why=why, how=how
    )


def of_difference(metric: Metric, found: Difference, n: int, units: int | None = None, why: str = "") -> Figure:
    """The difference of two runs, b less a."""
    return Figure(
        metric.key,
        metric.name,
        found.value,
        found.low,
        found.high,
        n,
        units,
        metric.unit,
        why if found.value is None else "",
        p=found.p,
        of_difference=True,
    )


def as_table(figures: list[Figure], title: str, remarks: list[str] | None = None) -> str:
    """Figures as a table in HTML, in whatever colours the page around it has."""
    rows = "".join(
        "<tr>"
        + "".join(
            f"<td style='text-align:{side};padding-right:1em'>{escape(cell)}</td>"
            for cell, side in zip(one.cells(), ("left", "right", "left", "left"), strict=True)
        )
        + "</tr>"
        for one in figures
    )
    heads = "".join(f"<th style='text-align:left'>{one}</th>" for one in ("figure", "value", "95 % interval", "of"))
    told = "".join(f"<p>{escape(one)}</p>" for one in remarks or ())
    return f"<div><p><b>{escape(title)}</b></p><table><thead><tr>{heads}</tr></thead><tbody>{rows}</tbody></table>{told}</div>"
