"""Image sets: which files there are, their labels and further columns, from a folder or a table."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Literal, overload

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import until_stopped
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.tables import read_columns
from mivrat.core.base.text import quoted, unescaped
from mivrat.core.pictures import dicom
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.containers import ARCHIVE_ENDINGS, PACKED_ENDINGS, PICTURE_TABLE_ENDINGS, frame_paths

if TYPE_CHECKING:
    import polars as pl

    from mivrat.core.pictures import container_listing as inside
    from mivrat.core.pictures.container_listing import Listed
else:
    pl = LazyModule("polars")
    inside = LazyModule("mivrat.core.pictures.container_listing")  # it takes tables

PICTURE_ENDINGS = frozenset(
    {".jpg", ".jpeg", ".jpe", ".jfif", ".png", ".bmp", ".dib", ".tif", ".tiff", ".webp", ".gif", ".dcm", ".dicom"}
)
TABLE_ENDINGS = frozenset({".csv", ".tsv", ".tab", ".jsonl", ".ndjson", ".parquet"})


# So many images are kept as columns.
MANY = 20_000

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


class ItemColumns(Sequence[ImageItem]):
    """N images as columns: each is made when it is asked for, so that a million of them take little room.

    ``labels`` are class indices (-1: none); ``said`` and each further column are N texts.
    """

    def __init__(
        self,
        paths: list[str],
        labels: NDArray[np.integer],
        said: Sequence[str],
        columns: Mapping[str, Sequence[str]] | None = None,
    ) -> None:
        self.paths, self.label_indices = paths, labels.astype(np.int64)
        self.said, self.columns = said, dict(columns or {})

    def __len__(self) -> int:
        return len(self.paths)

    @overload
    def __getitem__(self, at: int) -> ImageItem: ...

    @overload
    def __getitem__(self, at: slice) -> list[ImageItem]: ...

    def __getitem__(self, at: int | slice) -> ImageItem | list[ImageItem]:
        if isinstance(at, slice):
            return [self._item(i) for i in range(*at.indices(len(self)))]
        if not -len(self) <= at < len(self):
            raise IndexError(at)
        return self._item(at % len(self))

    def __iter__(self) -> Iterator[ImageItem]:
        return map(self._item, range(len(self)))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and len(other) == len(self) and all(map(ImageItem.__eq__, self, other))

    __hash__ = None  # type: ignore[assignment]  # a list has none either

    def _item(self, i: int) -> ImageItem:
        label = int(self.label_indices[i])
        columns = {name: values[i] for name, values in self.columns.items()}
        return ImageItem(self.paths[i], label if label >= 0 else None, columns, self.said[i])

    def column(self, name: str, first: int | None = None) -> list[str]:
        """A further column's values, empty where there is no such column; of the first images only where that is said."""
        found = self.columns.get(name)
        return [""] * len(self.paths[:first]) if found is None else list(found[:first])


def column_of(items: Sequence[ImageItem], name: str, first: int | None = None) -> list[str]:
    """A further column's values for all images, or the first of them, empty where an image has none."""
    if isinstance(items, ItemColumns):
        return items.column(name, first)
    return [item.columns.get(name, "") for item in items[:first]]


def paths_of(items: Sequence[ImageItem]) -> list[str]:
    """The paths of all images."""
    return items.paths if isinstance(items, ItemColumns) else [item.path for item in items]


def said_of(items: Sequence[ImageItem]) -> Sequence[str]:
    """The labels of all images as they were found; empty without one."""
    return items.said if isinstance(items, ItemColumns) else [item.said for item in items]


def label_indices_of(items: Sequence[ImageItem]) -> NDArray[np.int64]:
    """The class index of each image's label; -1 without one."""
    if isinstance(items, ItemColumns):
        return items.label_indices
    return np.array([-1 if item.label is None else item.label for item in items], np.int64)


@dataclass(frozen=True)
class ImageSet:
    """A set of listed images below one root folder; ``drawn`` tells how a subset was drawn, ``together`` the column whose
    values say which images belong together (empty: they count as independent)."""

    name: str
    root: Path
    items: Sequence[ImageItem]
    role: Role = "held-out"
    drawn: str = ""
    unit_column: str = ""

    def file(self, index: int) -> Path:
        return self.root / self.items[index].path

    def files(self) -> list[Path]:
        """Where each listed image lies."""
        return [self.root / path for path in paths_of(self.items)]

    def told_path(self, index: int) -> str:
        """An image's path as results tell it: relative to the root, but whole where the root is that of the whole system."""
        path = self.items[index].path
        return f"/{path}" if self.root == Path(self.root.anchor) else path

    @property
    def labels(self) -> NDArray[np.int64]:
        """The class index of each image's label; -1 without one."""
        return label_indices_of(self.items)


