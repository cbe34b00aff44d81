"""Class families: coarser groups of classes, read from a table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import quoted
from mivrat.core.pictures.classes import ClassMatcher

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


def read_families(path: Path, classes: Sequence[str]) -> dict[int, str]:
    """Class index -> family from a CSV or TSV table with the columns ``class`` and ``family``; classes may be left out.

    Raises InputError for an unreadable table, a missing column, a name not in the class list, or a class named twice.
    """
    try:
        separator = "," if path.suffix.lower() == ".csv" else "\t"
        table = pl.read_csv(path, separator=separator, infer_schema=False)
    except (pl.exceptions.PolarsError, OSError) as error:
        raise InputError(
            f"the table of families cannot be read ({' '.join(str(error).split())[:160]})",
            where=path,
            hint="give a CSV or TSV table with the columns class and family",
        ) from error
    missing = [name for name in ("class", "family") if name not in table.columns]
    if missing:
        raise InputError(
            f"has no column {' and no column '.join(repr(name) for name in missing)}; its columns are {quoted(table.columns)}",
            where=path,
            hint="name the columns class and family",
        )
    matcher, found = ClassMatcher(classes), dict[int, str]()
    for name, family in zip(table["class"].to_list(), table["family"].to_list(), strict=True):
        if not name or not family:
            continue
        index = matcher.index(str(name))
        if index is None:
            raise InputError(
                f"{str(name)!r} is not in the class list", where=path, hint="use the names of the class list"
            )
        if index in found and found[index] != str(family):
            raise InputError(f"puts {str(name)!r} into two families", where=path, hint="name every class once")
        found[index] = str(family)
    return found
