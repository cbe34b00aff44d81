"""The command weak: what it writes, how it goes on, and what it says of the demonstration."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from mivrat import cli
from mivrat.core.concluding.findings import Draft, FindingClaim, as_text
from mivrat.core.concluding.of_study import ground_of, make_finding, read_snapshot
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.properties import NAMES
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.running.measuring import measure_photos
from mivrat.core.study.file import Study
from mivrat.core.study.kept_findings import KeptFinding, save_findings
from mivrat.core.study.kept_properties import load_properties, unmeasured
from mivrat.core.study.runs import list_runs
from mivrat.demo.study import DATA
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def words(folder: Path) -> list[str]:
    model = loaded(classifier(seed=5), folder / "m.onnx", 3)
    (folder / "r.toml").write_text(recipe_to_toml(model.recipe))
    (folder / "classes.txt").write_text("\n".join(CLASSES))
    write_set(folder / "set", 6, seed=5)
    given = {
        "model": model.path,
        "recipe": folder / "r.toml",
        "classes": folder / "classes.txt",
        "images": folder / "set",
    }
    return ["weak", *(part for name, value in given.items() for part in (f"--{name}", str(value)))]


def test_the_demonstration_told_by_its_photos(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    given = {
        "model": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "late-summer-field.csv",
        "out": tmp_path / "weak",
    }
    assert cli._code_of(["weak", *(part for name, value in given.items() for part in (f"--{name}", str(value)))]) == 0
    told: dict[str, Any] = json.loads((tmp_path / "weak" / "weak.json").read_text())
    assert (told["format"], told["images"], told["wrong"], told["unmeasured"]) == ("mivrat-weak/1", 399, 68, 0)
    assert sorted(one["name"] for one in told["properties"]) == sorted(NAMES)
    assert not any("ink" in json.dumps(one["conditions"]) for one in told["spots"])
    sure = [one for one in told["spots"] if one["confirmed"]["p_holm"] < 0.05]
    assert sure == [one for one in told["spots"] if one["is_confirmed"]]
    assert ["labelled plantain"] in [one["conditions"] for one in sure]
    table = pl.read_parquet(tmp_path / "weak" / "properties.parquet")
    focus = pl.read_csv(DATA / "late-summer-field.csv")["focus"]
    # Photos out of focus are told by their sharpness alone.
    soft, sharp = (table.filter(focus == one)["sharpness"] for one in ("soft", "sharp"))
    assert float(soft.quantile(0.95) or 0) < float(sharp.quantile(0.05) or 0)
    assert pl.read_csv(tmp_path / "weak" / "properties.csv").shape == table.shape == (400, 4 + len(NAMES))
    out = capsys.readouterr().out
    assert "68 of 399 images wrong" in out
    assert "searched on 200 images, confirmed on 199 others" in out


def test_photos_are_measured_while_they_are_scored_and_once(tmp_path: Path) -> None:
    given = [*words(tmp_path), "--study", str(tmp_path / "s.mivrat")]
    for out in ("a", "b"):
        assert cli._code_of([*given, "--out", str(tmp_path / out)]) == 0
    assert (tmp_path / "a" / "properties.csv").read_bytes() == (tmp_path / "b" / "properties.csv").read_bytes()
    assert (tmp_path / "a" / "weak.json").read_bytes() == (tmp_path / "b" / "weak.json").read_bytes()
    with Study.open(tmp_path / "s.mivrat") as study:
        assert unmeasured(study, 1) == []
        whole = load_properties(study, 1, 18)
        assert whole[:, 0].tolist() == [16 + i for _ in range(3) for i in range(6)]
        # What an earlier version has scored is measured when it is asked for, and comes to the same.
        with study.writing() as db:
            db.execute("DELETE FROM property")
        assert len(unmeasured(study, 1)) == 18
        (tmp_path / "set" / "birch" / "3.png").unlink()
        assert [one.done for one in measure_photos(study, 1)][-1] == 18
        assert unmeasured(study, 1) == [sorted_index(study, "birch/3.png")]
        again = load_properties(study, 1, 18)
        there = again[:, 0] == again[:, 0]
        assert there.sum() == 17
        assert (again[there] == whole[there])[:, :-2].all()


def sorted_index(study: Study, path: str) -> int:
    return int(study.db.execute("SELECT position FROM image WHERE path = ?", (path,)).fetchone()[0])


def test_a_set_without_labels_and_a_column_that_is_not_there(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    given = words(tmp_path)
    bare = tmp_path / "bare"
    bare.mkdir()
    for i, one in enumerate(sorted((tmp_path / "set").rglob("*.png"))):
        one.rename(bare / f"{i}.png")
    given[given.index("--images") + 1] = str(bare)
    assert cli._code_of([*given, "--out", str(tmp_path / "out")]) == 0
    assert "No image has a label and an answer" in capsys.readouterr().out
    assert json.loads((tmp_path / "out" / "weak.json").read_text())["problem"].startswith("No image has a label")
    assert cli._code_of([*given, "--together", "slide", "--out", str(tmp_path / "no")]) == 2
    assert "has no column 'slide'" in capsys.readouterr().err
    assert not (tmp_path / "no").exists()


def test_a_range_of_a_property_is_asked_of_the_next_model(tmp_path: Path) -> None:
    given = words(tmp_path)
    study_path = tmp_path / "s.mivrat"
    assert cli._code_of([*given, "--study", str(study_path), "--out", str(tmp_path / "a")]) == 0
    with Study.open(study_path) as study:
        run = list_runs(study)[0].id
    values = pl.read_parquet(tmp_path / "a" / "properties.parquet")["luminance"]
    middle = float(values.median() or 0)
    rule = ({"kind": "range", "name": "luminance", "ranges": [[None, middle]]},)
    ground = ground_of(study_path, read_snapshot(study_path, run), MakerPool())
    finding = make_finding(ground, Draft("dark", "", FindingClaim("share", conditions=rule)), None)
    assert finding is not None
    assert finding.before.total == 9
    with Study.open(study_path) as study:
        save_findings(study, [KeptFinding(finding.id, as_text(finding))])
    other = loaded(classifier(seed=6), tmp_path / "next.onnx", 3)
    verify = ["verify", str(study_path), "--model", str(other.path), "--recipe", str(tmp_path / "r.toml")]
    # On the same images, and on a copy of them that no study has seen: measured while they are scored.
    shutil.copytree(tmp_path / "set", tmp_path / "other")
    for name, more in (("v", []), ("w", ["--images", str(tmp_path / "other")])):
        assert cli._code_of([*verify, *more, "--out", str(tmp_path / name)]) == 0
        (told,) = json.loads((tmp_path / name / "verify.json").read_text())["findings"]
        assert told["after"]["total"] == 9
        assert "problem" not in told["after"] or not told["after"]["problem"]


def test_another_model_does_not_measure_the_same_photos_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    given = [*words(tmp_path), "--study", str(tmp_path / "s.mivrat"), "--out", str(tmp_path / "out")]
    assert cli._code_of(given) == 0

    def fails(*_: object) -> None:
        raise AssertionError("measured twice")

    monkeypatch.setattr("mivrat.core.answers.scoring.measured", fails)
    given[given.index("--model") + 1] = str(loaded(classifier(seed=6), tmp_path / "next.onnx", 3).path)
    assert cli._code_of(given) == 0
