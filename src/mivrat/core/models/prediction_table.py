"""A table of predictions made elsewhere, as a model of its own kind: it answers for the images it lists."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.base.job import until_stopped
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import quoted, unescaped
from mivrat.core.models.model import Capabilities, ModelKind
from mivrat.core.models.scores import SUM_WITHIN, Kind, ScoreFacts, doubtful_scores
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.image_sets import TABLE_ENDINGS, ImageSet, paths_of, read_table, refuse_no_path, tidied
from mivrat.core.pictures.recipe import Recipe

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

# So many numbers are read at a time.
PIECE = 4_000_000
NO_ROW = "the table of predictions has no row for it"


class PredictionTable:
    """Answers read from a table: a ``path`` column with either one column of scores per class (named after the class,
    or ``p:`` and the class), or ``predicted`` and, where it is known, ``confidence``.

    ``settled`` tells which; of the recipe only ``scores.kind`` means something here. Numbers are kept as they are
    written, in double precision. Raises InputError where neither is there, or where a name or number cannot be read.
    """

    def __init__(self, path: Path, classes: Sequence[str], recipe: Recipe | None = None) -> None:
        self.path = path
        self.name = path.stem
        self.recipe = Recipe() if recipe is None else Recipe(scores=recipe.scores)
        self.recipe_is_guess = False
        self.remarks: list[str] = []
        self.row_dtype: type[np.float32] | type[np.float64] = np.float64
        self._classes, self._stored = len(classes), None
        if (stored := _StoredNumbers.of(path, classes)) is not None and (kind := stored.kind(self.recipe)) is not None:
            self._stored, self._settled = stored, kind
            self.row_dtype, self.columns = stored.dtype, len(classes)
            self._paths = [_unescaped(one) for one in until_stopped(stored.paths)]
            return
        table = read_table(path)
        self._paths = [_unescaped(str(one)) for one in until_stopped(table["path"].to_list())]
        columns = _class_columns(table.columns, classes)
        if len(columns) == len(classes):
            texts = _texts(table, [columns[k] for k in range(len(classes))])
            self._rows = _numbers(texts, path)
            self._settled = self._read_kind(texts)
        elif "predicted" in table.columns:
            self._rows = _predictions(table, classes, path)
            self._settled = "prediction"
            told = "with confidence" if "confidence" in table.columns else "without confidence"
            self.remarks.append(
                f"lists predictions {told}, and no scores. Top-k accuracy beyond top-1, log loss, Brier score, AUROC and "
                f"average precision need scores{'' if 'confidence' in table.columns else ', and calibration needs a confidence'}"
            )
        else:
            missing = [name for k, name in enumerate(classes) if k not in columns]
            raise InputError(
                f"holds neither a column for every class (missing: {quoted(missing, 6)}) nor a 'predicted' column; its columns are {quoted(table.columns)}",
                where=path,
                hint="name the columns after the classes, or give 'predicted' and 'confidence'",
            )
        self.columns = self._rows.shape[1]

    @property
    def kind(self) -> ModelKind:
        return TABLE

    @cached_property
    def content(self) -> str:
        """The hash of its file."""
        return sha256_of(self.path)

    @property
    def settled(self) -> Kind:
        return self._settled

    @property
    def class_count(self) -> int:
        return self._classes

    def misfit(self, shape: tuple[int, ...]) -> str:
        """No image goes in."""
        return f"{self.kind.called} answers for no new image"

    def scores(self, batch: NDArray[Any]) -> NDArray[np.float32]:
        """It lists its answers, and gives no others."""
        raise NotImplementedError

    def _read_kind(self, texts: pl.DataFrame) -> Kind:
        """The kind of scores the recipe says, else that all rows agree on; percentages become probabilities."""
        rows, said = self._rows, self.recipe.scores.kind
        seen, slack = ScoreFacts.of(rows), max(SUM_WITHIN, rows.shape[1] * _written_to(texts))
        finite = rows[np.isfinite(rows).all(axis=1)]
        if said in ("auto", "probabilities") and rows.shape[1] > 1 and len(finite) and not seen.within:
            sums = finite.sum(axis=1)
            if bool((finite >= 0).all() and (finite <= 100).all() and (np.abs(sums - 100) <= 100 * slack).all()):
                self._rows = rows / 100
                self.remarks.append("the scores are percentages: they were divided by 100")
                return "probabilities"
        if said != "auto":
            return said
        if seen.doubtful and seen.furthest > slack:
            raise doubtful_scores(self.path, seen.furthest)
        return "probabilities" if seen.doubtful else seen.kind

    def looked_up(self, image_set: ImageSet) -> tuple[NDArray[np.int64], Iterator[NDArray[np.floating]]]:
        """The row of each image of a set (-1 where the table does not list it), and all rows (x columns), some at a time. Raises
        InputError where it lists none.

        A row is an image's where its path is the image's path in the set, or leads to the same file from the table.
        """
        folder, root = str(self.path.resolve().parent), str(image_set.root)
        # Of several rows for one file the first counts, and a path that leads to the file before one that is called so.
        by_path: dict[str, int] = {}
        everywhere = range(len(self._paths))
        escapes = [number for number in everywhere if "\\" in self._paths[number]]
        plain = [unescaped(self._paths[number]) for number in escapes]  # names that are no UTF-8, as Mivrat writes them
        for numbers, paths in ((escapes, plain), (everywhere, self._paths), (everywhere, _below(folder, self._paths))):
            by_path.update(zip(reversed(tidied(paths)), reversed(numbers), strict=True))
        paths = paths_of(image_set.items)
        at = np.array([by_path.get(path, -1) for path in until_stopped(_below(root, paths))], np.int64)
        for i in np.flatnonzero(at < 0).tolist():
            at[i] = by_path.get(os.path.normpath(paths[i]), -1)
        listed = at >= 0
        if not listed.any():
            raise InputError(
                f"lists none of the images of {image_set.name} (its first path: {self._paths[0]!r}; the set's: {image_set.items[0].path!r})",
                where=self.path,
                hint="give paths as in the image set, or relative to the table",
            )
        return at, self._stored.pieces() if self._stored is not None else iter([self._rows])


def _below(folder: str, paths: list[str]) -> list[str]:
    """Paths from a folder, without detours."""
    start = f"{folder.rstrip('/')}/"
    return tidied([path if path.startswith("/") else start + path for path in paths])


class _StoredNumbers:
    """The scores of a Parquet file that holds them as floating-point numbers: they are read some rows at a time, each time they are
    asked for, so that they need not fit into memory."""

    def __init__(
        self, path: Path, paths: list[str], names: list[str], dtype: type[np.float32] | type[np.float64]
    ) -> None:
        self._path, self.paths, self._names, self.dtype = path, paths, names, dtype

    @classmethod
    def of(cls, path: Path, classes: Sequence[str]) -> _StoredNumbers | None:
        """The numbers of such a file; None for any other file, whatever is wrong with it. Raises InputError where a row has no path."""
        if path.suffix.lower() != ".parquet":
            return None
        try:
            schema = pl.read_parquet_schema(path)
            found = _class_columns(list(schema), classes)
            kinds = {schema[name] for name in found.values()}
            plain = "path" in schema and len(found) == len(classes) > 1 and kinds <= {pl.Float32, pl.Float64}
            paths = pl.read_parquet(path, columns=["path"])["path"].to_list() if plain else []
        except (pl.exceptions.PolarsError, OSError):
            return None
        if not paths or any(one.strip() != one or one.startswith("\ufeff") for one in schema):
            return None
        refuse_no_path(paths, path)
        dtype = np.float32 if kinds == {pl.Float32} else np.float64
        return cls(path, [str(one) for one in paths], [found[k] for k in range(len(classes))], dtype)

    def pieces(self) -> Iterator[NDArray[np.floating]]:
        """All rows, rows x classes, some at a time; a missing number is NaN. Raises InputError where they cannot be read."""
        step = max(1, PIECE // len(self._names))
        try:
            table = pl.scan_parquet(self._path).select(pl.col(name).fill_null(float("nan")) for name in self._names)
            for some in table.collect_batches(chunk_size=step, maintain_order=True):
                yield some.to_numpy().astype(self.dtype, copy=False)
        except (pl.exceptions.PolarsError, OSError) as error:
            raise InputError(
                f"the table cannot be read ({' '.join(str(error).split())[:160]})",
                where=self._path,
                hint="check that it is a whole Parquet file",
            ) from error

    def kind(self, recipe: Recipe) -> Kind | None:
        """The kind of scores that the recipe says, else that all rows agree on; None where that takes a look at how the numbers are
        written: they may be percentages, or rounded."""
        said = recipe.scores.kind
        if said != "auto" and said != "probabilities":
            return said
        seen, within_percent = ScoreFacts(), True
        for rows in until_stopped(self.pieces()):
            seen += ScoreFacts.of(rows)
            finite = rows[np.isfinite(rows).all(axis=1)]
            within_percent = within_percent and bool((finite >= 0).all() and (finite <= 100).all())
        if seen.doubtful or (within_percent and not seen.within):
            return None
        return seen.kind if said == "auto" else said


def _load(path: Path, classes: Sequence[str], recipe: Recipe | None, _threads: int) -> PredictionTable:
    return PredictionTable(path, classes, recipe)


TABLE = ModelKind("table", "a table of predictions", TABLE_ENDINGS, Capabilities(False, False, False), _load)


def _unescaped(text: str) -> str:
    """A cell without the ' that keeps a spreadsheet from taking it for a formula."""
    return text[1:] if text[:1] == "'" and text[1:2] in ("=", "+", "-", "@", "\t", "\r", "\n") else text


