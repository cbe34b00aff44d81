"""The command transplant: two runs write the same bytes, and what cannot be done says so in one line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from mivrat import cli
from mivrat.core.pictures.recipe import recipe_to_toml
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def words(tmp_path: Path) -> list[str]:
    model = loaded(classifier(side=16, seed=5), tmp_path / "m.onnx", 3)
    (tmp_path / "r.toml").write_text(recipe_to_toml(model.recipe))
    (tmp_path / "classes.txt").write_text("\n".join(CLASSES))
    write_set(tmp_path / "set", 6)
    given = {"model": model.path, "recipe": "r.toml", "classes": "classes.txt", "images": "set"}
    return ["transplant", *(part for name, value in given.items() for part in (f"--{name}", str(tmp_path / value)))]


def test_two_runs_write_the_same_bytes_and_the_seed_draws_others(words: list[str], tmp_path: Path) -> None:
    region = (
        "--region",
        "0,0,0.5,0.5",
        "--from-labelled",
        "birch",
        "--target",
        "birch",
        "--donors",
        "3",
        "--receivers",
        "8",
    )
    for name, more in (("a", ()), ("b", ()), ("c", ("--seed", "1"))):
        assert cli._code_of([*words, *region, *more, "--out", str(tmp_path / name)]) == 0
    files = {
        name: [(tmp_path / name / one).read_bytes() for one in ("transplant.json", "transplant.csv")] for name in "abc"
    }
    assert files["a"] == files["b"]
    assert files["a"][1] != files["c"][1]
    told = json.loads(files["a"][0])
    assert (told["format"], told["done"]["donors"], told["done"]["receivers"]) == (
        "mivrat-transplant/1",
        "labelled birch",
        "all other images",
    )
    assert told["need"]["total"] == 3
    assert told["enough"]["total"] + told["receivers_left_out"] == 8
    assert not any(
        line.startswith("birch/") for line in files["a"][1].decode().splitlines()
    )  # none of the counted class


def test_what_cannot_be_done_is_said_in_a_line(
    words: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    region = ("--region", "0,0,0.5,0.5")
    for given, told in (
        (region, "say whose region is pasted"),
        (("--from-labelled", "birch"), "say what the region is"),
        ((*region, "--from-labelled", "oak"), "oak"),
        ((*region, "--from-labelled", "birch", "--at", "2,0"), "is not a place"),
        ((*region, "--from-labelled", "birch", "--at", "middle"), "is not a place"),
        ((*region, "--from-predicted", "birch"), "no image is of this class"),
        (
            (*region, "--from-labelled", "birch", "--onto-labelled", "birch", "--donors", "9"),
            "no image is left to paste onto",
        ),
        ((*region, "--from-labelled", "birch", "--together", "slide"), "has no column 'slide'"),
        (("--region", "0,0,1,1", "--from-labelled", "birch"), "the region is the whole image"),
    ):
        assert cli._code_of([*words, *given, "--out", str(tmp_path / "out")]) == 2, told
        lines = capsys.readouterr().err.splitlines()
        assert told in lines[-1]
        assert not (tmp_path / "out").exists()
