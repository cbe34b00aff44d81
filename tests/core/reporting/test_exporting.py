"""What is exported: lists with their source, copies that overwrite nothing, names made safe, sheets of every image."""

from __future__ import annotations

import csv
import errno
import io
import json
import shutil
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any, Literal

import numpy as np
import polars as pl
import pypdfium2
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from mivrat.core.answers.answers import SCORED, UNREADABLE, Answers
from mivrat.core.answers.judging import judge
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal, Written, stopped_by
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.properties import NAMES as PROPERTIES
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.reporting import exporting
from mivrat.core.reporting.exporting import (
    BY,
    COLUMNS,
    LINES,
    contact_sheet,
    safe_name,
    safe_names,
    sort_into_folders,
)
from mivrat.core.reporting.image_lists import (
    ExportedImages,
    Source,
    collect_list,
    list_of_images,
    predictions_list,
    relabel_list,
)
from mivrat.core.running.set_valued import PredictionSets, SetPlan, own_sets
from mivrat.core.selecting.measures import Measures
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.core.study.reviews import Cause, Review, Reviews
from tests.support.grounds import CLASSES, ground

NAMES = ["birch", "a/../b", "=alder"]


@pytest.fixture
def exported(tmp_path: Path) -> ExportedImages:
    """Six images in two folders, two of one name; one unlabelled, one unreadable."""
    paths = ["x/one.png", "y/one.png", "x/-two.png", "x/three.png", "x/four.png", "x/bad.png"]
    for i, path in enumerate(paths):
        (tmp_path / path).parent.mkdir(exist_ok=True)
        Image.fromarray(np.full((30, 40, 3), 40 * i, np.uint8)).save(tmp_path / path)
    (tmp_path / "x/bad.png").write_bytes(b"no picture")
    items = [ImageItem(path, None if i == 4 else i % 3, {"site": f"@{i}"}) for i, path in enumerate(paths)]
    answers = Answers(6, 3, "logits")
    answers.rows[:] = np.log(
        [[0.8, 0.1, 0.1], [0.7, 0.2, 0.1], [0.6, 0.3, 0.1], [0.5, 0.4, 0.1], [0.2, 0.2, 0.6], [1, 1, 1]]
    )
    answers.state[:] = [SCORED] * 5 + [UNREADABLE]
    images = ImageSet("set", tmp_path, items)
    record = RunRecord(RunInfo(1, "net", "set", 1, 1), NAMES, tmp_path / "m.onnx", Recipe(), True, images, answers)
    reviews = Reviews(
        (Cause(1, "hidden"), Cause(2, "two objects")),
        {1: Review(frozenset({1, 2}), "why\nso", True, 0), 3: Review(label=2)},
    )
    source = Source("study", "net", "set", "wrong;\nlabelled x", date(2031, 5, 6))
    return ExportedImages(source, record, judge(answers, images.labels), reviews, [3, 1, 0, 4, 5, 2])


def read(text: str) -> tuple[list[str], list[dict[str, str]]]:
    head = [line for line in text.splitlines() if line.startswith("# ")]
    return head, list(csv.DictReader(io.StringIO(text.split("\n", len(head))[-1])))


def test_a_list_is_written_as_its_name_says(exported: ExportedImages, tmp_path: Path) -> None:
    """A CSV begins with its header unless comment lines are asked for; Parquet tells numbers from words, and holds the same."""
    made = list_of_images(exported)
    made.write(tmp_path / "l.csv")
    made.write(tmp_path / "l.PARQUET")
    plain, typed = pl.read_csv(tmp_path / "l.csv", infer_schema=False), pl.read_parquet(tmp_path / "l.PARQUET")
    assert plain.columns == typed.columns == made.head
    assert typed["path"].to_list() == [
        line[0] for line in made.lines
    ]  # no sign before a name that looks like a formula
    assert (typed["confidence"].dtype, typed["rank"].dtype) == (pl.Float64, pl.Int64)
    assert typed["confidence"].null_count() == 1
    every = predictions_list(exported, "every")
    every.write(tmp_path / "p.parquet")
    probabilities = pl.read_parquet(tmp_path / "p.parquet").select(pl.col("^p:.*$"))
    np.testing.assert_allclose(probabilities.drop_nulls().sum_horizontal(), 1, atol=1e-5)


