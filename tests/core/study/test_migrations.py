"""Studies that earlier versions wrote, one small file of each, are brought up whole: what they hold is found where it was."""

from __future__ import annotations

import gzip
import json
import re
import sqlite3
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.answers.answers import SCORED
from mivrat.core.region_masking.cover_test import plan_from_text
from mivrat.core.running.two_classes import load_two_classes
from mivrat.core.selecting import kept
from mivrat.core.selecting.selection import Labelled, Picked
from mivrat.core.study import file, migrations, schema, soundness
from mivrat.core.study.class_list import load_families
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets
from mivrat.core.study.kept_evidence import EVERY, load_regions, load_tests
from mivrat.core.study.migrations import MIGRATIONS
from mivrat.core.study.reviews import Review, Reviews, load_reviews
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.schema import USUAL_CAUSES, VERSION
from mivrat.core.study.settings import load_claim, load_criteria, load_setting

OLD = Path(__file__).resolve().parents[2] / "data" / "studies"
SHAPES = [{"kind": "rectangle", "points": [[0, 0], [0.5, 0.5]]}]


def opened(version: int, folder: Path) -> Study:
    path = folder / f"version-{version}.mivrat"
    path.write_bytes(gzip.decompress((OLD / f"{path.name}.gz").read_bytes()))
    return Study.open(path)


def test_there_is_a_step_from_every_version() -> None:
    assert [step.version for step in MIGRATIONS] == list(range(1, VERSION))
    assert len({step.name for step in MIGRATIONS}) == len(MIGRATIONS)


@pytest.mark.parametrize("version", range(1, VERSION))
def test_a_study_of_every_version_opens_with_all_it_held(version: int, tmp_path: Path) -> None:
    with opened(version, tmp_path) as study:
        assert study.rows("PRAGMA user_version") == [(VERSION,)]
        noted = [load_setting(study, f"brought up from version {one}") for one in range(1, VERSION)]
        assert [one is not None for one in noted] == [one >= version for one in range(1, VERSION)]
        runs = list_runs(study)
        assert [(one.model, one.image_set) for one in runs] == [(m, s) for s in ("one", "two") for m in ("m", "n")]
        for run in runs:
            record = load_run(study, run.id)
            assert (record.answers.state == SCORED).all()
            assert np.isfinite(record.answers.rows).all()
            assert [item.label for item in record.image_set.items] == [1, 1, 0, 0, 2, 2]
        assert load_families(study) == ({0: "trees", 1: "trees"} if version >= 2 else {})
        record, reviews = load_run(study, runs[0].id), load_reviews(study, 1)
        assert len(reviews.causes) == len(USUAL_CAUSES)
        full = {1: Review(frozenset({2}), "a note", True, 2)}
        assert reviews.by_position == (full if version >= 3 else {})
        if version >= 3:
            assert load_reviews(study, 2).by_position == {4: Review(reviewed=True)}
            (mine,) = kept.load_kept(study, 1)
            items, classes = record.image_set.items, record.classes
            found = kept.from_text(mine.conditions, classes, items, record.names, Reviews())
            assert found == (Labelled(frozenset({0, 1})), Picked("hand", (3, 1)))
            place = json.loads(load_setting(study, f"place of run {runs[0].id}") or "")
            back = kept.from_text(place["conditions"], classes, items, record.names, Reviews())
            assert back == (Picked("hand", (2,)),)
            two = load_two_classes(study, record)
            assert [(one.image, one.first, one.second) for one in two or ()] == [(2, 0, 1)]
            assert (load_claim(study, 1), load_criteria(study, 1)) == (0.9, ("top1 >= 0.5",))
        if version >= 13:
            assert (reviews.reader, [(i, one.note) for i, one in reviews.others["Ben"].items()]) == (
                "Ada",
                [(1, "sure")],
            )
            assert reviews.conflicts() == [1]
        if version >= 4:
            assert load_regions(study, 1) == {EVERY: SHAPES, 4: SHAPES}
            (test,) = load_tests(study)
            plan = plan_from_text(test.plan, record.names)
            assert (plan.images, list(plan.region.each), plan.seed, test.run_id) == ((4, 0), [4], 3, runs[1].id)
    with Study.open(tmp_path / f"version-{version}.mivrat") as again:  # once brought up, nothing is done again
        assert load_reviews(again, 1).by_position == reviews.by_position
        assert len(list_image_sets(again)) == 2


def test_what_is_seen_in_a_picture_goes_by_its_content(tmp_path: Path) -> None:
    with opened(6, tmp_path) as study:
        path = study.path
    db = sqlite3.connect(path)
    (content,) = db.execute("SELECT content FROM image WHERE set_id = 1 AND position = 1").fetchone()
    for now, seen in ((b"another picture lies here", False), (None, True), (content, True)):
        db.execute("UPDATE image SET content = ? WHERE set_id = 1 AND position = 1", (now,))
        db.commit()
        with Study.open(path) as study:
            assert (1 in load_reviews(study, 1).by_position) is seen, now
    # The same bytes under another path of the list: the plan of a cover test finds them there.
    db.execute("UPDATE image SET path = 'moved/' || path WHERE set_id = 1")
    db.commit()
    db.close()
    with Study.open(path) as study:
        record, (test,) = load_run(study, 1), load_tests(study)
        assert plan_from_text(test.plan, record.names).images == (4, 0)
        assert load_regions(study, 1) == {EVERY: SHAPES, 4: SHAPES}


@pytest.mark.parametrize("version", range(1, VERSION))
def test_a_later_version_with_more_columns_opens_every_kept_study(
    version: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each step makes the tables of the version after it, not today's: a column that each table gets later is in nobody's way."""
    tables = re.findall(r"CREATE TABLE (\w+) \(", schema.TABLES)
    assert len(tables) > 15
    more = re.sub(r"(CREATE TABLE (\w+) \()", r"\1more_\2 TEXT NOT NULL DEFAULT 'x', ", schema.TABLES)
    more = more.replace("INSERT INTO cause VALUES", "INSERT INTO cause (id, position, name) VALUES")

    def add_columns(db: sqlite3.Connection) -> None:
        for table in tables:
            db.execute(f"ALTER TABLE {table} ADD COLUMN more_{table} TEXT NOT NULL DEFAULT 'x'")

    for module in (schema, soundness, file):
        monkeypatch.setattr(module, "TABLES", more)
    for module in (schema, migrations, file):
        monkeypatch.setattr(module, "VERSION", VERSION + 1)
    monkeypatch.setattr(migrations, "MIGRATIONS", (*MIGRATIONS, migrations.Migration(VERSION, "more", add_columns)))
    soundness._ours.cache_clear()
    try:
        with opened(version, tmp_path) as study:
            assert study.rows("PRAGMA user_version") == [(VERSION + 1,)]
            assert study.rows("SELECT DISTINCT more_image FROM image") == [("x",)]
            assert all((load_run(study, run.id).answers.state == SCORED).all() for run in list_runs(study))
    finally:
        soundness._ours.cache_clear()
