"""Tables read from files: CSV, TSV, JSON Lines and Parquet, with the names of their columns tidied."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import quoted

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")


def read_columns(source: Path) -> pl.DataFrame:
    """A table, CSV and TSV all as text; InputError where it cannot be read or names a column twice."""
    ending = source.suffix.lower()
    try:
        if ending in (".csv", ".tsv", ".tab"):
            table = pl.read_csv(
                source, separator="," if ending == ".csv" else "\t", infer_schema=False, encoding="utf8"
            )
        elif ending == ".parquet":
            table = pl.read_parquet(source)
        else:
            table = pl.read_ndjson(source)
    except (pl.exceptions.PolarsError, OSError, UnicodeDecodeError) as error:
        raise InputError(
            f"the table cannot be read ({' '.join(str(error).split())[:160]})",
            where=source,
            hint="check that it is a well-formed table in UTF-8",
        ) from error
    plain = {name: name.strip().lstrip("\ufeff") for name in table.columns}
    doubled = [name for name, count in Counter(plain.values()).items() if count > 1]
    if doubled:
        raise InputError(
            f"has more than one column {quoted(doubled)}", where=source, hint="give every column a name of its own"
        )
    return table.rename(plain)