def test_a_list_says_where_it_came_from_and_what_each_image_is(exported: ExportedImages) -> None:
    head, lines = read(list_of_images(exported).as_csv(comments=True))
    assert head == [
        "# images selected (without an answer: 1 unreadable)",
        "# study: study",
        "# model: net",
        "# image set: set",
        "# selection: wrong; labelled x",
        "# date: 2031-05-06",
    ]
    assert [line["path"] for line in lines] == [exported.record.image_set.items[i].path for i in exported.images]
    first = lines[1]
    assert (first["label"], first["predicted"], first["rank"], first["reviewed"]) == ("a/../b", "birch", "2", "yes")
    assert (first["causes"], first["proposed_label"], first["note"]) == ("hidden; two objects", "birch", "why\nso")
    assert float(first["confidence"]) == pytest.approx(0.7, abs=1e-6)
    assert lines[0]["proposed_label"] == "'=alder"  # no formula
    assert lines[0]["site"] == "'@3"
    assert (lines[3]["label"], lines[4]["predicted"], lines[4]["confidence"]) == ("", "", "")


def test_a_list_tells_what_was_measured_in_photos(exported: ExportedImages, tmp_path: Path) -> None:
    values = np.full((6, len(PROPERTIES)), np.nan, np.float32)
    values[:5, PROPERTIES.index("sharpness")] = [1.5, -2.25, 3, 4, 5]
    values[:5, 0] = 40
    exported = replace(exported, measures=Measures(exported.record.image_set.items, values))
    made = list_of_images(exported)
    made.write(tmp_path / "l.parquet")
    table = pl.read_parquet(tmp_path / "l.parquet")
    assert [name for name in table.columns if name.startswith("photo: ")] == ["photo: width", "photo: sharpness"]
    assert table["photo: sharpness"].to_list() == [4.0, -2.25, 1.5, 5.0, None, 3.0]
    assert table["photo: width"].to_list() == [40.0] * 4 + [None, 40.0]


@pytest.mark.parametrize("of", ["predicted", "every", 1])
def test_predictions_come_with_the_sets_that_thresholds_of_all_images_give(
    of: int | Literal["predicted", "every"],
) -> None:
    rng = np.random.default_rng(3)
    labels = rng.integers(0, 3, 60).tolist()
    run = ground(labels, [k if rng.random() < 0.7 else 0 for k in labels]).snapshot
    run.judged.state[7] = UNREADABLE
    source = Source("s", "m", "i", "all", date(2031, 5, 6))
    some = [9, 7, 0, 59]
    exported = ExportedImages(source, run.record, run.judged, Reviews(), some)
    plan = SetPlan(0.8)
    made, plain = predictions_list(exported, of, plan), predictions_list(exported, of)
    assert made.head == [*plain.head, "set"]
    assert [line[:-1] for line in made.lines] == plain.lines
    (found,) = [one for one in own_sets(run.record, run.judged, plan) if isinstance(one, PredictionSets)]
    for i, line in zip(some, made.lines, strict=True):
        if i == 7:
            assert line[-1] == ""
            continue
        p = run.judged.probabilities([i])[0]
        inside = [k for k in range(3) if 1 - p[k] <= found.threshold.of_class[k]]
        assert json.loads(line[-1]) == [CLASSES[k] for k in sorted(inside, key=lambda k: (-p[k], k))]


def test_relabel_and_collect_lists(exported: ExportedImages) -> None:
    head, lines = read(relabel_list(exported).as_csv(comments=True))
    assert head[0] == "# labels to be corrected"
    assert [(line["path"], line["label"], line["proposed_label"]) for line in lines] == [
        ("x/three.png", "birch", "'=alder"),
        ("y/one.png", "a/../b", "birch"),
    ]
    head, lines = read(collect_list(exported).as_csv(comments=True))
    assert head[0] == "# collect more images like these: =alder 3, birch 2, no label 1"
    assert [line["class"] for line in lines] == ["'=alder", "birch", "birch", "", "'=alder", "'=alder"]
    with pytest.raises(InputError, match="no other label is proposed"):
        relabel_list(ExportedImages(exported.source, exported.record, exported.judged, exported.reviews, [0, 2]))


