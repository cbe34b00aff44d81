"""What the tests know of the demonstration."""

from __future__ import annotations

import csv

from mivrat.core.pictures.classes import read_class_list
from mivrat.demo.study import DATA

CLASSES = tuple(read_class_list(DATA / "classes.txt"))


def planted() -> dict[str, list[str]]:
    """What was planted in which image of the demonstration, by path."""
    with open(DATA / "planted.csv", encoding="utf-8") as file:
        found: dict[str, list[str]] = {}
        for row in csv.DictReader(file):
            found.setdefault(row["path"], []).append(row["planted"])
    return found
