"""The command compare as other programs use it, on the demonstration's own data."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mivrat.cli import run_command
from mivrat.core.base.errors import InputError
from mivrat.demo.study import DATA
from tests.support.networks import classifier, recipe_for, saved
from tests.support.sets import write_set

ONE, TWO = (f"{DATA / f'grain-net-{i}.onnx'},{DATA / 'recipe.toml'}" for i in (1, 2))
SUMMER, SPRING = DATA / "late-summer-field.csv", DATA / "spring-check.csv"


def compare(out: Path, *more: object, classes: Path = DATA / "classes.txt") -> int:
    return run_command(["compare", "--classes", str(classes), "--out", str(out), *map(str, more)])


def read(out: Path) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((out / "comparison.json").read_text())
    assert found["format"] == "mivrat-comparison/2"
    return found


def rows(path: Path) -> list[dict[str, str]]:
    with open(path, newline="") as file:
        return list(csv.DictReader(file))


@pytest.fixture(scope="module")
def both_models(tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("models")
    assert compare(out, "--a", ONE, "--b", TWO, "--images", SUMMER, "--group", "station") == 0
    return out


def test_the_same_images_under_two_models(both_models: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found, flips = read(both_models), rows(both_models / "flips.csv")
    assert list(flips[0]) == ["path", "label", "a", "b", "confidence_a", "confidence_b", "outcome"]
    count = {
        one: sum(row["outcome"] == one for row in flips) for one in ("both right", "fixed", "broken", "both wrong")
    }
    counts = found["counts"]
    assert [counts[name.replace(" ", "_")] for name in count] == list(count.values())
    assert counts["both"] == len(flips) == 399
    assert counts["same_wrong"] == sum(r["outcome"] == "both wrong" and r["a"] == r["b"] for r in flips)
    right = [sum(r["label"] == r[one] for r in flips) / 399 for one in "ab"]
    assert found["top1"]["difference"]["value"] == pytest.approx(right[1] - right[0])
    assert found["top1"]["difference"]["low"] > 0.05
    assert found["paired"]
    assert "drop" not in found
    for name in ("log_loss", "brier", "ece", "macro_f1"):
        one = found[name]
        assert one["difference"]["low"] < one["difference"]["value"] < one["difference"]["high"]
    for k, one in enumerate(found["classes"]):
        mine = [r for r in flips if r["label"] == one["name"]]
        assert one["recall"]["b"] == pytest.approx(sum(r["b"] == one["name"] for r in mine) / len(mine))
        assert sum(found["confusion"]["a"][k]) == len(mine)
    first = found["pairs"][0]
    assert (first["label"], first["predicted"], first["b"]) == ("plantain", "ragweed", 0)
    assert {one["name"] for one in found["groups"]["by"]} == {"hill farm", "north roof"}
    assert sum(one["fixed"] for one in found["groups"]["by"]) == counts["fixed"]
    assert found["claims"][0]["text"].startswith("grain-net-2 is better than grain-net-1 by 11.5 points")


def test_requirements_on_differences_decide_the_exit_code(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    tables = []
    for name, calls in (("one", "abab"), ("two", "abbb")):
        lines = [f"{i}.png,{call}" for i, call in enumerate(calls)]
        tables.append(tmp_path / f"{name}.csv")
        tables[-1].write_text("\n".join(["path,predicted", *lines]) + "\n")
    (tmp_path / "c.txt").write_text("a\nb\n")
    (tmp_path / "set.csv").write_text("path,label\n" + "".join(f"{i}.png,{'abbb'[i]}\n" for i in range(4)))

    def held(*required: str, a: Path = tables[0]) -> int:
        given = [part for one in required for part in ("--require", one)]
        return compare(
            tmp_path / "out",
            "--a",
            a,
            "--b",
            tables[1],
            "--images",
            tmp_path / "set.csv",
            *given,
            classes=tmp_path / "c.txt",
        )

    assert held("difference(top1) >= 0.25", 'difference(recall["b"]) > 0.3', "high(difference(top1)) < 0.9") == 0
    assert held("low(difference(top1)) >= 0") == 1
    assert held("difference(log_loss) < 0") == 1  # there is none: the tables have no scores
    told = capsys.readouterr().out
    assert "holds: difference(top1) >= 0.25 (figure: 0.25)" in told
    assert "DOES NOT HOLD: difference(log_loss) < 0 (figure: undefined)" in told
    for wrong, why in (
        ("top1 >= 0.9", "is not about a difference"),
        ("difference(kappa) >= 0", "unknown figure"),
        ('difference(auroc["a"]) >= 0', "no difference is defined for"),
        ("difference(evaluated) >= 0", "no difference is defined for"),
    ):
        with pytest.raises(InputError, match=why):
            held(wrong)
    assert not (tmp_path / "out" / "drop").exists()


def test_one_model_on_two_sets_and_the_same_with_labels_hidden(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert compare(tmp_path / "labelled", "--a", ONE, "--images", SPRING, "--images-b", SUMMER) == 0
    found = read(tmp_path / "labelled")
    assert not found["paired"]
    assert "counts" not in found and "p" in found["top1"]  # noqa: PT018
    drop = found["drop"]
    assert drop["total"] == pytest.approx(found["top1"]["difference"]["value"]) == pytest.approx(-0.133, abs=0.001)
    assert drop["class_mix"] + drop["within"] == pytest.approx(drop["total"])
    mixed_up = sum(p["within"] for p in found["pairs"] if {p["label"], p["predicted"]} == {"ragweed", "plantain"})
    assert mixed_up == pytest.approx(-0.113, abs=0.002)
    assert "ragweed and plantain confused with each other" in capsys.readouterr().out
    # another station: the same classes look different, the mix being nearly the same
    assert found["unlike_within_classes"]["p"] < 0.05
    assert not (tmp_path / "labelled" / "flips.csv").exists()

    table = rows(SUMMER)
    hidden, copied = tmp_path / "hidden.csv", tmp_path / "copied.onnx"
    copied.write_bytes((DATA / "grain-net-1.onnx").read_bytes())
    again = f"{copied},{DATA / 'recipe.toml'}"  # the same model by content is the same model
    hidden.write_text("path\n" + "".join(f"{DATA / row['path']}\n" for row in table))
    assert compare(tmp_path / "hidden", "--a", ONE, "--b", again, "--images", SPRING, "--images-b", hidden) == 0
    estimates = read(tmp_path / "hidden")["estimates"]
    truth = found["top1"]["b"]
    accuracy = estimates["accuracy"]
    # Both miss: the ink dots make the model as sure as before of what is now wrong. Written down, not fixed.
    assert accuracy["by_confidence"]["value"] - truth == pytest.approx(0.040, abs=0.01)
    assert accuracy["by_threshold"]["value"] - truth == pytest.approx(-0.068, abs=0.02)
    labels = np.array([row["label"] for row in table if row["label"]])
    shares = {one["name"]: one["share"] for one in estimates["class_mix"]["classes"]}
    assert max(abs(share - (labels == name).mean()) for name, share in shares.items()) < 0.03


def test_more_than_two_runs_and_other_class_lists(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    model = classifier()
    (tmp_path / "r.toml").write_text("")
    from mivrat.core.pictures.recipe import recipe_to_toml

    (tmp_path / "r.toml").write_text(recipe_to_toml(recipe_for(model)))
    net = f"{saved(model, tmp_path / 'm.onnx')},{tmp_path / 'r.toml'}"
    images = write_set(tmp_path / "set")
    (images / "birch" / "cut.jpg").write_bytes(b"\xff\xd8\xff")
    (tmp_path / "c.txt").write_text("birch\nalder\nhazel\n")
    listed = sorted(f"{p.parent.name}/{p.name}" for p in images.rglob("*.*"))
    for name, called in (("all birch", "birch"), ("right", "")):
        body = "".join(f"{p},{called or p.split('/')[0]}\n" for p in listed)
        (tmp_path / f"{name}.csv").write_text(f"path,predicted\n{body}")
    tables = [tmp_path / "right.csv", tmp_path / "all birch.csv"]
    args = ("--a", net, "--b", tables[0], "--b", tables[1], "--images", images)
    assert compare(tmp_path / "out", *args, classes=tmp_path / "c.txt") == 0
    found = read(tmp_path / "out")
    assert found["runs"]["best_first"][0] == {
        "name": "right",
        "top1": {"value": 1.0, "low": pytest.approx(0.757, abs=1e-3), "high": 1.0},
    }
    assert len(found["runs"]["pairs"]) == 3
    assert "the best was chosen among 3" in capsys.readouterr().out
    # what the model cannot read, the tables still answer
    assert found["counts"]["only_b"] == 1
    (alone,) = rows(tmp_path / "out" / "answered_by_one.csv")
    assert (alone["path"].rpartition("/")[2], alone["answered_by"]) == ("cut.jpg", "b")
    # the same table by a list in another order, with a class of its own, and without hazel
    (tmp_path / "other.txt").write_text("alder\nyew\nbirch\n")
    (tmp_path / "two.csv").write_text(
        "path,predicted\n" + "".join(f"{p},{'yew' if 'hazel' in p else p.split('/')[0]}\n" for p in listed)
    )
    args = ("--a", tables[0], "--b", tmp_path / "two.csv", "--images", images, "--classes-b", tmp_path / "other.txt")
    assert compare(tmp_path / "out", *args, classes=tmp_path / "c.txt") == 0
    found = read(tmp_path / "out")
    assert [one["name"] for one in found["classes"]] == ["birch", "alder", "hazel", "yew"]
    assert (found["counts"]["other_class"], found["counts"]["both_right"]) == (4, found["counts"]["both"])


@pytest.mark.parametrize(
    ("more", "why"),
    [
        (("--a", "none.onnx", "--b", ONE), "the model or table does not exist"),
        (("--a", ONE), "only one side is named"),
        (("--a", ONE, "--b", TWO, "--b", ONE, "--images-b", SPRING), "may be given once"),
        (("--a", ONE, "--b", TWO, "--together", "nonsense"), "has no column 'nonsense'"),
        (("--a", ONE, "--b", TWO, "--group", "nonsense"), "has no column 'nonsense'"),
        (("--a", ONE, "--images-b", SPRING, "--group", "station"), "same images"),
        (("--a", ONE, "--images-b", SPRING, "--classes-b", DATA / "classes.txt"), "same images"),
        (("--a", ONE, "--b", DATA / "classes.txt"), "cannot be|no ONNX|not an ONNX|is no"),
    ],
)
def test_bad_input_is_told_before_anything_is_scored(tmp_path: Path, more: tuple[object, ...], why: str) -> None:
    with pytest.raises(InputError, match=why):
        compare(tmp_path / "out", "--images", SUMMER, *more)
    assert not (tmp_path / "out").exists()
    (tmp_path / "file").write_text("")
    with pytest.raises(InputError, match="a folder is needed"):
        compare(tmp_path / "file", "--images", SUMMER, "--a", ONE, "--b", TWO)
