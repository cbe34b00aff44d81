"""The study file: what it keeps, decisions in it, copies, moved roots, earlier versions, and what goes wrong outside."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, list_images, match_labels, read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.study.class_list import save_class_order, save_families, save_pairing
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import (
    add_image_set,
    declared_places,
    list_image_sets,
    load_image_set,
    load_references,
    relocate_set,
    remove_image_set,
)
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.models import relocate_model
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.schema import VERSION
from mivrat.core.study.settings import save_setting
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set

# The tables of version 1, as it made them.
VERSION_1 = """
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE class (position INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE model (id INTEGER PRIMARY KEY, name TEXT NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL,
                    recipe TEXT NOT NULL, recipe_is_guess INTEGER NOT NULL, UNIQUE (sha256, recipe));
CREATE TABLE image_set (id INTEGER PRIMARY KEY, name TEXT NOT NULL, root TEXT NOT NULL);
CREATE TABLE image (set_id INTEGER NOT NULL REFERENCES image_set, position INTEGER NOT NULL, path TEXT NOT NULL,
                    label INTEGER REFERENCES class (position), columns TEXT NOT NULL, PRIMARY KEY (set_id, position)) WITHOUT ROWID;
CREATE TABLE run (id INTEGER PRIMARY KEY, model_id INTEGER NOT NULL REFERENCES model, set_id INTEGER NOT NULL REFERENCES image_set,
                  score_columns INTEGER NOT NULL, kind TEXT, UNIQUE (model_id, set_id));
CREATE TABLE answer (run_id INTEGER NOT NULL REFERENCES run, position INTEGER NOT NULL, state INTEGER NOT NULL, reason TEXT,
                     scores BLOB, PRIMARY KEY (run_id, position)) WITHOUT ROWID;
CREATE TABLE reference (class INTEGER PRIMARY KEY REFERENCES class (position), path TEXT NOT NULL);
"""


@pytest.fixture
def model(tmp_path: Path) -> OnnxModel:
    return loaded(classifier(), tmp_path / "m.onnx", 3)


@pytest.fixture
def images(tmp_path: Path) -> ImageSet:
    return read_image_set(write_set(tmp_path / "set", per_class=5), CLASSES)


def scored(tmp_path: Path, model: OnnxModel, images: ImageSet, name: str = "s.mivrat") -> tuple[Study, Evaluation]:
    study = Study.create(tmp_path / name, CLASSES)
    evaluation = Evaluation(model, images, study)
    list(evaluation.run())
    return study, evaluation


def test_a_study_of_version_1_is_brought_up_to_date(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study, evaluation = scored(tmp_path, model, images)
    rows, recipe = evaluation.answers.rows, study.db.execute("SELECT recipe, sha256 FROM model").fetchone()
    study.close()
    old = sqlite3.connect(tmp_path / "old.mivrat")
    old.executescript(VERSION_1 + "PRAGMA application_id = 1296651858; PRAGMA user_version = 1;")
    old.executemany("INSERT INTO class VALUES (?, ?)", list(enumerate(CLASSES)))
    old.execute("INSERT INTO model VALUES (1, 'm', 'm.onnx', ?, ?, 0)", (recipe[1], recipe[0]))
    old.execute("INSERT INTO image_set VALUES (1, 'set', 'set')")
    old.executemany(
        "INSERT INTO image VALUES (1, ?, ?, ?, '{}')", [(i, one.path, one.label) for i, one in enumerate(images.items)]
    )
    old.executemany("INSERT INTO reference VALUES (?, ?)", [(1, "../atlas/one/a.png"), (0, "../atlas/b.png")])
    old.execute("INSERT INTO run VALUES (7, 1, 1, 3, 'logits')")
    old.executemany(
        "INSERT INTO answer VALUES (7, ?, 1, NULL, ?)", [(i, rows[i].astype("<f4").tobytes()) for i in range(10)]
    )
    old.commit()
    old.close()
    study = Study.open(tmp_path / "old.mivrat")
    assert study.db.execute("PRAGMA user_version").fetchone() == (VERSION,)
    record = load_run(study, 7)
    assert (record.answers.rows[:10] == rows[:10]).all()
    assert (record.answers.state == np.array([SCORED] * 10 + [0] * 5)).all()
    assert [(one.path, one.label, one.said) for one in record.image_set.items] == [
        (one.path, one.label, one.said) for one in images.items
    ]
    assert [one.role for one in list_image_sets(study)] == ["held-out", "reference"]
    assert load_references(study) == {
        0: tmp_path.parent / "atlas" / "b.png",
        1: tmp_path.parent / "atlas" / "one" / "a.png",
    }
    study.close()


def test_decisions_on_classes_and_labels(tmp_path: Path, model: OnnxModel) -> None:
    root = write_set(tmp_path / "set", classes=["birch", "alder", "oak", "elm"])
    matched = match_labels(list_images(root), CLASSES)
    assert (matched.unknown, matched.unused) == ({"oak": 4, "elm": 4}, ["hazel"])
    study, evaluation = scored(tmp_path, model, matched.image_set)
    assert evaluation.run_id is not None
    save_pairing(study, {"oak": 2, "elm": None})
    save_families(study, {0: "trees", 2: "shrubs"})
    add_image_set(study, ImageSet("atlas", tmp_path, [ImageItem("alder.png", 1, {}, "alder")], "reference"))
    record, _ = load_judged(study, evaluation.run_id)
    labels = [(item.said, item.label) for item in record.image_set.items]
    assert set(labels) == {("birch", 0), ("alder", 1), ("oak", 2), ("elm", None)}
    turned = ["hazel", "birch", "alder"]
    save_class_order(study, turned)
    again = load_run(study, evaluation.run_id)
    assert again.classes == turned
    assert {(item.said, item.label) for item in again.image_set.items} == {
        ("birch", 1),
        ("alder", 2),
        ("oak", 0),
        ("elm", None),
    }
    assert again.families == {1: "trees", 0: "shrubs"}
    assert load_references(study) == {2: tmp_path / "alder.png"}
    assert (again.answers.rows == record.answers.rows).all()
    save_class_order(study, CLASSES)
    assert load_run(study, evaluation.run_id).image_set.items == record.image_set.items
    save_pairing(study, {})
    assert {item.label for item in load_run(study, evaluation.run_id).image_set.items} == {0, 1, None}
    with pytest.raises(InputError, match="no other order"):
        save_class_order(study, ["birch", "alder", "oak"])
    study.close()


def test_a_copy_finds_the_same_files_from_elsewhere(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study, _ = scored(tmp_path, model, images)
    study.copy_to(tmp_path / "deep" / "down" / "copy.mivrat")
    with pytest.raises(InputError, match="this very study"):
        study.copy_to(tmp_path / "s.mivrat")
    study.close()
    copy = Study.open(tmp_path / "deep" / "down" / "copy.mivrat")
    record = load_run(copy, 1)
    assert record.model_path == model.path
    assert record.image_set.root == images.root
    assert not len(record.answers.pending)
    assert declared_places(copy) == sorted({model.path.parent, images.root})
    assert os.listdir(tmp_path / "deep" / "down") == ["copy.mivrat"]
    copy.close()


def test_moved_files_are_found_again(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, images, study)
    images.root.rename(tmp_path / "moved")
    with pytest.raises(InputError, match="the folder of images is gone"):
        list(evaluation.run())
    assert len(load_run(study, 1).answers.pending) == 15  # nothing was taken for unreadable
    (set_info,) = list_image_sets(study)
    relocate_set(study, set_info.id, tmp_path / "moved")
    moved = Evaluation(model, load_image_set(study, set_info.id), study)
    list(moved.run())
    assert moved.run_id == 1
    assert (moved.answers.state == SCORED).all()
    other = loaded(classifier(seed=3), tmp_path / "other.onnx", 3)
    with pytest.raises(InputError, match="its content differs"):
        relocate_model(study, 1, other.path)
    model.path.rename(tmp_path / "renamed.onnx")
    relocate_model(study, 1, tmp_path / "renamed.onnx")
    assert load_run(study, 1).model_path == tmp_path / "renamed.onnx"
    model.path = tmp_path / "renamed.onnx"
    remove_image_set(study, set_info.id)
    assert (list_runs(study), list_image_sets(study)) == ([], [])
    # The answers stayed: nothing is scored again.
    again = Evaluation(moved.model, moved.image_set, study)
    again.model.scores = None  # type: ignore[method-assign, assignment]
    list(again.run())
    assert (again.answers.rows == moved.answers.rows).all()
    study.close()


def test_a_full_disk_leaves_the_study_whole(tmp_path: Path, model: OnnxModel) -> None:
    images = read_image_set(write_set(tmp_path / "set", per_class=200), CLASSES)
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, images, study)
    (pages,) = study.db.execute("PRAGMA page_count").fetchone()
    study.db.execute(f"PRAGMA max_page_count = {pages}")
    with pytest.raises(InputError, match=r"cannot be written .*full.*room"):
        list(evaluation.run(batch_size=16))
    study.close()
    study = Study.open(tmp_path / "s.mivrat")
    kept = load_run(study, 1).answers
    assert 0 < len(kept.pending) <= 600
    rest = Evaluation(model, images, study)
    list(rest.run(batch_size=16))
    assert (rest.answers.state == SCORED).all()
    study.close()


def test_a_study_that_may_not_be_written_can_be_read(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study, _ = scored(tmp_path, model, images)
    study.close()
    (tmp_path / "s.mivrat").chmod(0o444)
    uri = f"file:{tmp_path / 's.mivrat'}?mode=ro"
    study = Study.open(tmp_path / "s.mivrat")
    study.db.close()
    study.db = sqlite3.connect(uri, uri=True)  # what the system does for one who is not root
    assert (load_run(study, 1).answers.state == SCORED).all()
    with pytest.raises(InputError, match="cannot be written"):
        save_setting(study, "run", "1")
    study.close()


def test_images_outside_the_declared_folder_are_never_read(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    for path in ("/etc/hostname", "../m.onnx", "birch/../../m.onnx"):
        study, _ = scored(tmp_path, model, images, f"{len(path)}.mivrat")
        study.db.execute("UPDATE image SET path = ? WHERE position = 3", (path,))
        with pytest.raises(InputError, match="outside the folder"):
            load_run(study, 1)
        study.close()


def test_a_damaged_study_says_so(tmp_path: Path, model: OnnxModel, images: ImageSet) -> None:
    study, _ = scored(tmp_path, model, images)
    study.close()
    data = bytearray((tmp_path / "s.mivrat").read_bytes())
    data[len(data) // 3 : len(data) // 2] = b"\xff" * (len(data) // 2 - len(data) // 3)
    (tmp_path / "s.mivrat").write_bytes(data)
    with pytest.raises(InputError, match="damaged"):
        load_run(Study.open(tmp_path / "s.mivrat"), 1)


def test_one_study_one_window(tmp_path: Path) -> None:
    path = tmp_path / "s.mivrat"
    with StudyLock(path) as held:
        with pytest.raises(InputError, match="open in another window"):
            StudyLock(path)
        other = subprocess.run(
            [
                sys.executable,
                "-c",
                "import sys, pathlib; from mivrat.core.study.lock import StudyLock;"
                "StudyLock(pathlib.Path(sys.argv[1]))",
                str(path),
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        assert "open in another window" in other.stderr
        held.release()
        held.release()
        StudyLock(path).release()
    assert not os.listdir(tmp_path)
