"""Bad input of every kind is refused in one sentence: floods of it by seed, and the worst cases by name."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from mivrat import cli
from mivrat.core.base.database import connect
from mivrat.core.base.errors import InputError
from mivrat.core.base.log import begin_logging, end_logging, log_path
from mivrat.core.concluding.requirements import parse_requirement
from mivrat.core.pictures.image_sets import list_images
from mivrat.core.study import soundness
from mivrat.core.study.file import Study
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.migrations import _EVIDENCE_OF_4, _REVIEWS_OF_3, _TABLES_OF_2
from mivrat.core.study.settings import load_claim, load_criteria, load_setting, load_threshold, save_claim
from mivrat.demo.study import DATA
from tests.support.hostile import KINDS, attempt, read_everything
from tests.support.sets import CLASSES, write_classes, write_set

pytestmark = pytest.mark.trials
# How many seeds of each kind are tried by ``make test``, and by ``make test-slow``.
FEW = {"studies": 60, "networks": 20, "caches": 15}
MANY = {"studies": 5000, "networks": 1500, "images": 3000}


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.filterwarnings("ignore")
def test_some_hostile_inputs(kind: str) -> None:
    wrong = [found for seed in range(FEW.get(kind, 40)) if (found := attempt(kind, seed))]
    assert not wrong, wrong[0]


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_a_flood_of_hostile_inputs(kind: str) -> None:
    """In processes of their own, so that memory can be told and a crash is not the end."""
    for first in range(0, MANY.get(kind, 1500), 500):
        ran = [sys.executable, "-m", "tests.support.hostile", kind, str(first), "500"]
        done = subprocess.run(ran, capture_output=True, text=True, timeout=3000, check=False)
        assert done.returncode == 0, done.stderr[-300:]
        told = json.loads(done.stdout)
        assert not told["wrong"], told["wrong"][0]
        assert told["gigabytes"] < 2


# --- commands ---


def code_and_line(arguments: list[str], capsys: pytest.CaptureFixture[str]) -> tuple[int, str]:
    code = cli._code_of(arguments)
    return code, capsys.readouterr().err


@pytest.mark.parametrize(
    ("name", "content", "what"),
    [
        ("c.txt", "[" * 100_000, "nested too deep"),
        ("c.json", "[" * 100_000, "nested too deep"),
        ("r.toml", 'format = "mivrat-recipe/1"\na = ' + "[" * 5000, "nested too deep"),
        ("r.toml", 'format = "mivrat-recipe/1"\n[values]\nscale = ' + "9" * 5000, "not valid TOML"),
        ("r.toml", 'format = "mivrat-recipe/1"\n[crop]\nsize = [99999, 1]', "crop.size"),
        ("s.json", "[" * 100_000, "nested too deep"),
        ("s.json", '[{"kind": "rectangle", "points": [[0,0],[1,1],[0,1]]}]', "is not a region"),
        ("s.json", '[{"kind": "brush", "points": [[0,0]], "radius": ' + "9" * 400 + "}]", "is not a region"),
        ("s.json", '[{"kind": ["brush"], "points": [[0,0]]}]', "is not a region"),
        ("t.csv", "path, path\na.png,b.png\n", "more than one column 'path'"),
    ],
)
def test_files_made_to_break_a_reader(
    name: str, content: str, what: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / name).write_text(content)
    write_set(tmp_path / "set", 1)
    given = {"c": DATA / "classes.txt", "r": DATA / "recipe.toml", "t": tmp_path / "set", "s": None} | {
        name[0]: tmp_path / name
    }
    arguments = ["cover", "--model", DATA / "grain-net-1.onnx", "--classes", given["c"], "--recipe", given["r"]]
    arguments += ["--images", given["t"], "--out", tmp_path / "out"]
    arguments += ["--shapes", given["s"]] if given["s"] else ["--hottest", "0.1"]
    code, line = code_and_line([str(one) for one in arguments], capsys)
    assert (code, line.count("\n")) == (2, 1), line
    assert what in line
    assert not (tmp_path / "out").exists()


def test_a_path_with_a_nul_is_that_images_fault(tmp_path: Path) -> None:
    (tmp_path / "t.jsonl").write_text('{"path": "a\\u0000b.png", "label": "birch"}\n')
    from mivrat.core.checks.survey import survey_files

    listing = list_images(tmp_path / "t.jsonl")
    (found,) = survey_files([listing.root / listing.paths[0]], {})
    assert found.facts.problem == "has a name that no file can have"


def test_a_single_picture_is_a_set_of_one(tmp_path: Path) -> None:
    root = write_set(tmp_path / "set", 2)
    listing = list_images(root / "birch" / "1.png")
    assert (listing.name, listing.root, listing.paths, listing.texts) == ("1", root / "birch", ["1.png"], [()])
    with pytest.raises(InputError, match="neither a folder, nor a table, nor an archive, nor a picture"):
        list_images(write_classes(tmp_path / "c.txt"))


@given(
    st.sampled_from(["", "low", "high"]),
    st.sampled_from(["top1", "macro_f1", 'recall["birch"]', "precision['al der']", r'recall["a\"b"]']),
    st.sampled_from([">=", "<=", "==", ">", "<"]),
    st.floats(0, 1),
    st.lists(st.integers(0, 3), min_size=8, max_size=8),
)
def test_a_requirement_is_read_whatever_its_spaces(
    bound: str, figure: str, compare: str, limit: float, spaces: list[int]
) -> None:
    gaps = [" " * n for n in spaces]
    inner = f"{bound}{gaps[0]}({gaps[1]}{figure}{gaps[2]})" if bound else figure
    text = f"{gaps[3]}{inner}{gaps[4]}{compare}{gaps[5]}{limit!r}{gaps[6]}"
    found = parse_requirement(text, ["birch", "al der", 'a"b'])
    name = re.split(r"\[", figure)[0]
    assert (found.figure, found.bound, found.compare, found.limit) == (name, bound or None, compare, limit)
    assert (found.class_index is None) == ("[" not in figure)


@pytest.mark.parametrize(
    "text",
    [
        "low(" + " " * 9000,
        "low(" * 2000,
        '"' * 9000,
        'recall["' + "\\" * 5000,
        ">" * 9000,
        "top1 >= " + "1" * 8000,
        'recall["\\x"] > 0',
        'recall["no\tne"] > 0.',
        "top1 >= 1e999",
        "top1 >= ",
        "[] > 0",
        "low()>1",
        "x" * 20_000,
    ],
)
def test_requirements_made_to_take_for_ever(text: str) -> None:
    began = time.perf_counter()
    with pytest.raises(InputError):
        parse_requirement(text, CLASSES)
    assert time.perf_counter() - began < 1


def test_full_and_closed_outputs_are_told_of(tmp_path: Path) -> None:
    model = f"{DATA / 'grain-net-1.onnx'} --recipe {DATA / 'recipe.toml'}"
    for shell, code in ((f"layers {model} > /dev/full", 2), (f"layers {model} >&-", 0), ("--help > /dev/full", 2)):
        done = subprocess.run(
            ["/bin/sh", "-c", f"{sys.executable} -m mivrat {shell}"], capture_output=True, text=True, check=False
        )
        assert done.returncode == code, done.stderr
        assert done.stderr.count("\n") == (1 if code else 0), done.stderr
        assert ("standard output: cannot be written" in done.stderr) == (code == 2)


def test_what_nobody_foresaw_is_logged_and_said(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def broken(arguments: list[str]) -> int:
        raise ZeroDivisionError("of our own making")

    monkeypatch.setattr(cli, "run_command", broken)
    log_path().unlink(missing_ok=True)
    begin_logging()
    try:
        code, line = code_and_line(["layers", "x"], capsys)
    finally:
        end_logging()
    assert code == 70
    assert line.count("\n") == 1
    assert str(log_path()) in line
    told = log_path().read_text()
    assert "in broken" in told
    assert "ZeroDivisionError: of our own making" in told


def test_a_crash_leaves_its_trace_in_the_log() -> None:
    log_path().unlink(missing_ok=True)
    program = (
        "import os, mivrat.core.base.log as log; log.begin_logging(); log.logging.getLogger('x').warning('w' * 1_000_001);"
        "log.logging.getLogger('x').warning('the file after the first'); os.abort()"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, check=False)
    assert done.returncode < 0
    told = log_path().read_text()
    assert "the file after the first" in told
    assert "Fatal Python error: Aborted" in told  # in the present file, though it was begun anew meanwhile


# --- studies ---


@pytest.fixture
def study(tmp_path: Path) -> Path:
    path = tmp_path / "s.mivrat"
    Study.create(path, CLASSES).close()
    return path


LOOP = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i, i FROM n"


@pytest.mark.parametrize(
    ("script", "what"),
    [
        (f"DROP TABLE setting; CREATE VIEW setting AS {LOOP}", "holds the view 'setting'"),
        ("CREATE TRIGGER t AFTER UPDATE ON setting BEGIN DELETE FROM class; END", "holds the trigger 't'"),
        ("CREATE TABLE more (x)", "holds the table 'more'"),
        ("CREATE VIRTUAL TABLE v USING fts5(x)", "holds the table 'v"),
        ("DROP TABLE review", "its table 'review' is not the one"),
        ("ALTER TABLE model RENAME COLUMN path TO place", "its table 'model' is not the one"),
        ("ALTER TABLE class ADD COLUMN long TEXT GENERATED ALWAYS AS (hex(zeroblob(1000000000)))", "'class'"),
        ("CREATE INDEX i ON setting (hex(zeroblob(1000)))", "holds the index 'i'"),
        ("INSERT INTO setting VALUES ('a', x'ff')", "a value in its table 'setting' is of the wrong kind"),
        ("UPDATE class SET position = 9 WHERE position = 2", "not numbered without a gap"),
        ("INSERT INTO image_set VALUES (1, 'a', 'odd', '.', '', '')", "a role that there is not"),
        ("INSERT INTO run VALUES (1, 5, 5, 3, NULL, NULL)", "refers to something"),
        (
            "INSERT INTO setting VALUES ('criteria of model 1', '{}'); INSERT INTO model VALUES "
            "(1, 'onnx', 'm', 'm', 'x', 'format = \"mivrat-recipe/1\"', 0, 1)",
            "a kept value is no list",
        ),
        ("INSERT INTO image_set VALUES (1, 'a', 'held-out', 'a' || char(0), '', '')", "holds a NUL"),
    ],
)
def test_what_is_no_study_of_ours_is_refused(study: Path, script: str, what: str) -> None:
    db = sqlite3.connect(study)
    db.executescript(script)
    db.close()
    began = time.monotonic()
    with pytest.raises(InputError, match=re.escape(what)) as told:
        read_everything(study)
    assert "damaged, or was not made by Mivrat" in told.value.what
    assert time.monotonic() - began < 5


def test_too_many_rows_and_endless_questions_end(study: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(soundness.MOST_ROWS, "class", 2)
    with pytest.raises(InputError, match="more than 2 rows of 'class'"):
        Study.open(study)
    monkeypatch.setattr("mivrat.core.base.database._MOST_STEPS", 3)
    db = connect(study)
    for _ in range(2):  # each question has its own time
        with pytest.raises(sqlite3.OperationalError, match="interrupted"):
            db.execute(LOOP.replace("SELECT i, i FROM n", "SELECT COUNT(*) FROM n")).fetchone()
        assert db.execute("SELECT COUNT(*) FROM class").fetchone() == (3,)
    db.close()


def test_a_study_of_version_5_gives_claims_to_the_model_they_were_entered_for(study: Path) -> None:
    recipe = 'format = "mivrat-recipe/1"'
    db = sqlite3.connect(study)
    db.executemany(
        "INSERT INTO model VALUES (?, 'onnx', ?, ?, ?, ?, 0, 1)",
        [(i, name, f"{name}.onnx", f"{i}" * 64, recipe) for i, name in enumerate(("unused", "first", "later"), 1)],
    )
    db.execute("INSERT INTO image_set VALUES (1, 'set', 'held-out', '.', '', '')")
    for table in ("answer", "run"):  # as they were then
        db.execute(f"DROP TABLE {table}")
        db.execute(next(one for one in _TABLES_OF_2.split(";") if f"CREATE TABLE {table} " in one))
    db.executemany("INSERT INTO run VALUES (?, ?, 1, 3, NULL)", [(1, 2), (2, 3)])
    db.executemany(
        "INSERT INTO setting VALUES (?, ?)",
        [("claim", "0.95"), ("criteria", '["top1 >= 0.9"]'), ("threshold", "0.3"), ("run", "2")],
    )
    for table in ("review", "region", "cover_test"):
        db.execute(f"DROP TABLE {table}")
        db.execute(
            next(one for one in f"{_REVIEWS_OF_3};{_EVIDENCE_OF_4}".split(";") if f"CREATE TABLE {table} " in one)
        )
    for table in (
        "finding",
        "finding_check",
        "handed_back",
        "check_answer",
        "score_file",
        "kept_columns",
        "strain_answer",
        "property",
        "reader_review",
        "agreed_review",
    ):
        db.execute(f"DROP TABLE {table}")
    db.execute("PRAGMA user_version = 5")
    db.commit()
    db.close()
    with Study.open(study) as opened:
        assert [load_claim(opened, i) for i in (1, 2, 3)] == [None, 0.95, None]
        assert [load_criteria(opened, i) for i in (1, 2, 3)] == [(), ("top1 >= 0.9",), ()]
        assert [load_threshold(opened, i) for i in (1, 2, 3)] == [None, 0.3, None]
        assert load_setting(opened, "claim") is None
        save_claim(opened, 3, 0.5)
        assert load_claim(opened, 2) == 0.95


def test_the_lock_goes_by_the_file_and_follows_no_planted_link(study: Path, tmp_path: Path) -> None:
    (tmp_path / "other.mivrat").symlink_to(study)
    with StudyLock(study), pytest.raises(InputError, match="open in another window"):
        StudyLock(tmp_path / "other.mivrat")
    victim = tmp_path / "victim"
    place = study.with_name(f".{study.name}.lock")
    for plant in (lambda: place.symlink_to(victim), lambda: os.mkfifo(place), lambda: place.write_text("precious")):
        plant()
        with pytest.raises(InputError, match="was not made by Mivrat"):
            StudyLock(study)
        assert os.path.lexists(place)  # it is not ours to take away
        place.unlink()
    assert not victim.exists()
    os.link(study, tmp_path / "hard.mivrat")
    with pytest.raises(InputError, match="a second name on the disk"):
        StudyLock(tmp_path / "hard.mivrat")


def test_a_guess_that_crops_much_away_is_warned_of(tmp_path: Path) -> None:
    from mivrat.core.pictures.crop_warning import cropping_remark, share_cut_away
    from mivrat.core.pictures.recipe import guess_recipe

    recipe = guess_recipe((None, 3, 64, 64), "float32")
    for i in range(3):
        Image.fromarray(np.zeros((100, 300, 3), np.uint8)).save(tmp_path / f"{i}.png")
    files = sorted(tmp_path.glob("*.png"))
    assert share_cut_away(files, recipe) == pytest.approx(2 / 3, abs=0.01)
    assert "crops away 67 % of these pictures" in cropping_remark(files, recipe, True)
    assert cropping_remark(files, recipe, False) == ""  # a recipe that was given is meant so
    Image.fromarray(np.zeros((100, 120, 3), np.uint8)).save(tmp_path / "a.png")
    assert cropping_remark([tmp_path / "a.png"], recipe, True) == ""
    assert share_cut_away([tmp_path / "none.png"], recipe) is None
