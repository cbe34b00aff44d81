"""The image sets of a study: their lists, roles, places, and what their files were when they were read."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.pictures.decode import Stamp
from mivrat.core.pictures.image_names import ImageName, ImageNames
from mivrat.core.pictures.image_sets import (
    ImageItem,
    ImageSet,
    ItemColumns,
    Role,
    column_of,
    label_indices_of,
    paths_of,
    said_of,
)
from mivrat.core.study.file import Study
from mivrat.core.study.kept_columns import (
    forget_columns,
    is_large,
    json_column,
    load_columns,
    save_columns,
    text_of,
    texts_as_column,
    texts_of_column,
)
from mivrat.core.study.names import set_names
from mivrat.core.study.records import Removed, SetInfo
from mivrat.core.study.removing import take_away
from mivrat.core.study.schema import LISTED
from mivrat.core.study.soundness import (
    json_of,
    reading,
)

log = logging.getLogger(__name__)
# The bytes of a file's hash.
HASH = 32


def add_image_set(study: Study, image_set: ImageSet) -> int:
    """Keep an image set's list; a set already kept with the same files, labels and columns is found again."""
    root = study.stored(image_set.root)
    rows = _as_rows(image_set.items)
    same = "SELECT position, path, said, label, columns FROM image WHERE set_id = ? ORDER BY position"
    for (known,) in study.db.execute(
        "SELECT id FROM image_set WHERE root = ? AND role = ?", (root, image_set.role)
    ).fetchall():
        if study.db.execute(same, (known,)).fetchall() == rows:
            return int(known)
    with study.writing_many() as db:
        set_id = db.execute(
            "INSERT INTO image_set (name, role, root, drawn, together) VALUES (?, ?, ?, ?, ?)",
            (escaped(image_set.name), image_set.role, root, escaped(image_set.drawn), image_set.unit_column),
        ).lastrowid
        db.executemany(
            "INSERT INTO image (set_id, position, path, said, label, columns) VALUES (?, ?, ?, ?, ?, ?)",
            [(set_id, *row) for row in rows],
        )
    assert set_id is not None
    keep_list(study, set_id, image_set.items, {})
    return set_id


def _as_rows(items: Sequence[ImageItem]) -> list[tuple[int, str, str, int | None, str]]:
    """Position, path, label as found, label and further columns of each image, as the table of images has them."""
    said, labels = said_of(items), [None if label < 0 else label for label in label_indices_of(items).tolist()]
    as_kept = {one: escaped(one) for one in set(said)}
    plain = isinstance(items, ItemColumns) and not items.columns
    columns = ["{}"] * len(items) if plain else [json.dumps(item.columns, ensure_ascii=False) for item in items]
    return [
        (i, escaped(path), as_kept[text], label, more)
        for i, (path, text, label, more) in enumerate(zip(paths_of(items), said, labels, columns, strict=True))
    ]


