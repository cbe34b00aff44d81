"""The commands as other programs use them: files, exit codes, one line for bad input, no interface toolkit."""

from __future__ import annotations

import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

from mivrat.cli import main, run_command
from mivrat.commands.catalogue import BY_NAME, COMMANDS
from mivrat.core.base.errors import InputError
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.demo.study import DATA
from tests.support.networks import classifier, recipe_for, saved
from tests.support.sets import CLASSES, write_classes, write_set


@pytest.fixture
def made(tmp_path: Path) -> dict[str, Path]:
    model = classifier()
    (tmp_path / "r.toml").write_text(recipe_to_toml(recipe_for(model)))
    return {
        "model": saved(model, tmp_path / "m.onnx"),
        "recipe": tmp_path / "r.toml",
        "classes": write_classes(tmp_path / "c.txt"),
        "images": write_set(tmp_path / "set"),
        "out": tmp_path / "out",
    }


def evaluate(made: dict[str, Path], *more: str) -> int:
    return run_command(["evaluate", *(part for key, value in made.items() for part in (f"--{key}", str(value))), *more])


def test_evaluate_writes_its_files(made: dict[str, Path], capsys: pytest.CaptureFixture[str]) -> None:
    (made["images"] / "birch" / "cut.jpg").write_bytes(b"\xff\xd8\xff")
    (made["images"] / "=loose.png").write_bytes((made["images"] / "birch" / "0.png").read_bytes())
    assert evaluate(made, "--top", "2,1") == 0
    found = json.loads((made["out"] / "metrics.json").read_text())
    assert found["format"] == "mivrat-metrics/1"
    assert found["counts"] == {"listed": 14, "evaluated": 12, "unreadable": 1, "unlabelled": 1, "failed": 0, "ties": 0}
    assert set(found["top_k"]) == {"1", "2"}
    with open(made["out"] / "predictions.csv", newline="") as file:
        rows = list(csv.DictReader(file))
    assert list(rows[0]) == ["path", "label", "predicted", "confidence", "rank", "p:birch", "p:alder", "p:hazel"]
    assert len(rows) == 13
    assert next(r for r in rows if not r["label"])["path"] == "'=loose.png"
    right = [r for r in rows if r["label"] and r["label"] == r["predicted"]]
    assert found["top_k"]["1"]["value"] == len(right) / 12
    assert sum(found["confusion"][i][i] for i in range(3)) == len(right)
    for row in rows:
        p = [float(row[f"p:{name}"]) for name in CLASSES]
        assert sum(p) == pytest.approx(1)
        assert float(row["confidence"]) == max(p) == p[CLASSES.index(row["predicted"])]
        if row["label"]:
            assert int(row["rank"]) == 1 + sum(q > p[CLASSES.index(row["label"])] for q in p)
    with open(made["out"] / "mistakes.csv", newline="") as file:
        mistakes = list(csv.DictReader(file))
    assert len(mistakes) == 12 - len(right)
    assert [float(r["confidence"]) for r in mistakes] == sorted(
        (float(r["confidence"]) for r in mistakes), reverse=True
    )
    assert "cut.jpg" in (made["out"] / "not_evaluated.csv").read_text()
    shown = capsys.readouterr()
    assert "top-1 accuracy" in shown.out
    assert "not read: birch/cut.jpg" in shown.err


def test_requirements_decide_the_exit_code(made: dict[str, Path], capsys: pytest.CaptureFixture[str]) -> None:
    assert (
        evaluate(made, "--require", "top1 >= 0", "--require", "high(top1) <= 1", "--require", 'support["birch"] == 4')
        == 0
    )
    assert evaluate(made, "--require", "low(top1) > 0.999") == 1
    assert "DOES NOT HOLD: low(top1) > 0.999 (figure: 0." in capsys.readouterr().out
    assert evaluate(made, "--require", "low(macro_f1) >= 0") == 1
    assert "DOES NOT HOLD: low(macro_f1) >= 0 (figure: undefined)" in capsys.readouterr().out
    made["images"] = write_set(made["out"].parent / "more", per_class=20)
    assert evaluate(made, "--require", "high(ece) <= 1", "--require", "low(log_loss) >= 0") == 0
    for text, what in (
        ("top1", "not a requirement"),
        ("topp >= 1", "unknown figure"),
        ('recall["oak"] > 0', "not a class"),
        ('low(support["birch"]) > 1', "no interval"),
        ("__import__('os') > 1", "unknown figure"),
    ):
        with pytest.raises(InputError, match=what):
            evaluate(made, "--require", text)


