"""Every figure in one record: what it is called, what it means, how it is read off, and what can be asked of it."""

from __future__ import annotations

from typing import Literal

from mivrat.core.figures.intervals import Proportion

Value = Proportion | float | None
Unit = Literal["%", "points", "number", "count"]
