"""The cover test: what is hidden and where, counts by hand, and a planted cause that is found and tested."""

from __future__ import annotations

import csv
import json
from math import comb
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mivrat.cli import run_command
from mivrat.core.base.errors import InputError
from mivrat.core.figures.covered import cover_result
from mivrat.core.heatmaps.maps import Target
from mivrat.core.region_masking.one_image import Donors, cover, drawn, drawn_each, elsewhere, hide, hottest
from mivrat.core.region_masking.regions import Shape
from mivrat.demo.study import DATA
from tests.support.networks import seeing_one_spot


def picture(seed: int = 0) -> np.ndarray:
    return np.random.default_rng(seed).integers(0, 256, (30, 40, 3), dtype=np.uint8)


def test_hiding_changes_the_region_only() -> None:
    pixels, other = picture(), picture(1)
    mask = np.zeros((30, 40), bool)
    mask[3:9, 10:20] = True
    for how in ("blur", "mean", "patch"):
        found = hide(pixels, mask, how, other)  # type: ignore[arg-type]
        assert (found[~mask] == pixels[~mask]).all()
        assert found.dtype == np.uint8
    assert (hide(pixels, mask, "patch", other)[mask] == other[mask]).all()
    assert (hide(pixels, mask, "mean")[mask] == np.round(pixels[~mask].mean(axis=0)).astype(np.uint8)).all()
    assert hide(pixels, mask, "blur")[mask].std() < 0.3 * pixels[mask].std()
    assert (hide(pixels, np.ones((30, 40), bool), "mean") == np.round(pixels.mean(axis=(0, 1))).astype(np.uint8)).all()


def test_the_control_is_the_same_area_elsewhere_and_repeatable() -> None:
    mask = np.zeros((30, 40), bool)
    mask[25:30, 0:8] = True
    found = elsewhere(mask, np.random.default_rng(4))
    assert found.sum() == mask.sum()
    assert not (found & mask).any()
    assert (found == elsewhere(mask, np.random.default_rng(4))).all()
    most = ~mask  # too large to be moved away: it overlaps as little as it can
    assert (elsewhere(most, np.random.default_rng(0)) & most).sum() < most.sum()


def test_a_region_is_a_rectangle_or_the_hottest_part(tmp_path: Path) -> None:
    pixels = picture()
    shape = Shape("rectangle", ((0.5, 0.0), (1.0, 0.25)))
    found = drawn([shape])(0, pixels, pixels, 0)
    assert not isinstance(found, str)
    assert drawn_each({1: [shape]})(0, pixels, pixels, 0) == "no region was drawn for it"
    assert found.sum() == 20 * 8  # rows 0 to 7.5 rounded, columns 20 to 40
    assert found[:8, 20:].all()
    maker = seeing_one_spot(tmp_path)
    layer = next(one for one in maker.layers if one.heatmap)
    tensor = np.ones((3, 30, 40), np.float32)
    heat = maker.maps(tensor[None], [Target(0)], [layer])[0][0]
    mask = hottest(maker, 0.05)(0, pixels, tensor, 0)
    assert not isinstance(mask, str)
    assert mask.sum() == 60
    assert heat[mask].min() >= heat[~mask].max() - 1e-6
    assert not np.any(hottest(maker, 0.05)(0, pixels, -tensor, 0))  # no evidence: nothing to hide


def test_counts_and_tests_by_hand() -> None:
    labels = np.array([0, 0, 0, 1, 1, -1])
    before = np.array([0, 1, 1, 1, 0, 1])
    covered = np.array([1, 0, 0, 1, 1, 0])
    control = np.array([0, 1, 0, 1, 0, 1])
    found = cover_result(labels, before, covered, control, np.array([0.5, 0.25, 0, 0, 0, 0.15]), np.zeros(6))
    assert (found.region.changed.hits, found.region.fixed, found.region.broken) == (5, 3, 1)
    assert found.region.p_paired == pytest.approx(2 * (comb(4, 0) + comb(4, 1)) / 2**4)
    assert (found.control.changed.hits, found.control.fixed, found.control.broken) == (1, 1, 0)
    assert (found.only_region, found.only_control) == (4, 0)
    assert found.p == pytest.approx(2 / 2**4)
    assert found.region.mean_drop == pytest.approx(0.15)
    nothing = cover_result(*(np.zeros(0, int),) * 4, np.zeros(0), np.zeros(0))
    assert (nothing.total, nothing.p, nothing.region.changed.value) == (0, 1.0, None)


