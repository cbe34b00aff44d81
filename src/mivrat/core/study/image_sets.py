"""The image sets of a study: their lists, roles, places, and what their files were when they were read."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped, unescaped
from mivrat.core.pictures.decode import Stamp
from mivrat.core.pictures.image_names import ImageName, ImageNames
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, Role
from mivrat.core.study.file import Study
from mivrat.core.study.names import set_names
from mivrat.core.study.records import Removed, SetInfo
from mivrat.core.study.removing import take_away
from mivrat.core.study.soundness import (
    json_of,
    reading,
)


def add_image_set(study: Study, image_set: ImageSet) -> int:
    """Keep an image set's list; a set already kept with the same files, labels and columns is found again."""
    root = study.stored(image_set.root)
    rows = [
        (i, escaped(item.path), escaped(item.said), item.label, json.dumps(item.columns, ensure_ascii=False))
        for i, item in enumerate(image_set.items)
    ]
    same = "SELECT position, path, said, label, columns FROM image WHERE set_id = ? ORDER BY position"
    for (known,) in study.db.execute(
        "SELECT id FROM image_set WHERE root = ? AND role = ?", (root, image_set.role)
    ).fetchall():
        if study.db.execute(same, (known,)).fetchall() == rows:
            return int(known)
    with study.writing() as db:
        set_id = db.execute(
            "INSERT INTO image_set (name, role, root, drawn, together) VALUES (?, ?, ?, ?, ?)",
            (escaped(image_set.name), image_set.role, root, escaped(image_set.drawn), image_set.unit_column),
        ).lastrowid
        db.executemany(
            "INSERT INTO image (set_id, position, path, said, label, columns) VALUES (?, ?, ?, ?, ?, ?)",
            [(set_id, *row) for row in rows],
        )
    assert set_id is not None
    return set_id


def remove_image_set(study: Study, set_id: int) -> Removed:
    """Take an image set away with its runs; answers stay, so that the same pictures are not scored again later."""
    return take_away(
        study,
        ("check_result", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
        ("cover_test", "run_id IN (SELECT id FROM run WHERE set_id = ?)", set_id),
        ("region", "set_id = ?", set_id),
        ("run", "set_id = ?", set_id),
        ("review", "set_id = ?", set_id),
        ("kept_selection", "set_id = ?", set_id),
        ("image", "set_id = ?", set_id),
        ("image_set", "id = ?", set_id),
    )


@reading
def list_image_sets(study: Study) -> list[SetInfo]:
    """All image sets, oldest first."""
    found = study.db.execute(
        "SELECT id, role, root, (SELECT COUNT(*) FROM image WHERE set_id = id), "
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


@reading
def load_image_set(study: Study, set_id: int) -> ImageSet:
    """One image set with its list. Raises InputError where there is none, or one that leads out of its folder."""
    row = study.db.execute("SELECT name, role, root, drawn, together FROM image_set WHERE id = ?", (set_id,)).fetchone()
    if row is None:
        raise InputError(f"holds no image set {set_id}", where=study.path, hint="choose one of the sets it lists")
    name, role, root, drawn, together = row
    items = [
        ImageItem(unescaped(path), label, json_of(columns, dict[str, str]) if columns != "{}" else {}, unescaped(said))
        for path, said, label, columns in study.db.execute(
            "SELECT path, said, label, columns FROM image WHERE set_id = ? ORDER BY position", (set_id,)
        )
    ]
    if any(item.path.startswith(("/", "../")) or "/../" in item.path for item in items):
        raise InputError(
            f"lists images outside the folder of the set {name}, which is never read",
            where=study.path,
            hint="do not trust this study; ask for one made by Mivrat",
        )
    return ImageSet(unescaped(name), study.resolved(root), items, role, unescaped(drawn), together)


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
    found = sorted(study.rows("SELECT set_id, position, path FROM image WHERE content = ?", content), key=lambda one: (one[2] != escaped(name.path), one[0], one[1]))  # fmt: skip
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
        db.execute("UPDATE image SET problem = NULL WHERE set_id = ?", (set_id,))


def forget_images(study: Study, set_id: int, positions: Sequence[int]) -> None:
    """Take these images for not read yet, so that a run reads and, where their content is new, scores them again."""
    with study.writing() as db:
        db.executemany(
            "UPDATE image SET content = NULL, size = NULL, changed = NULL, problem = NULL WHERE set_id = ? AND position = ?",
            [(set_id, int(i)) for i in positions],
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