def test_figures_by_group_and_with_another_threshold(
    made: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    files = sorted(write_set(tmp_path / "held out", per_class=20).rglob("*.png"))
    rows = [[str(f.relative_to(tmp_path)), f.parent.name, f"2031-0{1 + i % 3}-15"] for i, f in enumerate(files)]
    with (tmp_path / "table.csv").open("w", newline="") as file:
        csv.writer(file).writerows([["path", "label", "day"], *rows])
    made["images"] = tmp_path / "table.csv"
    assert evaluate(made, "--group", "day") == 0
    found = json.loads((made["out"] / "metrics.json").read_text())
    assert found["groups"]["column"] == "day"
    assert sorted(one["name"] for one in found["groups"]["by"]) == ["2031-01", "2031-02", "2031-03"]
    assert sum(one["right"] for one in found["groups"]["by"]) == found["confusion"][0][0] + sum(
        found["confusion"][k][k] for k in (1, 2)
    )
    assert found["intervals"]["method"] == "jackknife and score intervals"
    assert found["intervals"]["together"] is None
    assert found["scores"] == {"kind": "logits", "told_by": "guess"}
    alone = found["top_k"]["1"]
    calibration = found["calibration"]
    assert set(calibration["temperature"]) == {
        "value",
        "identifiable",
        "log_loss_before",
        "log_loss_after",
        "ece_before",
        "ece_after",
    }
    assert calibration["ece_if_calibrated"]["median"] <= calibration["ece_if_calibrated"]["high"]
    assert calibration["adaptive_ece"] is not None
    assert calibration["classwise_ece"] is not None
    with pytest.raises(InputError, match="no column 'site'"):
        evaluate(made, "--group", "site")
    # Which images belong together changes every interval, and what is required of them; groups change none.
    lines = [[*row, f"slide {i // 6}"] for i, row in enumerate(rows)]
    with (tmp_path / "slides.csv").open("w", newline="") as file:
        csv.writer(file).writerows([["path", "label", "day", "slide"], *lines])
    made["images"] = tmp_path / "slides.csv"
    capsys.readouterr()
    assert evaluate(made, "--together", "slide", "--require", "low(top1) >= 0.3") == 1
    told = capsys.readouterr().out
    assert "over 10 units of slide" in told
    found = json.loads((made["out"] / "metrics.json").read_text())
    assert (found["intervals"]["together"], found["intervals"]["units"]) == ("slide", 10)
    units = found["top_k"]["1"]
    assert units["value"] == alone["value"]
    assert units["low"] < alone["low"] < alone["high"] < units["high"]  # answers within a slide are all alike
    assert "low(top1) >= 0.3 (figure: " + f"{units['low']:.6g}" in told
    assert evaluate(made, "--together", "day") == 0
    assert "no interval: 3 units are too few" in capsys.readouterr().out
    with pytest.raises(InputError, match="no column 'site' that says which images are related"):
        evaluate(made, "--together", "site")
    with pytest.raises(InputError, match="is for two classes"):
        evaluate(made, "--threshold", "0.3")

    two = ["birch", "alder"]
    model = classifier(classes=2)
    binary = {
        "model": saved(model, tmp_path / "two.onnx"),
        "recipe": made["recipe"],
        "classes": write_classes(tmp_path / "two.txt", two),
        "images": write_set(tmp_path / "two set", classes=two),
        "out": tmp_path / "two out",
    }
    assert evaluate(binary, "--threshold", "0") == 0
    found = json.loads((binary["out"] / "metrics.json").read_text())
    assert found["confusion"] == [[0, 4], [0, 4]]
    assert evaluate(binary, "--threshold", "0", "--costs", "1,5") == 0
    costs = json.loads((binary["out"] / "metrics.json").read_text())["costs"]
    assert costs["mean_cost"] == 0.5  # half of the images are false alarms, none is missed
    assert costs["best_mean_cost"] <= 0.5
    assert evaluate(binary, "--threshold", "1") == 0
    assert json.loads((binary["out"] / "metrics.json").read_text())["top_k"]["1"]["value"] == 0.5


def test_a_study_takes_the_run_up_again(
    made: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert evaluate(made, "--study", str(tmp_path / "s.mivrat")) == 0
    first = (made["out"] / "predictions.csv").read_bytes()
    for path in made["images"].rglob("*.png"):
        path.write_bytes(b"gone")  # nothing is scored again, so nothing is read again
    assert evaluate(made, "--study", str(tmp_path / "s.mivrat")) == 0
    assert (made["out"] / "predictions.csv").read_bytes() == first
    write_classes(made["classes"], ["hazel", "alder", "birch"])
    with pytest.raises(InputError, match="another order"):
        evaluate(made, "--study", str(tmp_path / "s.mivrat"))
    assert "mivrat" not in capsys.readouterr().out


def test_more_than_fifty_classes_list_the_ten_highest(tmp_path: Path) -> None:
    names = [f"kind {i}" for i in range(60)]
    model = classifier(classes=60)
    (tmp_path / "r.toml").write_text(recipe_to_toml(recipe_for(model)))
    images = write_set(tmp_path / "set", 1, classes=names[:2])
    given = {
        "model": saved(model, tmp_path / "m.onnx"),
        "recipe": tmp_path / "r.toml",
        "classes": write_classes(tmp_path / "c.txt", names),
        "images": images,
        "out": tmp_path / "o",
    }
    assert evaluate(given) == 0
    with open(tmp_path / "o" / "predictions.csv", newline="") as file:
        rows = list(csv.DictReader(file))
    assert list(rows[0])[5:9] == ["top1", "p1", "top2", "p2"]
    assert list(rows[0])[-1] == "p10"
    assert rows[0]["top1"] == rows[0]["predicted"]
    assert [float(rows[0][f"p{i}"]) for i in range(1, 11)] == sorted(
        (float(rows[0][f"p{i}"]) for i in range(1, 11)), reverse=True
    )


def test_layers_and_heatmaps(made: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run_command(["layers", str(made["model"]), "--json"]) == 0
    layers = json.loads(capsys.readouterr().out)
    assert [layer["tensor"] for layer in layers if layer["default"]] == ["features"]
    assert next(layer for layer in layers if layer["tensor"] == "features") == {
        "tensor": "features",
        "op": "Relu",
        "shape": ["n", 8, 6, 6],
        "heatmap": True,
        "reason": None,
        "default": True,
        "plain": "activation (Relu)",
        "block": "block 1",
    }
    assert run_command(["layers", str(made["model"])]) == 0
    told = capsys.readouterr().out.splitlines()
    assert told[0] == "likely layers"
    assert told[1].split()[0] == "features"
    assert told[2] == "block 1"
    assert len([line for line in told if line.startswith("  ")]) == len(layers)
    pictures = [made["images"] / name / "1.png" for name in CLASSES]
    common = [
        "heatmap",
        "--model",
        str(made["model"]),
        "--recipe",
        str(made["recipe"]),
        "--classes",
        str(made["classes"]),
        "--out",
        str(tmp_path / "h"),
    ]
    assert (
        run_command(
            [
                *common,
                "--image",
                *map(str, pictures[:2]),
                "--image",
                str(pictures[2]),
                "--target",
                "alder:birch",
                "--method",
                "signed",
            ]
        )
        == 0
    )
    assert sorted(p.name for p in (tmp_path / "h").iterdir()) == [
        "1-2.npy",
        "1-2.png",
        "1-3.npy",
        "1-3.png",
        "1.npy",
        "1.png",
        "index.csv",
    ]
    with open(tmp_path / "h" / "index.csv", newline="", encoding="utf-8") as file:
        index = list(csv.DictReader(file))
    assert [line["overlay"] for line in index] == ["1.png", "1-2.png", "1-3.png"]
    assert {(line["target"], line["rather_than"], line["method"], line["layer"]) for line in index} == {
        ("alder", "birch", "signed", "features")
    }
    heat = np.load(tmp_path / "h" / "1.npy")
    assert (heat.dtype, heat.shape) == (np.float32, (6, 6))
    with Image.open(tmp_path / "h" / "1.png") as drawn, Image.open(pictures[0]) as given:
        assert drawn.size == given.size
    assert run_command([*common, "--image", str(pictures[0])]) == 0
    assert np.load(tmp_path / "h" / "1.npy").min() >= 0
    one = [*common, "--image", str(pictures[0])]
    parts = []
    for target in ("alder", "hazel"):
        assert run_command([*one, "--target", target]) == 0
        parts.append(np.load(tmp_path / "h" / "1.npy"))
    assert (
        run_command([*one, "--target", "alder", "--target", "hazel", "--legend", "--board", "svg", "--over", "edges"])
        == 0
    )
    peaks = [part / part.max() for part in parts]
    np.testing.assert_allclose(np.load(tmp_path / "h" / "1.npy"), (peaks[0] + peaks[1]) / 2, atol=1e-6)
    with Image.open(tmp_path / "h" / "1-legend.png") as legend, Image.open(tmp_path / "h" / "1.png") as drawn:
        assert legend.height > drawn.height
    drawing = ElementTree.parse(tmp_path / "h" / "1-board.svg").getroot()
    said = {text.text for text in drawing.iter("{http://www.w3.org/2000/svg}text")}
    assert {"alder", "hazel", "features"} <= said
    assert len(list(drawing.iter("{http://www.w3.org/2000/svg}image"))) == 2 + 1  # and the scale
    for seed, same in ((1, True), (2, False)):
        assert run_command([*one, "--method", "masks", "--seed", "1"]) == 0
        first = np.load(tmp_path / "h" / "1.npy")
        assert run_command([*one, "--method", "masks", "--seed", str(seed)]) == 0
        assert (np.load(tmp_path / "h" / "1.npy") == first).all() == same
    for more, what in (
        (["--layer", "nowhere"], "no layer"),
        (["--target", "oak"], "not a class"),
        (["--method", "magic"], "not a method"),
    ):
        with pytest.raises(InputError, match=what):
            run_command([*common, "--image", str(pictures[0]), *more])
    with pytest.raises(InputError, match="image file does not exist"):
        run_command([*common, "--image", "absent.png"])


def test_bad_input_is_one_line_and_exit_2(
    made: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    given = [part for key, value in made.items() for part in (f"--{key}", str(value))]
    cases = [
        ["evaluate", *given, "--classes", str(tmp_path / "no.txt")],
        ["evaluate", *given, "--images", str(tmp_path / "c.txt")],
        ["evaluate", "--out", "x"],
        ["layers", str(tmp_path / "c.txt")],
        ["open", "no.mivrat"],
    ]
    for case in cases:
        monkeypatch.setattr(sys, "argv", ["mivrat", *case])
        with pytest.raises(SystemExit) as stopped:
            main()
        assert stopped.value.code == 2
        shown = capsys.readouterr()
        assert shown.out == ""
        assert shown.err.count("\n") == 1, shown.err
        assert "Traceback" not in shown.err
    assert not made["out"].exists()


def test_headless_commands_load_no_interface_toolkit(made: dict[str, Path]) -> None:
    given = [part for key, value in made.items() for part in (f"--{key}", str(value))]
    program = f"import sys; from mivrat.cli import run_command; code = run_command({['evaluate', *given]!r}); sys.exit(code or any(m.startswith('PySide6') for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", program], check=False, capture_output=True).returncode == 0


def test_an_interrupted_run_keeps_what_is_done(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "mivrat",
        "evaluate",
        "--model",
        str(DATA / "grain-net-1.onnx"),
        "--recipe",
        str(DATA / "recipe.toml"),
        "--classes",
        str(DATA / "classes.txt"),
    ]
    command += [
        "--images",
        str(DATA / "spring-check.csv"),
        "--out",
        str(tmp_path / "out"),
        "--study",
        str(tmp_path / "s.mivrat"),
        "--batch",
        "1",
        "--threads",
        "1",
    ]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert process.stderr is not None
    process.stderr.readline()  # the first progress line: it runs
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "stopped after" in err
    assert not (tmp_path / "out" / "metrics.json").exists()
    done = len((tmp_path / "out" / "predictions.csv").read_text().splitlines()) - 1
    assert 0 <= done < 400
    began = time.monotonic()
    again = subprocess.run([*command[:-4], "--batch", "64"], capture_output=True, text=True, check=False)
    assert again.returncode == 0, again.stderr
    assert "evaluated 400" in again.stdout
    assert time.monotonic() - began < 60


def test_demonstration_without_a_display(tmp_path: Path) -> None:
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    found = subprocess.run(
        [sys.executable, "-m", "mivrat", "demo"],
        cwd=tmp_path,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert found.returncode == 0, found.stderr
    assert "no display" in found.stderr
    assert "plantain predicted as ragweed" in found.stdout
    assert len(list(tmp_path.rglob("metrics.json"))) == 4
    assert len(list((tmp_path / "mivrat-demonstration" / "evidence for ragweed").glob("*.png"))) == 6


def check(made: dict[str, Path], *more: str) -> int:
    options = {key: value for key, value in made.items() if key != "out"}
    return run_command(["check", *(part for key, value in options.items() for part in (f"--{key}", str(value))), *more])


def test_check_tells_what_does_not_match(
    made: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    training = write_set(tmp_path / "training", per_class=1)
    code = check(made, "--training", str(training), "--json", "--out", str(tmp_path / "checks.json"))
    shown = json.loads(capsys.readouterr().out)
    assert shown == json.loads((tmp_path / "checks.json").read_text())
    assert shown["format"] == "mivrat-checks/1"
    states = {one["name"]: one["state"] for one in shown["checks"]}
    assert states["one-class"] == "stop"  # with random weights, all twelve are called the same
    assert code == 1
    assert {states[name] for name in ("labels", "outputs", "readable", "duplicates", "changed")} == {"fine"}
    leaks = next(one for one in shown["checks"] if one["name"] == "training")
    assert (leaks["figures"]["exact"], leaks["images"]) == (1, ["birch/0.png"])  # the same seeded first picture
    assert check(made, "--quick") == 1
    assert "Readable files" not in capsys.readouterr().out
    assert check(made, "--only", "labels,readable") == 0
    assert capsys.readouterr().out.count("\n") == 2
    (made["images"] / "oak").mkdir()
    (made["images"] / "oak" / "a.png").write_bytes((made["images"] / "birch" / "0.png").read_bytes())
    study = tmp_path / "s.mivrat"
    assert check(made, "--only", "labels,duplicates", "--study", str(study)) == 1
    out = capsys.readouterr().out
    assert out.startswith("STOPS YOU     Labels")
    assert "not in the class list: oak." in out
    assert study.exists()
    write_classes(made["classes"], ["birch", "alder", "hazel", "oak"])
    assert check(made) == 1
    assert "gives 3 scores per image, the class list names 4" in capsys.readouterr().out
    with pytest.raises(SystemExit):
        check(made, "--only", "vibes")
    assert "unknown check 'vibes'" in capsys.readouterr().err


def test_tables_subsets_and_families(made: dict[str, Path], tmp_path: Path) -> None:
    assert evaluate(made) == 0
    first = json.loads((made["out"] / "metrics.json").read_text())
    made["model"] = (made["out"] / "predictions.csv").rename(tmp_path / "elsewhere.csv")
    families = tmp_path / "families.csv"
    families.write_text("class,family\nbirch,catkin\nalder,catkin\nhazel,catkin\n")
    assert evaluate(made, "--families", str(families)) == 0
    second = json.loads((made["out"] / "metrics.json").read_text())
    assert second.pop("family_accuracy")["value"] == 1.0
    assert second["confusion"] == first["confusion"]
    assert second["log_loss"] == pytest.approx(first["log_loss"])
    assert evaluate(made, "--per-class", "2", "--seed", "5") == 0
    few = json.loads((made["out"] / "metrics.json").read_text())
    assert [one["support"] for one in few["classes"]] == [2, 2, 2]


def test_every_command_has_its_function_and_says_what_it_does(capsys: pytest.CaptureFixture[str]) -> None:
    assert len(BY_NAME) == len(COMMANDS)
    for command in COMMANDS:
        assert callable(command.function)
        with pytest.raises(SystemExit):
            run_command([command.name, "--help"])
        printed = capsys.readouterr().out
        assert printed.startswith(f"usage: mivrat {command.name}")
        assert command.help
