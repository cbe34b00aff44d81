"""The groups of a run by every column of its image table, tested together: who looks through all columns has asked for all groups."""

from __future__ import annotations

import threading
from dataclasses import replace
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.groups import Group, group_figures, group_names
from mivrat.core.figures.significance import holm
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.running.snapshot import Snapshot
from mivrat.core.selecting.ordering import columns_to_group_by

# So many columns are looked through.
MOST_COLUMNS = 12
# What was found in a run last, by which images; several views ask for the same at the same time.
_found: WeakKeyDictionary[Snapshot, tuple[bytes, dict[str, list[Group]]]] = WeakKeyDictionary()
_finding = threading.Lock()


def groups_of_run(snapshot: Snapshot, among: NDArray[np.bool_] | None = None) -> dict[str, list[Group]]:
    """The groups by each of the first columns to group by, over the evaluated images or those of them that ``among`` marks; the one that
    most surely falls below the rest first. Each group's p is corrected over all groups of all these columns (Holm 1979)."""
    which = b"" if among is None else np.packbits(among).tobytes()
    with _finding:
        known = _found.get(snapshot)
        if known is None or known[0] != which:
            known = _found[snapshot] = which, _find_groups(snapshot, among)
    return known[1]


def _find_groups(snapshot: Snapshot, among: NDArray[np.bool_] | None) -> dict[str, list[Group]]:
    items, judged = snapshot.record.image_set.items, snapshot.judged
    use = judged.evaluated_among(among)
    found: dict[str, list[Group]] = {}
    for column in columns_to_group_by(items)[:MOST_COLUMNS]:
        names = group_names(column_of(items, column))
        found[column] = group_figures(
            names, judged.right, judged.confidence, use, judged.units, judged.alike, corrected=False
        )
    corrected = iter(holm([one.p for groups in found.values() for one in groups]))
    return {column: [replace(one, p=next(corrected)) for one in groups] for column, groups in found.items()}
