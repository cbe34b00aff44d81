"""The commands sample and estimate on the demonstration: known truth inside the intervals, files read back, bad input told."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import polars as pl
import pytest

from mivrat import cli
from mivrat.demo.study import DATA

FIELD = DATA / "late-summer-field.csv"
GIVEN = {
    "model": DATA / "grain-net-1.onnx",
    "recipe": DATA / "recipe.toml",
    "classes": DATA / "classes.txt",
    "images": FIELD,
}
WORDS = [part for name, value in GIVEN.items() for part in (f"--{name}", str(value))]
LATER = f"{DATA / 'grain-net-2.onnx'},{DATA / 'recipe.toml'}"


def ran(*words: object) -> int:
    return cli._code_of([str(one) for one in words])


@pytest.fixture(scope="module")
def drawn(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    root = tmp_path_factory.mktemp("drawn")
    study = root / "s.mivrat"
    more = {
        "top1": ["--labels", 60],
        'recall["ragweed"]': ["--labels", 90],
        "difference(top1)": ["--half-width", 0.03, "--against", LATER],
    }
    for i, (figure, options) in enumerate(more.items()):
        assert ran("sample", *WORDS, "--figure", figure, *options, "--study", study, "--out", root / str(i)) == 0
    return {figure: root / str(i) for i, figure in enumerate(more)}


def test_what_the_labels_say_holds_the_truth(drawn: dict[str, Path], tmp_path: Path) -> None:
    truth = {"top1": 331 / 399, 'recall["ragweed"]': 25 / 50, "difference(top1)": (331 - 377) / 399}
    for figure, folder in drawn.items():
        told = json.loads((folder / "sample.json").read_text())
        assert (told["format"], told["figure"], told["pool"]) == ("mivrat-sample/1", figure, 399)
        table = pl.read_csv(folder / "sample.csv")
        assert len(table) == sum(one["labels"] for one in told["strata"]) == told["wanted"]["labels"]
        assert told["simple_random_would_need"] > len(table)
        # Listed at random, and with the probability that was written.
        share = [one["labels"] / one["pool"] for one in told["strata"]]
        assert table["inclusion"].to_list() == pytest.approx([share[h - 1] for h in table["stratum"]], abs=1e-6)
        assert table["stratum"].to_list() != sorted(table["stratum"].to_list())
        assert table["label"].is_null().all() or (table["label"] == "").all()
        assert ran("estimate", folder, "--labels", FIELD, "--out", tmp_path) == 0
        found = json.loads((tmp_path / "estimate.json").read_text())
        assert found["low"] <= truth[figure] <= found["high"], figure
        assert found["labelled"] == len(table)
        assert len(found["assumes"]) == 3
    assert told["counted_as_zero"] == 347
    assert len(table) < 40  # of 399, for 3 points


def test_labels_filled_in_and_requirements(
    drawn: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = tmp_path / "list"
    folder.mkdir()
    (folder / "sample.json").write_bytes((drawn["top1"] / "sample.json").read_bytes())
    truth = {one["path"]: one["label"] for one in csv.DictReader(FIELD.read_text().splitlines())}
    rows = list(csv.DictReader((drawn["top1"] / "sample.csv").read_text().splitlines()))
    for one in rows:
        one["label"] = truth[one["path"]].upper()
    with (folder / "sample.csv").open("w", newline="") as out:
        writer = csv.DictWriter(out, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)
    assert ran("estimate", folder, "--out", tmp_path, "--require", "low(top1) >= 0.5") == 0
    assert "is not valid" in capsys.readouterr().out
    assert ran("estimate", folder, "--out", tmp_path, "--require", "top1 >= 0.99") == 1
    assert ran("estimate", folder, "--out", tmp_path, "--require", 'recall["ragweed"] >= 0.5') == 2
    assert "Draw another sample" in capsys.readouterr().err
    # A table that lacks some, or says something that is no class.
    (tmp_path / "some.csv").write_text("path,label\n" + f"{rows[0]['path']},birch\n")
    assert ran("estimate", drawn["top1"], "--labels", tmp_path / "some.csv", "--out", tmp_path) == 2
    assert "59 of 60 listed images have no label" in capsys.readouterr().err
    (tmp_path / "odd.csv").write_text("path,label\na.png,oak\n")
    assert ran("estimate", drawn["top1"], "--labels", tmp_path / "odd.csv", "--out", tmp_path) == 2
    assert "line 2: label 'oak' is not in the class list" in capsys.readouterr().err
    # A row taken out: the list is no longer what was drawn.
    lines = (folder / "sample.csv").read_text().splitlines()
    (folder / "sample.csv").write_text("\n".join(lines[:-1]))
    assert ran("estimate", folder, "--out", tmp_path) == 2
    assert "does not list as many images of each stratum" in capsys.readouterr().err
    assert ran("estimate", tmp_path / "nowhere", "--out", tmp_path) == 2


def test_a_random_sample_with_labels_counts_and_more_are_drawn_beside_it(tmp_path: Path) -> None:
    rows = list(csv.DictReader(FIELD.read_text().splitlines()))[::16]
    (tmp_path / "known.csv").write_text("path,label\n" + "".join(f"{one['path']},{one['label']}\n" for one in rows))
    words = ["sample", *WORDS, "--figure", "top1", "--labels", 60]
    assert ran(*words, "--labelled", tmp_path / "known.csv", "--out", tmp_path / "a") == 0
    table = pl.read_csv(tmp_path / "a" / "sample.csv")
    known = {one["path"]: one["label"] for one in rows}
    given = {path: label for path, label in table.select("path", "label").iter_rows() if label}
    assert given
    assert all(known[path] == label for path, label in given.items())
    # All of them that were readable: a stratum takes as many as were there, if more than its share.
    assert len(given) >= len(rows) - 1
    assert ran("estimate", tmp_path / "a", "--labels", FIELD, "--out", tmp_path / "b") == 0


def test_copies_carry_no_name_and_are_made_once(
    drawn: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    study = drawn["top1"].parent / "s.mivrat"
    words = ["sample", *WORDS, "--figure", "top1", "--labels", 12, "--study", study, "--copies", "--out", tmp_path]
    assert ran(*words) == 0
    table = pl.read_csv(tmp_path / "sample.csv")
    copies = sorted(one.name for one in (tmp_path / "to-label").iterdir())
    assert copies == sorted(table["copy"].to_list()) == [f"{n:02d}.jpg" for n in range(1, 13)]
    for path, copy in zip(table["path"], table["copy"], strict=True):
        assert (tmp_path / "to-label" / copy).read_bytes() == (FIELD.parent / path).read_bytes()
    before = {one: (tmp_path / "to-label" / one).stat().st_mtime_ns for one in copies}
    assert ran(*words) == 0  # what is there is left
    assert {one: (tmp_path / "to-label" / one).stat().st_mtime_ns for one in copies} == before
    (tmp_path / "to-label" / "03.jpg").write_bytes(b"another")
    capsys.readouterr()
    assert ran(*words) == 2
    assert "holds another file called 03.jpg" in capsys.readouterr().err
    assert (tmp_path / "to-label" / "03.jpg").read_bytes() == b"another"


def test_what_cannot_be_asked(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    for more, words in (
        (["--figure", "ece", "--labels", 50], "not a figure that labels can be drawn for"),
        (["--figure", "top1"], "give one of --labels N and --half-width H"),
        (["--figure", "difference(top1)", "--labels", 50], "Name it with --against"),
        (["--figure", "top1", "--labels", 5], "5 labels are too few"),
        (["--figure", 'recall["oak"]', "--labels", 50], "oak"),
    ):
        assert ran("sample", *WORDS, *more, "--out", tmp_path / "x") == 2, more
        assert words in capsys.readouterr().err
    assert not (tmp_path / "x").exists()
