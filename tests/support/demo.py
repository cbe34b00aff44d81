"""What the tests know of the demonstration."""

from __future__ import annotations

from mivrat.core.pictures.classes import read_class_list
from mivrat.demo.study import DATA

CLASSES = tuple(read_class_list(DATA / "classes.txt"))
