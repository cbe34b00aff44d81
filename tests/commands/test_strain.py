"""The command strain: two runs write the same bytes, requirements decide the exit code, and the demonstration's ink is found by adding it."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from mivrat import cli
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.demo.study import DATA
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def words(tmp_path: Path) -> list[str]:
    model = loaded(classifier(seed=5), tmp_path / "m.onnx", 3)
    (tmp_path / "r.toml").write_text(recipe_to_toml(model.recipe))
    (tmp_path / "classes.txt").write_text("\n".join(CLASSES))
    write_set(tmp_path / "set", 6, seed=5)
    given = {
        "model": model.path,
        "recipe": tmp_path / "r.toml",
        "classes": tmp_path / "classes.txt",
        "images": tmp_path / "set",
    }
    return ["strain", *(part for name, value in given.items() for part in (f"--{name}", str(value)))]


def ran(words: list[str], out: Path, *more: str) -> int:
    return cli._code_of([*words, "--out", str(out), *more])


def test_two_runs_write_the_same_bytes_and_the_seed_tells(words: list[str], tmp_path: Path) -> None:
    kinds = ("--kind", "noise:0,0.1,0.3", "--kind", "mark@colour=ff0000:0.3", "--kind", "brightness")
    for name, more in (("a", ()), ("b", ("--study", str(tmp_path / "s.mivrat"))), ("c", ("--seed", "5"))):
        assert ran(words, tmp_path / name, *kinds, *more) == 0
    files = {name: [(tmp_path / name / one).read_bytes() for one in ("strain.json", "strain.csv")] for name in "abc"}
    assert files["a"] == files["b"]
    assert files["a"][0] != files["c"][0]
    told = json.loads(files["a"][0])
    assert (told["format"], told["images"], told["seed"]) == ("mivrat-strain/1", 18, 0)
    assert [(one["kind"], one["unit"], [level["level"] for level in one["levels"]]) for one in told["kinds"]] == [
        ("noise", "of 0 to 1", [0.1, 0.3]),
        ("mark", "of the side", [0.3]),
        ("brightness", "stops", [-2, -1, 1, 2]),
    ]
    assert told["kinds"][1]["with"] == {"colour": "ff0000"}
    lines = files["a"][1].decode().splitlines()
    assert lines[0].split(",")[:5] == ["path", "label", "untouched", "flips_at", "problem"]
    assert len(lines) == 19


def test_groups_are_told_at_each_level(words: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Against counting in strain.csv."""
    root = tmp_path / "set"
    files = sorted(root.rglob("*.png"))
    (tmp_path / "set.csv").write_text(
        "path,label,camera\n"
        + "".join(f"set/{f.relative_to(root)},{f.parent.name},{'ab'[i % 2]}\n" for i, f in enumerate(files))
    )
    words[words.index("--images") + 1] = str(tmp_path / "set.csv")
    grid = ("--kind", "blur:1+noise:0,0.3", "--group", "camera")
    assert ran(words, tmp_path / "out", *grid) == 0
    told = json.loads((tmp_path / "out" / "strain.json").read_text())
    rows = list(csv.DictReader((tmp_path / "out" / "strain.csv").read_text().splitlines()))
    assert [one["group"] for one in told["groups"]] == ["a", "b"]
    assert [(one["kind"], one.get("with")) for one in told["kinds"]] == [
        ("blur", None),
        ("blur", {"with": "noise 0.3"}),
    ]
    for k, one in enumerate(told["groups"]):
        mine = [row for row in rows if [f"set/{f.relative_to(root)}" for f in files].index(row["path"]) % 2 == k]
        assert one["untouched"]["images"] == len(mine)
        assert one["untouched"]["value"] == pytest.approx(
            sum(row["untouched"] == row["label"] for row in mine) / len(mine)
        )
        for level in one["levels"]:
            right = sum(row[level["distortion"]] == row["label"] for row in mine)
            assert (level["images"], level["value"]) == (len(mine), pytest.approx(right / len(mine)))
    assert ran(words, tmp_path / "none", *grid[:3], "day") == 2
    assert "has no column 'day'" in capsys.readouterr().err


def test_requirements_decide_and_what_cannot_be_asked_is_refused(
    words: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    kind = ("--kind", "blur:1,2")
    for text, code in (
        ("at(blur, 1, top1) >= 0", 0),
        ("low(at(blur, 2, changed)) <= 1", 0),
        ("retained(blur) >= 0", 0),
        ("at(blur, 1, top1) > 1", 1),
        ("high(at(blur, 2, top1)) < 0", 1),
        ("at(blur, 3, top1) >= 0", 2),
        ("at(noise, 1, top1) >= 0", 2),
        ("at(blur, 1, recall) >= 0", 2),
        ("retained(noise) >= 0", 2),
        ("top1 >= 0", 2),
        ("at(blur, 1) >= 0", 2),
    ):
        assert ran(words, tmp_path / "out", *kind, "--require", text) == code, text
        said = capsys.readouterr()
        assert ("DOES NOT HOLD" in said.out) == (code == 1)
        assert ("mivrat: --require: " in said.err) == (code == 2)
    for kinds in (("blur:1", "blur:1"), ("fog",), ("blur:0",), ("jpeg:1000",)):
        given = [part for one in kinds for part in ("--kind", one)]
        assert ran(words, tmp_path / "none", *given) == 2
    assert not (tmp_path / "none").exists()


@pytest.mark.slow
def test_ink_carries_clean_plantain_over_to_ragweed_under_the_first_model_alone(tmp_path: Path) -> None:
    """The planted cause, found the other way round: by adding it."""
    found = {}
    for name in ("grain-net-1", "grain-net-2"):
        given = {
            "model": DATA / f"{name}.onnx",
            "recipe": DATA / "recipe.toml",
            "classes": DATA / "classes.txt",
            "images": DATA / "spring-check",
            "kind": "mark:0.1",
        }
        out = tmp_path / name
        assert ran(["strain", *(part for key, value in given.items() for part in (f"--{key}", str(value)))], out) == 0
        rows = [line.split(",") for line in (out / "strain.csv").read_text().splitlines()]
        strained = rows[0].index("mark:0.1")
        clean = [row for row in rows[1:] if row[1] == "plantain" and row[2] != "ragweed"]
        found[name] = sum(row[strained] == "ragweed" for row in clean) / len(clean)
    assert found["grain-net-1"] > 0.8
    assert found["grain-net-2"] == 0
