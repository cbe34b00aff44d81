"""Image sets: which files there are, their labels and further columns, from a folder or a table."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import until_stopped
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.tables import read_columns
from mivrat.core.base.text import quoted, unescaped
from mivrat.core.pictures.classes import ClassMatcher

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

PICTURE_ENDINGS = frozenset(
    {".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".bmp", ".dib", ".tif", ".tiff", ".webp", ".gif"}
)
TABLE_ENDINGS = frozenset({".csv", ".tsv", ".tab", ".jsonl", ".ndjson", ".parquet"})


Role = Literal["held-out", "training", "reference"]
ROLES: tuple[Role, ...] = ("held-out", "training", "reference")


@dataclass(frozen=True)
class ImageItem:
    """One listed image: its path relative to the set's root, its class index (None: unlabelled), further columns.

    ``said`` is the label as it was found, before it was matched to a class; empty without one.
    """

    path: str
    label: int | None
    columns: dict[str, str] = field(default_factory=dict)
    said: str = ""


@dataclass(frozen=True)
class ImageSet:
    """A set of listed images below one root folder; ``drawn`` tells how a subset was drawn, ``together`` the column whose
    values say which images belong together (empty: they count as independent)."""

    name: str
    root: Path
    items: list[ImageItem]
    role: Role = "held-out"
    drawn: str = ""
    unit_column: str = ""

    def file(self, index: int) -> Path:
        return self.root / self.items[index].path

    def files(self) -> list[Path]:
        """Where each listed image lies."""
        return [self.root / item.path for item in self.items]

    def told_path(self, index: int) -> str:
        """An image's path as results tell it: relative to the root, but whole where the root is that of the whole system."""
        path = self.items[index].path
        return f"/{path}" if self.root == Path(self.root.anchor) else path

    @property
    def labels(self) -> list[int | None]:
        return [item.label for item in self.items]


@dataclass(frozen=True)
class Listing:
    """What a folder or table lists, before labels are matched to classes.

    ``found`` holds for each image its path relative to the root, the texts that may be its label (the first one that
    names a class is; in a folder these are the folders' names, outermost first), and further columns.
    """

    name: str
    root: Path
    found: list[tuple[str, tuple[str, ...], dict[str, str]]]


@dataclass(frozen=True)
class Matched:
    """An image set with the two sides that did not meet: labels no class goes by (with their number of images), and
    classes no label goes by."""

    image_set: ImageSet
    unknown: dict[str, int]
    unused: list[str]


def match_labels(
    listing: Listing, classes: Sequence[str], pairing: Mapping[str, int | None] | None = None, role: Role = "held-out"
) -> Matched:
    """Match labels to classes: by ``pairing`` first (None there: no class), else by exact name, else by folded name."""
    matcher, pairing = ClassMatcher(classes), pairing or {}

    @cache
    def index(text: str) -> int | None:
        return pairing[text] if text in pairing else matcher.index(text)

    items: list[ImageItem] = []
    unknown: Counter[str] = Counter()
    for path, texts, columns in until_stopped(listing.found):
        said = next((text for text in texts if index(text) is not None), None)
        if said is None and texts:
            said = texts[0]
            if said not in pairing:
                unknown[said] += 1
        items.append(ImageItem(path, index(said) if said else None, columns, said or ""))
    used = {item.label for item in items}
    return Matched(
        ImageSet(listing.name, listing.root, items, role),
        dict(unknown),
        [name for i, name in enumerate(classes) if i not in used],
    )


def read_image_set(
    source: Path,
    classes: Sequence[str],
    role: Role = "held-out",
    pairing: Mapping[str, int | None] | None = None,
) -> ImageSet:
    """An image set from a folder (one folder per class, or loose files without labels) or from a table file.

    Raises InputError where nothing is found, or where labels and classes do not match (both sides are listed).
    """
    matched = match_labels(list_images(source), classes, pairing, role)
    if matched.unknown:
        raise labels_do_not_match(matched, source)
    return matched.image_set


def list_images(source: Path) -> Listing:
    """What a folder or a table file lists, or a single picture. Raises InputError where nothing is found."""
    if source.is_dir():
        return _from_folder(source)
    if not source.exists():
        raise InputError(
            "the folder or table does not exist",
            where=source,
            hint="name a folder of images, or a table with a path column",
        )
    if _ends_like_picture(source.name):
        # One picture, without a label: the folder it lies in may be called anything.
        return Listing(source.stem, source.resolve().parent, [(source.name, (), {})])
    if source.suffix.lower() not in TABLE_ENDINGS:
        raise InputError(
            "is neither a folder, nor a table, nor a picture",
            where=source,
            hint=f"tables end in .csv, .tsv, .jsonl or .parquet, pictures in {', '.join(sorted(PICTURE_ENDINGS))}",
        )
    return _from_table(source)


