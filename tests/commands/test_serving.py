"""Commands on prediction services: a stand-in is served in a process of its own, and asked by each of them."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from mivrat import cli
from mivrat.core.checks.service_check import check_service
from mivrat.core.models.service.agreement import agreed_to
from mivrat.core.study.file import Study
from mivrat.service.stand_in import Manner, StandIn
from tests.support.networks import classifier, loaded
from tests.support.services import Said, described, met, network_with_images, said, saying
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A network with its recipe and class list, and 15 images; each needs none of the rest."""
    network_with_images(tmp_path)
    return tmp_path


@pytest.fixture
def served(folder: Path) -> Iterator[tuple[str, subprocess.Popen[str]]]:
    """The address that ``mivrat serve`` prints."""
    command = [sys.executable, "-m", "mivrat", "serve", "--model", "net.onnx", "--recipe", "recipe.toml", "--port", "0"]
    process = subprocess.Popen(
        [*command, "--trouble", "busy:7"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    try:
        yield process.stdout.readline().strip(), process
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(20)
        process.stdout.close()
        assert process.stderr is not None
        process.stderr.close()


def options(folder: Path, **more: object) -> list[str]:
    given = {"images": folder / "set", "classes": folder / "classes.txt", "recipe": folder / "recipe.toml", **more}
    return [part for name, value in given.items() for part in (f"--{name}", str(value))]


def test_every_command_takes_an_address(
    folder: Path, served: tuple[str, subprocess.Popen[str]], capfd: pytest.CaptureFixture[str]
) -> None:
    address, process = served
    place = address.partition("/v2")[0]
    evaluate = ["evaluate", "--model", address, *options(folder, out=folder / "a", study=folder / "s.mivrat")]
    assert cli._code_of(evaluate) == 2
    said_to = capfd.readouterr().err
    assert "15 images" in said_to
    assert f"--agree {place}" in said_to
    assert agreed_to() == {}
    assert cli._code_of([*evaluate, "--agree", address]) == 0
    assert cli._code_of(["evaluate", "--model", str(folder / "net.onnx"), *options(folder, out=folder / "b")]) == 0
    own, its = (json.loads((folder / name / "metrics.json").read_text()) for name in "ba")
    assert own == its
    assert (folder / "net.service.toml").is_file(), "the study finds it again"
    with Study.open(folder / "s.mivrat") as study:
        ((kind, path),) = study.rows("SELECT kind, path FROM model")
        assert (kind, path) == ("service", "net.service.toml")

    run = f"{folder / 'net.onnx'},{folder / 'recipe.toml'}"
    runs = ["--a", f"{address},{folder / 'recipe.toml'}", "--b", run, "--images", str(folder / "set")]
    assert cli._code_of(["compare", *runs, "--classes", str(folder / "classes.txt"), "--out", str(folder / "c")]) == 0
    assert json.loads((folder / "c" / "comparison.json").read_text())["apart"] == 0.0
    assert "they are the same model" in capfd.readouterr().out

    image = ["--image", str(folder / "set" / "birch" / "0.png"), "--classes", str(folder / "classes.txt")]
    heat = [*image, "--recipe", str(folder / "recipe.toml"), "--method", "occlusion", "--target", "birch"]
    for name, model in (("d", address), ("e", str(folder / "net.onnx"))):
        assert cli._code_of(["heatmap", "--model", model, *heat, "--out", str(folder / name)]) == 0
    np.testing.assert_allclose(np.load(folder / "d" / "0.npy"), np.load(folder / "e" / "0.npy"), atol=1e-6)

    for name, model in (("f", address), ("g", str(folder / "net.onnx"))):
        cover = ["cover", "--model", model, *options(folder, out=folder / name), "--region", "0,0,0.5,0.5"]
        assert cli._code_of(cover) == 0
    # But for the second control: a service's heat is not known without many answers more.
    by_service, by_file = (
        [line.split(",") for line in (folder / name / "cover.csv").read_text().splitlines()] for name in ("f", "g")
    )
    assert [line[:-2] for line in by_file] == [line[:-2] for line in by_service]
    assert all(by_file[1][-2:])
    assert not any(by_service[1][-2:])
    capfd.readouterr()

    assert cli._code_of(["check", "--model", address, *options(folder), "--only", "service,labels"]) == 0
    assert "to the last bit" in capfd.readouterr().out
    assert cli._code_of(["layers", address]) == 2
    assert "Layers and gradients need the ONNX model" in capfd.readouterr().err
    assert cli._code_of(["evaluate", "--model", "https://host", *options(folder, out=folder / "h")]) == 2
    assert "https://host/v2/models/NAME" in capfd.readouterr().err
    process.send_signal(signal.SIGINT)
    assert process.wait(20) == 0


def test_a_killed_run_goes_on_and_sends_next_to_nothing_twice(folder: Path) -> None:
    """Each kill may cost what was under way: nothing that was kept is asked for again."""
    model = loaded(classifier(side=16), folder / "net.onnx", 3)
    write_set(folder / "more", 40)
    with StandIn(model, "net", manner=Manner(delay=0.02)) as service:
        command = [sys.executable, "-m", "mivrat", "evaluate", "--model", service.address, "--agree", service.root]
        command += options(folder, images=folder / "more", out=folder / "out", study=folder / "s.mivrat")
        for number in range(2):
            process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            wanted = 40 * (number + 1)
            while len(service.images) < wanted and process.poll() is None:
                os.sched_yield()
            process.kill()
            process.wait(10)
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        again = len(service.images) - len(set(service.images))
    assert len(set(service.images)) == 120
    # The answers of 0.4 s, and what was under way, are lost with each.
    assert again <= 2 * 64
    with Study.open(folder / "s.mivrat") as study:
        assert study.rows("SELECT COUNT(*), COUNT(DISTINCT content) FROM answer WHERE state = 1") == [(120, 120)]


@pytest.mark.parametrize(
    ("how", "state", "words"),
    [
        ("moody", "stop", "differ by up to"),
        ("other", "stop", "another model by now"),
        ("batch", "stop", "other answers than alone"),
        ("gone", "stop", "gave no answer"),
        ("nameless", "look", "tells no version"),
    ],
)
def test_a_service_that_cannot_be_relied_on_is_found_out(how: str, state: str, words: str, folder: Path) -> None:
    from mivrat.core.checks.inputs import Inputs
    from mivrat.core.pictures.image_sets import read_image_set
    from mivrat.core.running.evaluation import Evaluation

    scored, calls = [False], [0]

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": [] if how == "nameless" else ["1"]})
        given, row = json.loads(body)["inputs"][0], [1.0, 2.0, 3.0]
        number = given["shape"][0]
        if scored[0]:
            calls[0] += 1
            if how == "gone":
                return said({"error": "away"}, 410)
            change = {"moody": calls[0] > 4, "other": 1, "batch": number > 1}.get(how, 0)
            row = [1.0 + change, 2.0, 3.0]
        scores = {"name": "y", "datatype": "FP32", "shape": [number, 3], "data": [row] * number}
        return said({"outputs": [scores]})

    with saying(say) as root:
        model = met(
            folder,
            described(f"{root}/v2/models/net"),
            CLASSES,
            loaded(classifier(side=16), folder / "n.onnx", 3).recipe,
        )
        images = read_image_set(folder / "set", CLASSES)
        evaluation = Evaluation(model, images)
        list(evaluation.run())
        scored[0] = True
        found = check_service(Inputs(CLASSES, images, judged=evaluation.judging.judged(), remote=model))
    assert found.state == state
    assert words in found.sentence
