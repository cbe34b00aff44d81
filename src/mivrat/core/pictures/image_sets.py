"""Image sets: which files there are, their labels and further columns, from a folder or a table."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from mivrat.core.errors import InputError
from mivrat.core.pictures.classes import ClassMatcher

PICTURE_ENDINGS = frozenset(
    {".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".bmp", ".dib", ".tif", ".tiff", ".webp", ".gif"}
)
TABLE_ENDINGS = frozenset({".csv", ".tsv", ".tab", ".jsonl", ".ndjson", ".parquet"})


@dataclass(frozen=True)
class ImageItem:
    """One listed image: its path relative to the set's root, its class index (None: unlabelled), further columns."""

    path: str
    label: int | None
    columns: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class ImageSet:
    """A set of listed images below one root folder."""

    name: str
    root: Path
    items: list[ImageItem]

    def file(self, index: int) -> Path:
        return self.root / self.items[index].path


def read_image_set(source: Path, classes: Sequence[str]) -> ImageSet:
    """An image set from a folder (one folder per class, or loose files without labels) or from a table file.

    Raises InputError where nothing is found, or where labels and classes do not match (both sides are listed).
    """
    if source.is_dir():
        return _from_folder(source, classes)
    if not source.exists():
        raise InputError(
            "there is no such folder or table",
            where=source,
            mend="name a folder of images, or a table with a path column",
        )
    if source.suffix.lower() not in TABLE_ENDINGS:
        raise InputError(
            "is neither a folder nor a table", where=source, mend="tables end in .csv, .tsv, .jsonl or .parquet"
        )
    return _from_table(source, classes)


def _picture_files(root: Path) -> Iterator[str]:
    """Paths relative to root of all picture files below it, links followed, no folder visited twice."""
    visited: set[tuple[int, int]] = set()
    for folder, folders, files in os.walk(root, followlinks=True):
        stat = os.stat(folder)
        if (stat.st_dev, stat.st_ino) in visited:
            folders.clear()
            continue
        visited.add((stat.st_dev, stat.st_ino))
        for name in files:
            if os.path.splitext(name)[1].lower() in PICTURE_ENDINGS and not name.startswith("._"):
                yield os.path.relpath(os.path.join(folder, name), root).replace(os.sep, "/")


def _from_folder(root: Path, classes: Sequence[str]) -> ImageSet:
    paths = sorted(_picture_files(root))
    if not paths:
        raise InputError(
            "holds no images",
            where=root,
            mend=f"Mivrat reads {', '.join(sorted(PICTURE_ENDINGS))}, in any depth of folders",
        )
    matcher = ClassMatcher(classes)
    items, unknown = [], set()
    for path in paths:
        folders = path.split("/")[:-1]
        # The outermost folder that names a class decides, so that "birch/slide 3/x.jpg" and "july/birch/x.jpg" both work.
        label = next((found for found in map(matcher.index, folders) if found is not None), None)
        if folders and label is None:
            unknown.add(folders[0])
        items.append(ImageItem(path, label))
    if unknown:
        matcher.require_all(
            [
                *(
                    path.split("/")[0]
                    for path, item in zip(paths, items, strict=True)
                    if "/" in path and item.label is None
                ),
                *(matcher.classes[item.label] for item in items if item.label is not None),
            ],
            root,
        )
    return ImageSet(root.resolve().name, root.resolve(), items)


def _from_table(source: Path, classes: Sequence[str]) -> ImageSet:
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
            mend="check that it is a well-formed table in UTF-8",
        ) from error
    table = table.rename({name: name.strip().lstrip("\ufeff") for name in table.columns})
    if "path" not in table.columns:
        raise InputError(
            f"has no 'path' column; its columns are {', '.join(table.columns)}",
            where=source,
            mend="name the column with the file paths 'path'",
        )
    if table.height == 0:
        raise InputError("lists no images", where=source, mend="give it at least one row")
    rows = table.to_dicts()
    for number, row in enumerate(rows, 1):
        if row["path"] is None or not str(row["path"]).strip():
            raise InputError(f"row {number} has no path", where=source, mend="fill it in, or take the row out")
    labels = [None if row.get("label") in (None, "") else str(row["label"]) for row in rows]
    index = ClassMatcher(classes).require_all([label for label in labels if label is not None], source)
    items = [
        ImageItem(
            str(row["path"]),
            None if label is None else index[label],
            {key: "" if value is None else str(value) for key, value in row.items() if key not in ("path", "label")},
        )
        for row, label in zip(rows, labels, strict=True)
    ]
    return ImageSet(source.stem, source.resolve().parent, items)