def labels_do_not_match(matched: Matched, where: object) -> InputError:
    """The error that lists both sides."""
    count = len(matched.unknown)
    return InputError(
        f"{count} label{'s' if count > 1 else ''} not in the class list: {quoted(sorted(matched.unknown))}; "
        f"classes without a label: {quoted(matched.unused) if matched.unused else 'none'}",
        where=where,
        hint="rename the folders or labels, or correct the class list, so that the two sides agree",
    )


def _ends_like_picture(name: str) -> bool:
    return os.path.splitext(name)[1].lower() in PICTURE_ENDINGS


def _picture_files(root: Path) -> Iterator[tuple[str, bool]]:
    """Paths relative to root of all picture files below it, links followed, no folder visited twice.

    With each whether it is a folder: one that may not be looked into, or an empty one that is called like a picture, is
    listed, so that it is told of instead of passed over.
    """
    visited: set[tuple[int, int]] = set()
    closed: list[str] = []

    def relative(path: str) -> str:
        return os.path.relpath(path, root).replace(os.sep, "/")

    for folder, folders, files in until_stopped(
        os.walk(root, followlinks=True, onerror=lambda error: closed.append(str(error.filename)))
    ):
        try:
            about = os.stat(folder)
        except OSError:
            closed.append(folder)
            continue
        if (about.st_dev, about.st_ino) in visited:
            folders.clear()
            continue
        visited.add((about.st_dev, about.st_ino))
        if not folders and not files and _ends_like_picture(folder) and folder != str(root):
            yield relative(folder), True
        for name in files:
            if _ends_like_picture(name) and not name.startswith("._"):
                yield relative(os.path.join(folder, name)), False
    for folder in closed:
        if folder == os.fspath(root):
            raise InputError("the folder may not be read", where=root, hint="ask for the right to read it")
        yield relative(folder), True


def _from_folder(root: Path) -> Listing:
    found = sorted(_picture_files(root))
    if not found:
        raise InputError(
            "holds no images",
            where=root,
            hint=f"Mivrat reads {', '.join(sorted(PICTURE_ENDINGS))}, in any depth of folders",
        )
    # The outermost folder that names a class decides, so that "birch/slide 3/x.jpg" and "july/birch/x.jpg" both work.
    # Of a folder that may not be read its own name may be the class, unless it is called like a picture.
    labels = [
        tuple(path.split("/")[: None if is_folder and not _ends_like_picture(path) else -1])
        for path, is_folder in found
    ]
    listed = [(path, texts, dict[str, str]()) for (path, _), texts in zip(found, labels, strict=True)]
    return Listing(root.resolve().name, root.resolve(), listed)


def read_table(source: Path) -> pl.DataFrame:
    """A CSV, TSV, JSON Lines or Parquet table with a ``path`` column and at least one row; InputError for any other."""
    table = read_columns(source)
    if "path" not in table.columns:
        raise InputError(
            f"has no 'path' column; its columns are {', '.join(table.columns)}",
            where=source,
            hint="name the column with the file paths 'path'",
        )
    if table.height == 0:
        raise InputError("lists no images", where=source, hint="give it at least one row")
    for number, path in enumerate(table["path"].to_list(), 1):
        if path is None or not str(path).strip():
            raise InputError(f"row {number} has no path", where=source, hint="fill it in, or take the row out")
    return table


def _from_table(source: Path) -> Listing:
    rows = read_table(source).to_dicts()
    folder = source.resolve().parent

    def named(path: str) -> str:
        # A path with escapes, as Mivrat writes names that are no UTF-8; unless there is a file of just this name.
        plain = unescaped(path)
        return path if plain == path or os.path.lexists(folder / path) else plain

    paths = [os.path.normpath(named(str(row["path"]))).replace(os.sep, "/") for row in until_stopped(rows)]
    root = folder
    if any(path.startswith(("/", "../")) for path in paths):
        # Files beside or above the table: the root is what all of them and the table have in common.
        root = Path(os.path.commonpath([folder, *(os.path.normpath(folder / path) for path in paths)]))
        paths = [os.path.relpath(os.path.normpath(folder / path), root).replace(os.sep, "/") for path in paths]
    found: list[tuple[str, tuple[str, ...], dict[str, str]]] = []
    for path, row in until_stopped(zip(paths, rows, strict=True)):
        label = row.get("label")
        found.append(
            (
                path,
                () if label in (None, "") else (str(label),),
                {
                    key: "" if value is None else str(value)
                    for key, value in row.items()
                    if key not in ("path", "label")
                },
            )
        )
    return Listing(source.stem, root, found)