@pytest.mark.parametrize("how", ["copies", "links"])
def test_files_are_sorted_into_folders_and_nothing_is_overwritten(
    exported: ExportedImages, tmp_path: Path, how: exporting.How
) -> None:
    out = tmp_path / "out"
    for _ in range(2):
        *_, last, told = sort_into_folders(exported, out, how)
        assert isinstance(last, Progress)
        assert last.done == 6
        assert told == Written(6, out)
    found = sorted(str(p.relative_to(out)) for p in out.rglob("*") if not p.is_dir())
    expected = []
    for folder, name in [
        ("labelled birch/called birch", "one"),
        ("labelled birch/called birch", "three"),
        ("labelled a_.._b/called birch", "one"),
        ("labelled =alder/called birch", "-two"),
        ("labelled no label/called =alder", "four"),
        ("labelled =alder/called no answer", "bad"),
    ]:
        folder = folder.replace("=", "_")
        expected.append(f"{folder}/{name}.png")  # the second time they were there already
    assert found == sorted([*expected, "list.csv", "list (2).csv"])
    one = out / "labelled birch" / "called birch" / "one.png"
    assert one.is_symlink() == (how == "links")
    assert one.read_bytes() == (tmp_path / "x/one.png").read_bytes()
    one.unlink()
    one.write_bytes(b"somebody's own")
    list(sort_into_folders(exported, out, how))
    assert one.read_bytes() == b"somebody's own"
    assert one.with_name("one (2).png").read_bytes() == (tmp_path / "x/one.png").read_bytes()


