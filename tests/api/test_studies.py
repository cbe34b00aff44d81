"""Studies, heatmaps and long work from Python, on the demonstration: the same as the commands say."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import polars as pl
import pytest

import mivrat
from mivrat.api.work import Work
from mivrat.cli import _code_of as main
from mivrat.core.base.job import Progress
from mivrat.demo.study import DATA

MODEL, LATER = DATA / "grain-net-1.onnx", DATA / "grain-net-2.onnx"
SPRING, CLASSES, RECIPE = DATA / "spring-check.csv", DATA / "classes.txt", DATA / "recipe.toml"


@pytest.fixture
def few(tmp_path: Path) -> Path:
    """A table of 40 images, five of each class."""
    table = pl.read_csv(SPRING).group_by("label", maintain_order=True).head(5)
    table = table.with_columns(path=pl.format("{}/{}", pl.lit(str(DATA)), "path"))
    table.write_csv(tmp_path / "few.csv")
    return tmp_path / "few.csv"


def test_a_study_is_made_opened_and_held_to_its_classes(tmp_path: Path, few: Path) -> None:
    path = tmp_path / "s.mivrat"
    with pytest.raises(mivrat.InputError, match="does not exist"):
        mivrat.open_study(path)
    study = mivrat.open_study(path, CLASSES)
    assert study.runs.height == 0
    with pytest.raises(mivrat.InputError, match="holds no run"):
        study.run()
    with pytest.raises(mivrat.InputError, match="neither criteria nor findings"):
        study.verify(MODEL)
    frame = pl.read_csv(few)
    first, second = study.evaluate(MODEL, few, RECIPE), study.evaluate(LATER, frame, RECIPE)
    assert study.runs["model"].to_list() == ["grain-net-1", "grain-net-2"]
    assert study.runs["images"].to_list() == [40, 40]
    assert study.run("grain-net-1").top1 == first.top1
    assert study.run().predictions.equals(second.predictions)
    with pytest.raises(mivrat.InputError, match="holds no run 'pink'"):
        study.run("pink")
    assert mivrat.compare(study.run("grain-net-1"), study.run()).n == 40
    assert study.criteria() == []
    assert study.findings.height == 0
    assert mivrat.open_study(path).class_names == study.class_names
    with pytest.raises(mivrat.InputError, match="other classes"):
        mivrat.open_study(path, study.class_names[::-1])
    with pytest.raises(mivrat.InputError, match="other classes"):
        mivrat.evaluate(MODEL, few, study.class_names[::-1], RECIPE, study=path)
    written = study.report(tmp_path / "report.html", tmp_path / "card.md", run="grain-net-1")
    assert [one.suffix for one in written[:2]] == [".html", ".md"]
    assert "grain-net-1" in (tmp_path / "report.html").read_text(encoding="utf-8")
    with pytest.raises(mivrat.InputError):
        study.report(tmp_path / "report.docx")


def test_the_next_model_is_verified_as_by_the_command(demo_study: Path, tmp_path: Path) -> None:
    with pytest.raises(mivrat.InputError, match="neither criteria"):
        mivrat.open_study(demo_study).verify(LATER)
    from mivrat.core.study.file import Study
    from mivrat.core.study.runs import list_runs
    from mivrat.core.study.settings import save_criteria

    with Study.open(demo_study) as study:
        run = next(one for one in list_runs(study) if one.model == "grain-net-1")
        save_criteria(study, run.model_id, ("low(top1) >= 0.9", 'recall["ragweed"] >= 0.5'))
    opened = mivrat.open_study(demo_study)
    assert opened.criteria("grain-net-1 on spring-check") == ["low(top1) >= 0.9", 'recall["ragweed"] >= 0.5']
    found = opened.verify(LATER, SPRING)
    code = main(["verify", str(demo_study), "--model", str(LATER), "--images", str(SPRING), "--out", str(tmp_path)])
    assert found.as_json() == json.loads((tmp_path / "verify.json").read_text(encoding="utf-8"))
    assert found.passed == (code == 0)
    assert found.criteria["verdict"].to_list() == ["met", "met"]
    assert "met: low(top1) &gt;= 0.9" in found._repr_html_()
    bad = opened.verify(MODEL, DATA / "late-summer-field.csv")
    assert not bad.passed
    assert bad.failing == ("low(top1) >= 0.9",)


def test_work_tells_its_progress_stops_and_goes_on(tmp_path: Path, few: Path) -> None:
    told: list[Progress] = []
    whole = mivrat.evaluate(MODEL, few, CLASSES, RECIPE, batch=8, progress=told.append)
    assert [told[0].done, told[-1].done, told[-1].total] == [0, 40, 40]
    work = mivrat.evaluation(MODEL, few, CLASSES, RECIPE, study=tmp_path / "s.mivrat", batch=8, threads=1)
    for step in work:
        if step.done:
            work.stop()
    part = work.result
    assert 0 < part.n < 40
    assert part.counts.pending == 40 - part.n
    assert f"{part.counts.pending} pending" in part._repr_html_()
    asked: list[int] = []
    again = mivrat.evaluate(
        MODEL, few, CLASSES, RECIPE, study=tmp_path / "s.mivrat", progress=lambda step: asked.append(step.done)
    )
    assert asked[0] == part.n
    assert again.predictions.equals(whole.predictions)

    def nothing() -> Work[int]:
        def events():  # type: ignore[no-untyped-def]
            yield Progress(1, 2, 0.0, None)

        return Work(events())

    with pytest.raises(mivrat.Stopped):
        _ = nothing().result


def test_a_heatmap_is_that_of_the_command(tmp_path: Path) -> None:
    photo = DATA / pl.read_csv(SPRING)["path"][0]
    found = mivrat.heatmap(MODEL, photo, RECIPE, "birch", classes=CLASSES)
    command = [
        "heatmap",
        "--model",
        str(MODEL),
        "--recipe",
        str(RECIPE),
        "--classes",
        str(CLASSES),
        "--target",
        "birch",
    ]
    assert main([*command, "--image", str(photo), "--out", str(tmp_path)]) == 0
    assert np.array_equal(np.load(tmp_path / f"{photo.stem}.npy"), found.map)
    assert (tmp_path / f"{photo.stem}.png").read_bytes() == found._repr_png_()
    assert found.probabilities.sum() == pytest.approx(1)
    assert mivrat.heatmap(MODEL, photo, RECIPE, 0).target == "0"
    layers = mivrat.layers(MODEL, RECIPE)
    assert layers.filter(pl.col("default"))["tensor"].to_list() == [found.layer]
    with pytest.raises(mivrat.InputError, match="is no method"):
        mivrat.heatmap(MODEL, photo, RECIPE, method="magic")  # type: ignore[arg-type]
    for model, image in ((MODEL, tmp_path / "no.png"), (tmp_path / "no.onnx", photo)):
        with pytest.raises(mivrat.InputError, match="does not exist"):
            mivrat.heatmap(model, image, RECIPE)
    (tmp_path / "bad.png").write_bytes(b"no picture")
    with pytest.raises(mivrat.InputError, match="cannot be read"):
        mivrat.heatmap(MODEL, tmp_path / "bad.png", RECIPE)


def test_everything_shows_itself(few: Path, tmp_path: Path) -> None:
    run = mivrat.evaluate(MODEL, few, CLASSES, {"format": "mivrat-recipe/1", **_entries()})
    assert "95 % interval" in run._repr_html_()
    assert run.matrix._repr_svg_().index("<rect") < run.matrix._repr_svg_().index("<g")
    run.reliability.save(tmp_path / "r.svg")
    assert (tmp_path / "r.svg").read_text(encoding="utf-8") == run.reliability.svg
    assert {one.name for one in run.save(tmp_path / "results")} >= {"metrics.json", "predictions.csv"}
    told = json.loads((tmp_path / "results" / "metrics.json").read_text(encoding="utf-8"))
    assert told["top_k"]["1"]["low"] == run.top1.low
    test = mivrat.strain(MODEL, few, CLASSES, RECIPE, kinds=["blur:3"], study=tmp_path / "s.mivrat")
    assert test.frame["images"].to_list() == [40]
    assert test.require("at(blur, 3, top1) >= 0.999").verdict != "met"
    assert "blur" in test._repr_html_()
    region = mivrat.Region.rectangle(0, 0, 0.3, 0.3)
    hidden = mivrat.cover(MODEL, few, CLASSES, region, RECIPE, labelled="birch")
    assert hidden.frame.height == hidden.changed.n == 5
    pasted = mivrat.transplant(
        MODEL, few, CLASSES, region, RECIPE, from_labelled="birch", onto_labelled="pine", target="birch"
    )
    assert (pasted.became.n, pasted.frame.height) == (5, 5)
    for one in (hidden, pasted, run.top1, run.sets(), mivrat.compare(run, run)):
        assert one._repr_html_()
    for refused in ((0.5, 0, 0.2, 1), (-1, 0, 1, 1)):
        with pytest.raises(mivrat.InputError, match="not a rectangle"):
            mivrat.Region.rectangle(*refused)
    with pytest.raises(mivrat.InputError, match="no image has this label"):
        mivrat.cover(
            MODEL, pl.read_csv(few).filter(pl.col("label") == "pine"), CLASSES, region, RECIPE, labelled="birch"
        )
    with pytest.raises(mivrat.InputError, match="say whose region"):
        mivrat.transplant(MODEL, few, CLASSES, region, RECIPE)


def _entries() -> dict[str, object]:
    import tomllib

    return tomllib.loads(RECIPE.read_text(encoding="utf-8"))