def remove_image_set(study: Study, set_id: int) -> Removed:
    """Take an image set away with its runs; answers stay, so that the same pictures are not scored again later."""
    return take_away(
        study,
        ("check_result", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
        ("cover_test", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
        ("region", "set_id = ?", set_id),
        ("kept_columns", "what = 'run' AND id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
        ("kept_columns", "what = 'set' AND id = ?", set_id),
        ("run", "set_id = ?", set_id),
        ("review", "set_id = ?", set_id),
        ("reader_review", "set_id = ?", set_id),
        ("agreed_review", "set_id = ?", set_id),
        ("kept_selection", "set_id = ?", set_id),
        ("image", "set_id = ?", set_id),
        ("image_set", "id = ?", set_id),
    )


@reading
def list_image_sets(study: Study) -> list[SetInfo]:
    """All image sets, oldest first."""
    found = study.db.execute(
        f"SELECT id, role, root, {LISTED}, "
        "(SELECT COUNT(label) FROM image WHERE set_id = id), drawn, together, "
        "(SELECT columns FROM image WHERE set_id = id ORDER BY position LIMIT 1) FROM image_set ORDER BY id"
    )
    names = set_names(study)
    return [
        SetInfo(
            key,
            names[key],
            role,
            study.resolved(root),
            images,
            labelled,
            unescaped(drawn),
            together,
            tuple(json_of(columns or "{}", dict[str, str])),
        )
        for key, role, root, images, labelled, drawn, together, columns in found
    ]


def save_unit_column(study: Study, set_id: int, column: str) -> None:
    """Say by which column the images of a set belong together; empty: they are independent."""
    with study.writing() as db:
        db.execute("UPDATE image_set SET together = ? WHERE id = ?", (column, set_id))


def load_image_set(study: Study, set_id: int) -> ImageSet:
    """One image set with its list. Raises InputError where there is none, or one that leads out of its folder."""
    return load_listed(study, set_id)[0]


@reading
def load_listed(study: Study, set_id: int) -> tuple[ImageSet, dict[int, bytes]]:
    """One image set with its list, and the hashes of its files by position as far as they have been read. Raises InputError as
    ``load_image_set`` does."""
    row = study.db.execute("SELECT name, role, root, drawn, together FROM image_set WHERE id = ?", (set_id,)).fetchone()
    if row is None:
        raise InputError(f"holds no image set {set_id}", where=study.path, hint="choose one of the sets it lists")
    name, role, root, drawn, together = row
    items: Sequence[ImageItem]
    kept = _kept_list(study, set_id)
    if kept is not None:
        items, contents = kept
    else:
        contents = _contents(study, set_id)
        items = [
            ImageItem(
                unescaped(path), label, json_of(columns, dict[str, str]) if columns != "{}" else {}, unescaped(said)
            )
            for path, said, label, columns in study.db.execute(
                "SELECT path, said, label, columns FROM image WHERE set_id = ? ORDER BY position", (set_id,)
            )
        ]
    listed = "\0".join(["", *paths_of(items)])
    if any(part in listed for part in ("\0/", "\0../", "/../")):
        raise InputError(
            f"lists images outside the folder of the set {name}, which is never read",
            where=study.path,
            hint="do not trust this study; ask for one made by Mivrat",
        )
    return ImageSet(unescaped(name), study.resolved(root), items, role, unescaped(drawn), together), contents


def keep_list(study: Study, set_id: int, items: Sequence[ImageItem], contents: Mapping[int, bytes]) -> None:
    """Keep a large set's list as columns, with the hashes of its files by position, where that can be done."""
    if not is_large(len(items)) or any(len(one) != HASH for one in contents.values()):
        return
    names = list(items[0].columns)
    if not isinstance(items, ItemColumns) and any(list(item.columns) != names for item in items):
        return
    told = said_of(items)
    saids = sorted(set(told))
    code = {said: i for i, said in enumerate(saids)}
    with suppress(ValueError):
        columns = {f"column {i}": texts_as_column(column_of(items, name)) for i, name in enumerate(names)}
        save_columns(
            study,
            "set",
            set_id,
            {
                "paths": texts_as_column([escaped(path) for path in paths_of(items)]),
                "labels": label_indices_of(items).astype("<i4"),
                "said": np.array([code[one] for one in told], "<i4"),
                "saids": json_column([escaped(said) for said in saids]),
                "names": json_column(names),
                "read": np.array(list(contents), "<i8"),
                "contents": np.frombuffer(b"".join(contents.values()), np.uint8),
                **columns,
            },
        )


def _kept_list(study: Study, set_id: int) -> tuple[ItemColumns, dict[int, bytes]] | None:
    """The list of a large set and its files' hashes from its columns; None where they are not kept, or are not those of its rows."""
    (number,) = study.db.execute(f"SELECT {LISTED} FROM image_set WHERE id = ?", (set_id,)).fetchone()
    kept = load_columns(study, "set", set_id) if is_large(number) else None
    if kept is None:
        return None
    try:
        paths = texts_of_column(kept["paths"], number)
        if (kept["paths"] == ord("\\")).any():
            paths = [unescaped(path) for path in paths]
        saids = [unescaped(said) for said in json_of(text_of(kept["saids"]), list[str])]
        said, labels = kept["said"].astype(np.int64), kept["labels"].astype(np.int64)
        whole = len(said) == len(labels) == number and (said >= 0).all() and (labels >= -1).all()
        if not whole or labels.max(initial=-1) >= len(study.classes):
            raise ValueError("a column is not that of the set")
        told = np.array(saids, object)[said].tolist()
        names = json_of(text_of(kept["names"]), list[str])
        columns = {name: texts_of_column(kept[f"column {i}"], number) for i, name in enumerate(names)}
        read, hashes = kept["read"], kept["contents"].tobytes()
        if (
            read.dtype.kind not in "iu"
            or len(hashes) != HASH * len(read)
            or (len(read) and not 0 <= read.min() <= read.max() < number)
        ):
            raise ValueError("the hashes are not those of the set")
        contents = {i: hashes[HASH * at : HASH * (at + 1)] for at, i in enumerate(read.tolist())}
    except (KeyError, ValueError, IndexError):
        log.warning("the columns kept of set %s are not its own; they are made again", set_id)
        return None
    return ItemColumns(paths, labels, told, columns), contents


def _contents(study: Study, set_id: int) -> dict[int, bytes]:
    """The hashes of a set's files as far as they have been read, by position."""
    query = "SELECT position, content FROM image WHERE set_id = ? AND content IS NOT NULL"
    return dict(study.db.execute(query, (set_id,)))


@reading
def declared_places(study: Study) -> list[Path]:
    """The folders this study reads from: those of its models and image sets."""
    found = [
        *(study.resolved(path).parent for (path,) in study.db.execute("SELECT path FROM model")),
        *(study.resolved(root) for (root,) in study.db.execute("SELECT root FROM image_set")),
    ]
    return sorted(set(found))


@dataclass(frozen=True)
class StudyImage:
    """An image that some set of the study lists: its file, what its set is called, and its label there (empty: none)."""

    file: Path
    image_set: str
    label: str


@reading
def image_of_study(study: Study, name: ImageName) -> StudyImage | None:
    """An image by its content in whatever set of the study; of several the one at its path, else that of the oldest set. None where no
    set has it."""
    if not name.content:
        return None
    try:
        content = bytes.fromhex(name.content)
    except ValueError:
        return None
    found = sorted(
        study.rows("SELECT set_id, position, path FROM image WHERE content = ?", content),
        key=lambda one: (one[2] != escaped(name.path), one[0], one[1]),
    )
    for set_id, position, _ in found[:1]:
        whole = load_image_set(study, set_id)
        label = whole.items[position].label
        return StudyImage(whole.file(position), set_names(study)[set_id], "" if label is None else study.classes[label])
    return None


def rename_set(study: Study, set_id: int, name: str) -> None:
    """Call an image set something else."""
    with study.writing() as db:
        db.execute("UPDATE image_set SET name = ? WHERE id = ?", (escaped(name), set_id))


def save_role(study: Study, set_id: int, role: Role) -> None:
    """Give an image set another role."""
    with study.writing() as db:
        db.execute("UPDATE image_set SET role = ? WHERE id = ?", (role, set_id))


def relocate_set(study: Study, set_id: int, root: Path) -> None:
    """Look for a set's files below another folder from now on; those missed before are pending again."""
    with study.writing() as db:
        db.execute("UPDATE image_set SET root = ? WHERE id = ?", (study.stored(root), set_id))
        forget_columns(db, set_id=set_id)
        db.execute("UPDATE image SET problem = NULL WHERE set_id = ?", (set_id,))


def forget_images(study: Study, set_id: int, positions: Sequence[int]) -> None:
    """Take these images for not read yet, so that a run reads and, where their content is new, scores them again."""
    if not len(positions):
        return
    with study.writing() as db:
        forget_columns(db, set_id=set_id)
        db.executemany(
            "UPDATE image SET content = NULL, size = NULL, changed = NULL, problem = NULL WHERE set_id = ? AND position = ?",
            [(set_id, int(i)) for i in positions],
        )


def stamp_images(study: Study, set_id: int, stamps: Mapping[int, Stamp]) -> None:
    """Keep what the files of some images were when they were read, of those that nobody has read before."""
    with study.writing() as db:
        forget_columns(db, set_id=set_id)
        db.executemany(
            "UPDATE image SET content = ?, size = ?, changed = ? WHERE set_id = ? AND position = ? AND content IS NULL",
            [(one.content, one.size, one.changed, set_id, i) for i, one in stamps.items()],
        )


@reading
def load_stamps(study: Study, set_id: int) -> dict[int, Stamp]:
    """What the files of a set were when they were read, by position; a stamp of size -1 is one that an earlier version
    left without a hash."""
    return {
        position: Stamp(content, -1 if size is None else size, changed or 0)
        for position, content, size, changed in study.db.execute(
            "SELECT position, content, size, changed FROM image WHERE set_id = ? AND content IS NOT NULL", (set_id,)
        )
    }


@reading
def load_image_names(study: Study, set_id: int) -> ImageNames:
    """The images of a set by name."""
    rows = study.rows("SELECT position, path, content FROM image WHERE set_id = ? ORDER BY position", set_id)
    items = [ImageItem(unescaped(path), None) for _, path, _ in rows]
    return ImageNames(items, {position: content for position, _, content in rows if content is not None})


@reading
def stored_names(study: Study, set_id: int, positions: Iterable[int]) -> dict[int, tuple[bytes, str]]:
    """Content (empty: not read yet) and path of some images of a set, as tables that name images keep them."""
    query = "SELECT COALESCE(content, x''), path FROM image WHERE set_id = ? AND position = ?"
    return {i: study.db.execute(query, (set_id, i)).fetchone() for i in positions}


@reading
def load_references(study: Study) -> dict[int, Path]:
    """The reference picture of each class that has one: the first with its label in the sets of that role."""
    found: dict[int, Path] = {}
    for one in list_image_sets(study):
        if one.role == "reference":
            pictures = load_image_set(study, one.id)
            for i, item in enumerate(pictures.items):
                if item.label is not None:
                    found.setdefault(item.label, pictures.file(i))
    return found