def test_hiding_what_a_model_looks_at_and_what_it_does_not(tmp_path: Path) -> None:
    maker = seeing_one_spot(tmp_path)
    files = []
    for i in range(4):
        files.append(tmp_path / f"{i}.png")
        Image.fromarray(picture(i)).save(files[-1])
    files.append(tmp_path / "broken.png")
    files[-1].write_bytes(b"no picture")
    seen, unseen = (
        drawn([Shape("rectangle", corners)]) for corners in (((0.5, 0.13), (0.63, 0.27)), ((0.0, 0.5), (1.0, 1.0)))
    )
    for how in ("mean", "patch", "blur"):
        donors = Donors(dict(enumerate(files)), {0: 0, 1: 0, 2: 1, 3: -1})
        by_spot = list(cover(maker, files, [0, 1, 2, 3], seen, how, 0, 1, donors))  # type: ignore[arg-type]
        assert all(one.p[0] != one.p[1] for one in by_spot)
        again = cover(maker, files, [3, 2, 1, 0], seen, how, 0, 1, donors)  # type: ignore[arg-type]
        assert by_spot == list(again)[::-1]  # whatever order they stand in
        if how == "patch":
            assert [one.donor for one in by_spot[:2]] == [2, 2]
            assert by_spot[2].donor in (0, 1)
    by_other = list(cover(maker, files, [0, 1, 2, 3, 4], unseen, "mean", 0))
    assert all(one.p[1] == pytest.approx(one.p[0], abs=1e-7) for one in by_other[:4])
    assert by_other[4].problem
    assert by_other[4].predicted == (-1, -1, -1)


@pytest.mark.parametrize("model", [1, 2])
def test_the_ink_dot_is_the_cause_for_one_model_and_not_for_the_other(
    model: int, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    arguments = {
        "model": DATA / f"grain-net-{model}.onnx",
        "heat-from": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "late-summer-field.csv",
        "labelled": "plantain",
        "target": "ragweed",
        "hottest": 0.08,
        "hide": "mean",
        "out": tmp_path,
    }
    assert run_command(["cover", *(str(part) for key, value in arguments.items() for part in (f"--{key}", value))]) == 0
    told = json.loads((tmp_path / "cover.json").read_text())
    with open(tmp_path / "cover.csv", encoding="utf-8") as file:
        lines = list(csv.DictReader(file))
    assert told["total"] == len(lines) == 50
    changed = sum(line["predicted"] != line["covered_predicted"] for line in lines)
    assert told["region"]["changed"]["hits"] == changed
    assert told["mean_area"] == pytest.approx(0.08, abs=0.001)
    assert told["done"]["hide"] == "mean"
    dotted = [line for line in lines if line["predicted"] == "ragweed"]
    if model == 1:
        assert told["region"]["fixed"] >= 20
        assert told["p"] < 1e-6
        assert sum(line["covered_predicted"] == "plantain" for line in dotted) >= 20
        assert "more than the same area elsewhere" in capsys.readouterr().out
    else:
        # Where the control falls is left to chance, and with it on which side of 0.05 p falls; what tells is that none is fixed.
        assert told["region"]["fixed"] <= 2
        assert told["p"] > 0.005
        assert told["region"]["changed"]["hits"] < 20


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ([], "say what the region is"),
        (["--region", "0,0,1,1", "--hottest", "0.1"], "say what the region is"),
        (["--region", "0.5,0,0.2,1"], "is not a rectangle"),
        (["--region", "a,b"], "is not a rectangle"),
        (["--hottest", "3"], "is not a share of the area"),
        (["--hottest", "0.1", "--labelled", "oak"], "is not a class"),
    ],
)
def test_bad_regions_are_told(given: list[str], told: str, tmp_path: Path) -> None:
    usual = {
        "model": "grain-net-1.onnx",
        "recipe": "recipe.toml",
        "classes": "classes.txt",
        "images": "late-summer-field.csv",
    }
    fixed = [part for key, name in usual.items() for part in (f"--{key}", str(DATA / name))]
    with pytest.raises(InputError, match=told):
        run_command(["cover", *fixed, "--out", str(tmp_path / "out"), *given])
    assert not (tmp_path / "out").exists()