def _class_columns(names: Sequence[str], classes: Sequence[str]) -> dict[int, str]:
    matcher = ClassMatcher(classes)
    found: dict[int, str] = {}
    reserved = ("path", "label", "predicted", "confidence", "rank")
    for name in names:
        plain = _unescaped(name)
        index = matcher.index(plain.removeprefix("p:"))
        if index is not None and (plain.startswith("p:") or name not in reserved):
            found.setdefault(index, name)
    return found


def _texts(table: pl.DataFrame, names: Sequence[str]) -> pl.DataFrame:
    """Some columns as they are written; an empty cell becomes null."""
    return table.select([pl.col(name).cast(pl.String).replace("", None) for name in names])


# The digits behind the point, and the exponent, of a number as it is written.
_DECIMALS = re.compile(r"^\s*[-+]?\d*\.?(\d*)(?:[eE]([-+]?\d+))?\s*$")


def _written_to(texts: pl.DataFrame) -> float:
    """Half a unit of the last decimal that the numbers of a table are written with; 0 for whole numbers."""
    most = 0
    for column in until_stopped(texts.iter_columns()):
        for text in column.drop_nulls().unique().to_list():
            found = _DECIMALS.match(text)
            if found is not None and len(text) < 400:
                most = max(most, len(found[1]) - int(found[2] or 0))
    return 0.5 * 10.0**-most if most else 0.0