@dataclass(frozen=True)
class Listing:
    """What a folder or table lists, before labels are matched to classes.

    ``paths`` are relative to the root; ``texts`` holds for each image those that may be its label (the first one that names a
    class is; in a folder these are the folders' names, outermost first); ``columns`` are further columns by name. Where ``by_number``,
    a text that names no class may be the number of one, from 0.
    """

    name: str
    root: Path
    paths: list[str]
    texts: list[tuple[str, ...]]
    columns: dict[str, list[str]] = field(default_factory=dict)
    by_number: bool = False


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
        if text in pairing:
            return pairing[text]
        return matcher.index_or_number(text) if listing.by_number else matcher.index(text)

    @cache
    def matched(texts: tuple[str, ...]) -> tuple[int, str]:
        said = next((text for text in texts if index(text) is not None), texts[0] if texts else "")
        found = index(said) if said else None
        return -1 if found is None else found, said

    both = [matched(texts) for texts in until_stopped(listing.texts)]
    labels, said = np.array([one[0] for one in both], np.int64), [one[1] for one in both]
    unknown = Counter(text for label, text in both if label < 0 and text and text not in pairing)
    items: Sequence[ImageItem] = ItemColumns(listing.paths, labels, said, listing.columns)
    used = set(labels.tolist())
    return Matched(
        ImageSet(listing.name, listing.root, items if len(items) >= MANY else list(items), role),
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

    Raises InputError where nothing is found, or where labels and classes do not match (both sides are listed). ``classes`` is
    the model's class list, in the order of its scores.
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
    if (listed := _inside(source)) is not None:
        return listed
    if _ends_like_picture(source.name):
        # One picture, without a label: the folder it lies in may be called anything.
        place = source.resolve().parent
        return Listing(source.stem, place, *_with_frames(place, [source.name], [()]))
    if source.suffix.lower() not in TABLE_ENDINGS:
        raise InputError(
            "is neither a folder, nor a table, nor an archive, nor a picture",
            where=source,
            hint=f"tables end in .csv, .tsv, .jsonl or .parquet, archives in .tar or .zip, pictures in {', '.join(sorted(PICTURE_ENDINGS))}",
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
            if (_ends_like_picture(name) and not name.startswith("._")) or (
                "." not in name and dicom.has_mark(os.path.join(folder, name))
            ):
                yield relative(os.path.join(folder, name)), False
    for folder in closed:
        if folder == os.fspath(root):
            raise InputError("the folder may not be read", where=root, hint="ask for the right to read it")
        yield relative(folder), True


def _with_frames(
    root: Path, paths: list[str], texts: list[tuple[str, ...]]
) -> tuple[list[str], list[tuple[str, ...]], dict[str, list[str]]]:
    """Each DICOM file of several frames as one image a frame, and what its headers tell as columns of all images."""
    found: list[tuple[str, tuple[str, ...], dict[str, str]]] = []
    for path, said in until_stopped(zip(paths, texts, strict=True)):
        # What has no ending was listed because it is marked as DICOM, or is a folder that may not be read.
        if (ending := os.path.splitext(path)[1].lower()) and ending not in dicom.ENDINGS:
            found.append((path, said, {}))
            continue
        try:
            columns, frames = dicom.told_in_list((root / path).read_bytes())
        except OSError:
            columns, frames = {}, 1
        found += [(one, said, columns) for one in frame_paths(path, frames)]
    names = dict.fromkeys(name for *_, columns in found for name in columns)
    columns_ = {name: [columns.get(name, "") for *_, columns in found] for name in names}
    return [path for path, *_ in found], [said for _, said, _ in found], columns_


def _inside(source: Path) -> Listing | None:
    """What an archive or a table of pictures lists; None where a file is neither. InputError where it is packed as a whole."""
    ending = source.suffix.lower()
    if ending in PACKED_ENDINGS:
        raise InputError(
            "is compressed as a whole, so that pictures cannot be read in place",
            where=source,
            hint="decompress it to a plain .tar, or make a .zip of it",
        )
    if ending not in ARCHIVE_ENDINGS | PICTURE_TABLE_ENDINGS or not inside.is_container(source):
        return None
    place = source.resolve()
    return _of_listed(source.stem, place, inside.list_container(place, "", PICTURE_ENDINGS), source)


def _of_listed(name: str, root: Path, listed: Sequence[Listed], where: Path) -> Listing:
    if not listed:
        raise InputError(
            "holds no images", where=where, hint=f"Mivrat reads {', '.join(sorted(PICTURE_ENDINGS))} in any depth"
        )
    texts = [one.texts for one in listed]
    by_number = any(one.by_number for one in listed)
    return Listing(name, root, [one.path for one in listed], texts, inside.columns_of(listed), by_number)


def _shards(root: Path) -> list[Path]:
    """The archives and tables of pictures below a folder that has no loose picture, in the order of their paths."""
    endings = ARCHIVE_ENDINGS | PICTURE_TABLE_ENDINGS
    found = [
        Path(folder, name)
        for folder, _, files in until_stopped(os.walk(root))
        for name in files
        if os.path.splitext(name)[1].lower() in endings and not name.startswith("._")
    ]
    return [one for one in sorted(found) if inside.is_container(one)]


def _from_folder(root: Path) -> Listing:
    found = sorted(_picture_files(root))
    if not found and (shards := _shards(root)):
        place = root.resolve()
        listed: list[Listed] = []
        for one in shards:
            below = one.relative_to(root).as_posix()
            listed += inside.list_container(place / below, f"{below}/", PICTURE_ENDINGS)
        return _of_listed(place.name, place, listed, root)
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
    place = root.resolve()
    return Listing(place.name, place, *_with_frames(place, [path for path, _ in found], labels))


def read_table(source: Path) -> pl.DataFrame:
    """A CSV, TSV, JSON Lines or Parquet table with a ``path`` column and at least one row; InputError for any other."""
    return with_paths(read_columns(source), source)


def with_paths(table: pl.DataFrame, source: object) -> pl.DataFrame:
    """A table, unless it has no ``path`` column, no row, or a row without a path: InputError then."""
    if "path" not in table.columns:
        raise InputError(
            f"has no 'path' column; its columns are {', '.join(table.columns)}",
            where=source,
            hint="name the column with the file paths 'path'",
        )
    if table.height == 0:
        raise InputError("lists no images", where=source, hint="give it at least one row")
    refuse_no_path(table["path"].to_list(), source)
    return table


def refuse_no_path(paths: Sequence[object], source: object) -> None:
    """InputError where a row of a table has no path."""
    if all(isinstance(path, str) and path and path[0] > " " for path in paths):
        return
    for number, path in enumerate(paths, 1):
        if path is None or not str(path).strip():
            raise InputError(f"row {number} has no path", where=source, hint="fill it in, or take the row out")


# What paths hold, line by line, of which one is not the shortest to its file.
_DETOURS = ("//", "/./", "/../", "\n./", "\n../", "/.\n", "/..\n", "/\n", "\n\n", "\n.\n", "\n..\n")


def tidied(paths: list[str]) -> list[str]:
    """Paths without detours, with slashes."""
    whole = "\n".join(["", *paths, ""])  # all at once: a million are looked through in a blink
    if os.sep == "/" and not any(detour in whole for detour in _DETOURS):
        return paths
    return [os.path.normpath(path).replace(os.sep, "/") for path in until_stopped(paths)]


def _from_table(source: Path) -> Listing:
    return listing_of_table(read_table(source), source.resolve().parent, source.stem)


def listing_of_table(table: pl.DataFrame, folder: Path, name: str) -> Listing:
    """What a table with a ``path`` column lists, paths taken from a folder."""

    def named(path: str) -> str:
        # A path with escapes, as Mivrat writes names that are no UTF-8; unless there is a file of just this name.
        plain = unescaped(path)
        return path if plain == path or os.path.lexists(folder / path) else plain

    given = [str(path) for path in table["path"].to_list()]
    paths = tidied([named(path) if "\\" in path else path for path in until_stopped(given)])
    root = folder
    whole = "\n".join(["", *paths])
    if "\n/" in whole or "\n../" in whole:
        # Files beside or above the table: the root is what all of them and the table have in common.
        root = Path(os.path.commonpath([folder, *(os.path.normpath(folder / path) for path in paths)]))
        paths = [os.path.relpath(os.path.normpath(folder / path), root).replace(os.sep, "/") for path in paths]
    labels = table["label"].to_list() if "label" in table.columns else [None] * len(paths)
    texts: list[tuple[str, ...]] = [() if label in (None, "") else (str(label),) for label in until_stopped(labels)]
    columns = {
        column: ["" if value is None else str(value) for value in until_stopped(table[column].to_list())]
        for column in table.columns
        if column not in ("path", "label")
    }
    return Listing(name, root, paths, texts, columns)
