"""A server of the open protocol that is not ours, from an environment of its own: tools/real_server.sh makes it."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.error import URLError
from urllib.request import urlopen

import numpy as np
import pytest

from mivrat.core.answers.answers import FAILED
from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.running.evaluation import Evaluation
from tests.support.networks import classifier, loaded
from tests.support.services import described, met
from tests.support.sets import write_set

ROOT = Path(__file__).parents[4]
SERVER = ROOT / ".venv-real-server" / "bin" / "mlserver"
DIGITS = [str(n) for n in range(10)]

pytestmark = pytest.mark.skipif(
    not SERVER.exists(), reason="the server is not installed: run tools/real_server.sh (needs Python 3.11 or 3.12)"
)


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, OnnxModel]]:
    """The server's address, and the model it serves: as ``bare``, telling nothing of it, and as ``told``."""
    folder = tmp_path_factory.mktemp("served")
    model = loaded(classifier(classes=10, side=28, channels=1), folder / "digits.onnx", 10)
    ports = [_free() for _ in range(3)]
    settings = dict(zip(("http_port", "grpc_port", "metrics_port"), ports, strict=True))
    (folder / "settings.json").write_text(
        json.dumps(settings | {"debug": False, "host": "127.0.0.1", "parallel_workers": 0})
    )
    image = {"name": "image", "datatype": "FP32", "shape": [-1, 1, 28, 28]}
    scores = {"name": "scores", "datatype": "FP32", "shape": [-1, 10]}
    for name, told in (("bare", {}), ("told", {"inputs": [image], "outputs": [scores]})):
        parameters = {"uri": str(folder / "digits.onnx"), "version": "v2"}
        settings_of_model = {"name": name, "implementation": "served.OnnxFile", "parameters": parameters, **told}
        (folder / name).mkdir()
        (folder / name / "model-settings.json").write_text(json.dumps(settings_of_model))
    environment = os.environ | {"PYTHONPATH": str(ROOT / "tools" / "real_server"), "HOME": str(folder)}
    with open(folder / "log", "wb") as log:
        process = subprocess.Popen([SERVER, "start", folder], env=environment, cwd=folder, stdout=log, stderr=log)
    root = f"http://127.0.0.1:{ports[0]}"
    try:
        for _ in range(240):
            try:
                if all(urlopen(f"{root}/v2/models/{name}/ready", timeout=2).status == 200 for name in ("bare", "told")):
                    break
            except (URLError, OSError):
                assert process.poll() is None, (folder / "log").read_text()
                time.sleep(0.25)
        else:
            raise AssertionError((folder / "log").read_text())
        yield root, model
    finally:
        process.terminate()
        process.wait(20)


def _free() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@pytest.mark.parametrize("name", ["bare", "told"])
def test_every_answer_is_the_files_to_the_last_bit(name: str, served: tuple[str, OnnxModel], tmp_path: Path) -> None:
    root, model = served
    images = read_image_set(write_set(tmp_path / "set", 4, side=28, classes=DIGITS), DIGITS)
    alone = Evaluation(model, images)
    asked = met(tmp_path, described(f"{root}/v2/models/{name}"), DIGITS, model.recipe)
    through = Evaluation(asked, images)
    for evaluation in (alone, through):
        for _ in evaluation.run(batch_size=1):
            pass
    np.testing.assert_array_equal(through.answers.rows, alone.answers.rows)
    own, its = alone.judging.judged().figures([1, 3]), through.judging.judged().figures([1, 3])
    assert repr(own) == repr(its)
    assert asked.version == "v2"
    assert asked.is_ready() is True
    assert bool(asked.told.inputs) is (name == "told")


def test_its_refusals_are_told_in_its_words(served: tuple[str, OnnxModel], tmp_path: Path) -> None:
    root, model = served
    with pytest.raises(InputError, match="does not list a model 'none'"):
        met(tmp_path, described(f"{root}/v2/models/none"), DIGITS, model.recipe)
    images = read_image_set(write_set(tmp_path / "set", 1, side=28, classes=DIGITS[:3]), DIGITS)
    colour = model.recipe.model_copy(update={"picture": model.recipe.picture.model_copy(update={"mode": "RGB"})})
    asked = met(tmp_path, described(f"{root}/v2/models/bare"), DIGITS, colour)  # it tells nothing of its input
    evaluation = Evaluation(asked, images)
    for _ in evaluation.run():
        pass
    assert evaluation.answers.state.tolist() == [FAILED] * 3
    assert "500" in evaluation.answers.reasons[0]
    assert asked.tally.failed == 3