def _numbers(texts: pl.DataFrame, path: Path) -> NDArray[np.float64]:
    try:
        # An empty cell is a score that is missing: the row fails, as one with NaN does.
        return texts.cast(pl.Float64).fill_null(float("nan")).to_numpy().astype(np.float64)
    except pl.exceptions.PolarsError as error:
        raise InputError(
            f"holds a score that is no number ({' '.join(str(error).split())[:120]})",
            where=path,
            hint="give every class's score as a number",
        ) from error


def _predictions(table: pl.DataFrame, classes: Sequence[str], path: Path) -> NDArray[np.float64]:
    """Predicted class and confidence, images x 2; an empty prediction makes the row fail, an empty confidence stays NaN."""
    matcher = ClassMatcher(classes)
    said = [None if one in (None, "") else _unescaped(str(one)) for one in table["predicted"].to_list()]
    index = {one: matcher.index(one) for one in set(said) if one is not None}
    unknown = sorted(one for one, found in index.items() if found is None)
    if unknown:
        raise InputError(
            f"predicts what is not in the class list: {quoted(unknown)}",
            where=path,
            hint="use the names of the class list",
        )
    rows = np.full((table.height, 2), np.nan)
    rows[:, 0] = [np.nan if one is None else index[one] for one in said]
    if "confidence" in table.columns:
        rows[:, 1] = _numbers(_texts(table, ["confidence"]), path)[:, 0]
        bad = np.flatnonzero((rows[:, 1] < 0) | (rows[:, 1] > 1))
        if len(bad):
            raise InputError(
                f"row {bad[0] + 1} has confidence {rows[bad[0], 1]:g}",
                where=path,
                hint="give confidence as a number from 0 to 1",
            )
    return rows