def test_a_full_disk_leaves_no_piece_of_a_file(
    exported: ExportedImages, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    out, copied = tmp_path / "out", shutil.copyfileobj

    def full(source: Any, target: Any) -> None:
        if "four" in source.name:
            target.write(b"some")
            raise OSError(errno.ENOSPC, "No space left on device")
        copied(source, target)

    monkeypatch.setattr(shutil, "copyfileobj", full)
    with pytest.raises(InputError, match="No space left"):
        list(sort_into_folders(exported, out, "copies"))
    names = {p.name for p in out.rglob("*") if p.is_file()}
    assert names
    assert not [name for name in names if "four" in name or "part" in name]
    monkeypatch.setattr(shutil, "copyfileobj", copied)
    *_, told = sort_into_folders(exported, out, "copies")
    assert told == Written(6, out)
    assert not [p for p in out.rglob("*") if "(2)" in p.name]  # what was there was not put there again
    assert all(p.stat().st_size for p in out.rglob("*.png"))


def test_nothing_is_written_through_a_link_in_the_folder(exported: ExportedImages, tmp_path: Path) -> None:
    out, elsewhere = tmp_path / "out", tmp_path / "elsewhere"
    out.mkdir()
    elsewhere.mkdir()
    (out / "labelled birch").symlink_to(elsewhere)
    with pytest.raises(InputError, match="is a link"):
        list(sort_into_folders(exported, out, "copies"))
    assert not list(elsewhere.iterdir())


def test_folders_by_prediction_label_or_cause(exported: ExportedImages, tmp_path: Path) -> None:
    found = {}
    for by in BY[1:]:
        *_, told = sort_into_folders(exported, tmp_path / by, "copies", by=by)
        assert told == Written(6, tmp_path / by)
        found[by] = sorted(str(p.relative_to(tmp_path / by).parent) for p in (tmp_path / by).rglob("*.png"))
    assert found["prediction"] == ["called _alder", *["called birch"] * 4, "called no answer"]
    assert found["label"] == [
        "labelled _alder",
        "labelled _alder",
        "labelled a_.._b",
        *["labelled birch"] * 2,
        "labelled no label",
    ]
    assert found["cause"] == ["hidden", *["no cause"] * 5, "two objects"]  # one image has both causes


def test_predictions_of_what_is_asked_for(exported: ExportedImages) -> None:
    probabilities = np.exp(exported.record.answers.rows[:5].astype(float))
    probabilities /= probabilities.sum(axis=1, keepdims=True)
    head, lines = read(predictions_list(exported).as_csv(comments=True))
    assert head[0].startswith("# predictions")
    assert [line["id"] for line in lines] == [exported.record.image_set.items[i].path for i in exported.images]
    assert [line["predicted"] for line in lines] == ["birch", "birch", "birch", "'=alder", "", "birch"]
    for line, i in zip(lines, exported.images, strict=True):
        told = [line[name] for name in line if name not in ("id", "predicted")]
        assert told == ([""] if i == 5 else [told[0]])
        assert i == 5 or float(told[0]) == pytest.approx(probabilities[i].max(), abs=1e-6)
    _, of_one = read(predictions_list(exported, 1).as_csv(comments=True))
    _, every = read(predictions_list(exported, "every").as_csv(comments=True))
    for one, all_of_it, i in zip(of_one, every, exported.images, strict=True):
        if i == 5:
            assert set(list(one.values())[1:]) == {""}
            continue
        assert float(one["p:a/../b"]) == pytest.approx(probabilities[i, 1], abs=1e-6)
        told = [float(value) for name, value in all_of_it.items() if name not in ("id", "predicted")]
        assert told == pytest.approx(probabilities[i], abs=1e-6)


def test_sorting_stops_and_says_what_is_in_the_way(exported: ExportedImages, tmp_path: Path) -> None:
    stop = StopSignal()
    with stopped_by(stop):
        for event in sort_into_folders(exported, tmp_path / "out", "copies"):
            if isinstance(event, Progress) and event.done == 2:
                stop.stop()
    assert event == Written(2, tmp_path / "out")
    exported.record.image_set.file(0).unlink()
    *_, told = sort_into_folders(exported, tmp_path / "rest", "copies")
    assert told == Written(5, tmp_path / "rest", 1)
    assert len([p for p in (tmp_path / "out").rglob("*") if p.is_file()]) == 2
    (tmp_path / "file").write_text("")
    with pytest.raises(InputError, match="cannot be written"):
        list(sort_into_folders(exported, tmp_path / "file", "copies"))


@given(st.text(max_size=200))
def test_safe_names_are_one_part_of_a_path(text: str) -> None:
    found = safe_name(text)
    assert found
    assert found == found.strip(" .")
    assert not set(found) & set('/\\:*?"<>|\0\n')
    assert found not in (".", "..")
    assert len(found.encode()) <= 255


def test_names_that_would_fall_together_are_kept_apart() -> None:
    found = safe_names(["a/b", "a:b", "A_b", "con", "Birke ä"])
    assert found == {"a/b": "a_b", "a:b": "a_b (2)", "A_b": "A_b (3)", "con": "_con", "Birke ä": "Birke ä"}


def test_contact_sheets_hold_every_image(exported: ExportedImages, tmp_path: Path) -> None:
    many = ExportedImages(
        exported.source, exported.record, exported.judged, exported.reviews, [0] * (COLUMNS * LINES + 1)
    )
    *_, last, told = contact_sheet(many, tmp_path / "sheet.png")
    assert isinstance(last, Progress)
    assert last.done == COLUMNS * LINES + 1
    assert told == Written(2, tmp_path / "sheet.png")
    first, second = (np.asarray(Image.open(tmp_path / name)) for name in ("sheet.png", "sheet-2.png"))
    black = [(page == 0).all(axis=2) for page in (first, second)]  # the picture is black; so are a few letters
    cell = exporting.CELL * exporting.CELL * 30 // 40  # enlarged to the width of its place
    assert black[0].sum() - black[1].sum() >= (COLUMNS * LINES - 1) * cell
    (tmp_path / "other-2.png").write_bytes(b"somebody's own")
    with pytest.raises(InputError, match=r"written over other-2\.png"):
        list(contact_sheet(many, tmp_path / "other.png"))
    assert not (tmp_path / "other.png").exists()
    assert (tmp_path / "other-2.png").read_bytes() == b"somebody's own"
    list(contact_sheet(many, tmp_path / "sheet.pdf"))
    with pypdfium2.PdfDocument(tmp_path / "sheet.pdf") as pages:
        assert len(pages) == 2
    list(contact_sheet(exported, tmp_path / "all.pdf"))  # an unreadable and an unlabelled one too
    stop = StopSignal()
    stop.stop()
    with stopped_by(stop):
        list(contact_sheet(many, tmp_path / "stopped.pdf"))
    assert not (tmp_path / "stopped.pdf").exists()
