"""Prediction services: figures against the file's, rate against a bare loop, memory, trouble and kills, requests for maps.

``python -m benchmarks.services [figures|rate|memory|trouble|kills|maps ...]``; without any, all of them.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import random
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import numpy as np
from PIL import Image

from mivrat.core.answers.remote_scoring import ask_images
from mivrat.core.heatmaps.maps import Target, maker_of
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service.agreement import agree, read_agreement
from mivrat.core.models.service.description import FORMAT, Description, description_from, write_description
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.pictures.decode import read_file
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.study.file import Study
from mivrat.core.study.runs import load_run
from mivrat.demo.study import DATA, demo_inputs
from mivrat.service.trouble import KINDS
from tests.support.networks import classifier, loaded

ROOT = Path(__file__).parents[1]
SERVER = ROOT / ".venv-real-server" / "bin" / "mlserver"
QUIET: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def stand_in(model: Path, recipe: Path, *more: str, port: int = 0) -> Iterator[str]:
    """The address of a stand-in in a process of its own."""
    command = [sys.executable, "-m", "mivrat", "serve", "--model", str(model), "--recipe", str(recipe), "--name", "net"]
    process = subprocess.Popen(
        [*command, "--port", str(port), *more], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    assert process.stdout is not None
    try:
        yield process.stdout.readline().strip()
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(20)
        process.stdout.close()


@contextmanager
def real_server(model: Path, folder: Path) -> Iterator[str]:
    """The address of the same model behind a server that is not ours."""
    folder.mkdir()
    ports = dict(zip(("http_port", "grpc_port", "metrics_port"), (free_port() for _ in range(3)), strict=True))
    settings = ports | {"debug": False, "host": "127.0.0.1", "parallel_workers": 0}
    (folder / "settings.json").write_text(json.dumps(settings))
    told = {"name": "net", "implementation": "served.OnnxFile", "parameters": {"uri": str(model), "version": "v1"}}
    (folder / "model-settings.json").write_text(json.dumps(told))
    environment = os.environ | {"PYTHONPATH": str(ROOT / "tools" / "real_server")}
    process = subprocess.Popen([SERVER, "start", folder], env=environment, cwd=folder, **QUIET)
    address = f"http://127.0.0.1:{ports['http_port']}/v2/models/net"
    try:
        for _ in range(240):
            try:
                if httpx.get(f"{address}/ready", timeout=2).status_code == 200:
                    break
            except httpx.TransportError:
                time.sleep(0.25)
        yield address
    finally:
        process.terminate()
        process.wait(20)


def described(address: str, **limits: object) -> Description:
    return description_from({"format": FORMAT, "url": address, "send": "open-inference", "limits": limits})


def service(address: str, folder: Path, classes: list[str], model: OnnxModel, **limits: object) -> ServiceModel:
    one = described(address, **limits)
    agree(one.host)
    return ServiceModel(write_description(one, folder), classes, model.recipe)


def digits(folder: Path, images: int = 600) -> tuple[OnnxModel, list[str], Path]:
    """A network for ten classes of small grey pictures, and such pictures."""
    folder.mkdir(exist_ok=True)
    model, classes = (
        loaded(classifier(classes=10, side=28, channels=1), folder / "digits.onnx", 10),
        [str(n) for n in range(10)],
    )
    rng = np.random.default_rng(0)
    for i in range(images):
        (folder / "set" / classes[i % 10]).mkdir(parents=True, exist_ok=True)
        picture = Image.fromarray(rng.integers(0, 256, (28, 28), dtype=np.uint8))
        picture.save(folder / "set" / classes[i % 10] / f"{i:06}.png")
    (folder / "recipe.toml").write_text(recipe_to_toml(model.recipe))
    (folder / "classes.txt").write_text("\n".join(classes) + "\n")
    return model, classes, folder / "set"


def evaluate(model: str | Path, images: Path, classes: Path, recipe: Path, out: Path, *more: str) -> list[str]:
    given = {"model": model, "images": images, "classes": classes, "recipe": recipe, "out": out}
    command = [
        sys.executable,
        "-m",
        "mivrat",
        "evaluate",
        *(part for k, v in given.items() for part in (f"--{k}", str(v))),
    ]
    return [*command, *(("--agree", read_agreement(str(model))) if str(model).startswith("http") else ()), *more]


def figures(folder: Path) -> None:
    """Every figure of metrics.json, through the stand-in and the real server, against the file's."""
    _, _, pictures = digits(folder / "digits")
    sets = {
        "demonstration, late summer": (
            DATA / "grain-net-1.onnx",
            DATA / "late-summer-field.csv",
            DATA / "classes.txt",
            DATA / "recipe.toml",
        ),
        "demonstration, spring": (
            DATA / "grain-net-1.onnx",
            DATA / "spring-check.csv",
            DATA / "classes.txt",
            DATA / "recipe.toml",
        ),
        "digits": (
            folder / "digits" / "digits.onnx",
            pictures,
            folder / "digits" / "classes.txt",
            folder / "digits" / "recipe.toml",
        ),
    }
    for number, (name, (model, images, classes, recipe)) in enumerate(sets.items()):
        subprocess.run(evaluate(model, images, classes, recipe, folder / "file"), check=True, **QUIET)
        wanted = (folder / "file" / "metrics.json").read_bytes()
        rows = (folder / "file" / "predictions.csv").read_bytes()
        told = []
        servers = {"stand-in": stand_in(model, recipe), "stand-in, JSON": stand_in(model, recipe, "--no-binary")}
        if SERVER.exists():
            servers["real server"] = real_server(model, folder / f"real{number}")
        for server, running in servers.items():
            with running as address:
                subprocess.run(evaluate(address, images, classes, recipe, folder / "through"), check=True, **QUIET)
            same = (folder / "through" / "metrics.json").read_bytes() == wanted
            same = same and (folder / "through" / "predictions.csv").read_bytes() == rows
            told.append(f"{server} {'the same bytes' if same else 'DIFFERENT'}")
        print(f"{name}: metrics.json and predictions.csv: {', '.join(told)}", flush=True)


async def _bare(url: str, bodies: list[tuple[bytes, dict[str, str]]], at_once: int) -> float:
    limits = httpx.Limits(max_connections=at_once, max_keepalive_connections=at_once)
    todo = list(range(len(bodies)))
    async with httpx.AsyncClient(limits=limits, timeout=60, trust_env=False) as client:

        async def work() -> None:
            while todo:
                content, headers = bodies[todo.pop()]
                answer = await client.post(url, content=content, headers=headers)
                answer.raise_for_status()

        began = time.perf_counter()
        await asyncio.gather(*(work() for _ in range(at_once)))
        return time.perf_counter() - began


def _body(asked: ServiceModel, file: Path) -> tuple[bytes, dict[str, str]]:
    return asked.speaks.request([asked.payload(read_file(file))])


def rate(folder: Path) -> None:
    """Images a second, files and all, against a bare loop of as many connections that sends bodies made before."""
    inputs = demo_inputs()
    images = inputs.sets["spring-check"]
    files = images.files() * 2
    for path in (folder / "many",):
        path.mkdir()
    for i, file in enumerate(files):  # contents of their own, so that none is known
        (folder / "many" / f"{i}.png").write_bytes(read_file(file).data + i.to_bytes(4, "big"))
    many = [folder / "many" / f"{i}.png" for i in range(len(files))]
    model = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, 8)
    for name, more, at_once in (
        ("as fast as it can", (), 4),
        ("20 ms an answer", ("--delay", "0.02"), 4),
        ("100 ms an answer", ("--delay", "0.1"), 16),
    ):
        with stand_in(DATA / "grain-net-1.onnx", DATA / "recipe.toml", *more) as address:
            asked = service(address, folder, inputs.classes, model, at_once=at_once)
            bodies = [asked.speaks.request([asked.payload(read_file(file))]) for file in many]
            ratios, fair, rates = [], [], []
            for _ in range(5):
                bare = asyncio.run(_bare(asked.speaks.url, bodies, at_once))
                began = time.perf_counter()
                with ThreadPoolExecutor(os.cpu_count()) as pool:
                    made = list(pool.map(partial(_body, asked), many))
                preparing = time.perf_counter() - began
                assert len(made) == len(bodies)
                began = time.perf_counter()
                done = sum(len(batch.scored) for batch in ask_images(many, range(len(many)), asked))
                ours = time.perf_counter() - began
                assert done == len(many)
                ratios.append(bare / ours)
                fair.append((bare + preparing) / ours)
                rates.append(done / ours)
        print(
            f"rate, {name}, {at_once} at once: {statistics.median(ratios):.2f} of a bare loop's (from {min(ratios):.2f} to "
            f"{max(ratios):.2f}; with reading and preparing the images before it {statistics.median(fair):.2f}), {statistics.median(rates):.0f} images/s",
            flush=True,
        )


def memory(folder: Path) -> None:
    """The most memory that an evaluation takes, of 2,000 and of 20,000 images."""
    digits(folder, 20_000)
    everything = sorted((folder / "set").rglob("*.png"))
    told = []
    with stand_in(folder / "digits.onnx", folder / "recipe.toml") as address:
        for number in (2_000, 20_000):
            table = folder / f"{number}.csv"
            table.write_text(
                "path,label\n" + "".join(f"{one},{one.parent.name}\n" for one in everything[:: 20_000 // number])
            )
            began = time.perf_counter()
            process = subprocess.Popen(
                evaluate(
                    address,
                    table,
                    folder / "classes.txt",
                    folder / "recipe.toml",
                    folder / "out",
                    "--study",
                    str(folder / f"{number}.mivrat"),
                ),
                **QUIET,
            )
            most = 0
            while process.poll() is None:
                most = max(most, _most_memory(process.pid))
                time.sleep(0.02)
            assert process.returncode == 0
            told.append(f"{number} images {most / 1024:.0f} MB ({number / (time.perf_counter() - began):.0f} images/s)")
    print(f"most memory of the whole process: {', '.join(told)}", flush=True)


def _most_memory(process: int) -> int:
    """The most kilobytes a process has held so far; 0 once it has ended."""
    try:
        lines = Path(f"/proc/{process}/status").read_text().splitlines()
    except OSError:
        return 0
    return next((int(line.split()[1]) for line in lines if line.startswith("VmHWM")), 0)


def content(path: Path, model: int = 1) -> str:
    """A digest of every answer a study keeps, and of their number."""
    with Study.open(path) as study:
        record = load_run(study, model)
        assert not len(record.answers.pending)
        parts = (
            record.answers.rows.tobytes()
            + record.answers.state.tobytes()
            + repr(sorted(record.answers.reasons.items())).encode()
        )
        return hashlib.sha256(
            parts + repr(study.rows("SELECT COUNT(*), COUNT(DISTINCT content) FROM answer")).encode()
        ).hexdigest()


def trouble(folder: Path) -> None:
    """A tenth of all answers failing at random, in every way there is: what is kept in the end. What was refused is asked for
    again by the same command, until nothing is."""
    ways = [kind for kind in KINDS if kind not in ("slow", "hang")]
    share = 0.1 / len(ways)
    model, recipe, classes = DATA / "grain-net-1.onnx", DATA / "recipe.toml", DATA / "classes.txt"
    for name in ("late-summer-field", "spring-check"):
        images = DATA / f"{name}.csv"
        out = folder / name
        subprocess.run(
            evaluate(model, images, classes, recipe, out / "file", "--study", str(out / "file.mivrat")),
            check=True,
            **QUIET,
        )
        wanted = (out / "file" / "metrics.json").read_bytes()
        for seed in range(3):
            more = [part for kind in ways for part in ("--trouble", f"{kind}:{share}")]
            with stand_in(model, recipe, *more, "--seed", str(seed)) as address:
                study = out / f"{seed}.mivrat"
                command = evaluate(address, images, classes, recipe, out / "through", "--study", str(study))
                runs, refused = 0, True
                while refused and runs < 20:
                    runs += 1
                    subprocess.run(command, check=True, **QUIET)
                    with Study.open(study) as opened:
                        refused = bool(opened.rows("SELECT 1 FROM answer WHERE state = 3"))
            same = (out / "through" / "metrics.json").read_bytes() == wanted and content(study) == content(
                out / "file.mivrat"
            )
            print(
                f"trouble ({', '.join(ways)}), {name}, seed {seed}: {'the same bytes' if same else 'DIFFERENT'} after {runs} runs",
                flush=True,
            )


def kills(folder: Path, wanted_kills: int = 50) -> None:
    """Runs killed at random moments, while a tenth of the answers fail, and taken up again."""
    rng, model, recipe = random.Random(0), DATA / "grain-net-1.onnx", DATA / "recipe.toml"
    images, classes = DATA / "late-summer-field.csv", DATA / "classes.txt"
    subprocess.run(
        evaluate(model, images, classes, recipe, folder / "f", "--study", str(folder / "file.mivrat")),
        check=True,
        **QUIET,
    )
    wanted = content(folder / "file.mivrat")
    killed = landed = finished = 0
    with stand_in(model, recipe, "--delay", "0.02", "--trouble", "gateway:0.05", "--trouble", "cut:0.05") as address:
        while killed < wanted_kills:
            study = folder / f"{finished}.mivrat"
            command = evaluate(address, images, classes, recipe, folder / "out", "--study", str(study))
            while killed < wanted_kills:
                process = subprocess.Popen(command, start_new_session=True, **QUIET)
                time.sleep(rng.uniform(1.0, 5.0))
                if process.poll() is not None:
                    break
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
                killed += 1
                if study.exists():
                    with Study.open(study) as opened:
                        kept = opened.rows("SELECT COUNT(*) FROM answer")[0][0]
                        landed += 0 < kept < 400
            subprocess.run(command, check=True, **QUIET)
            assert content(study) == wanted, "the answers differ from the file's"
            finished += 1
    print(
        f"{killed} kills over {finished} runs ({landed} with some, not all, answers kept): every study ended with the file's answers, bit for bit",
        flush=True,
    )


def maps(folder: Path) -> None:
    """Occlusion and random masks through the stand-in: requests, and the time over that of the bare requests."""
    inputs = demo_inputs()
    model = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, 8)
    files = inputs.sets["late-summer-field"].files()
    with stand_in(DATA / "grain-net-1.onnx", DATA / "recipe.toml") as address:
        for method, number in (("occlusion", 8), ("masks", 3)):
            asked, sent = service(address, folder, inputs.classes, model), []
            real = asked.ask
            bodies: list[tuple[bytes, dict[str, str]]] = []

            def watched(images: Any, real: Any = real, asked: Any = asked, bodies: Any = bodies) -> Any:
                bodies.append(asked.speaks.request(images))
                return real(images)

            asked.ask = watched  # type: ignore[method-assign]
            for file in files[:number]:
                maker_of(asked, "logits").maps(prepare_file(file, inputs.recipe)[None], [Target(0)], [], method)  # type: ignore[arg-type]
                sent.append(len(bodies))
            asked.ask = real  # type: ignore[method-assign]
            each = [b - a for a, b in zip([0, *sent], sent, strict=False)]
            ratios = []
            for k, file in enumerate(files[number : 2 * number]):
                began = time.perf_counter()
                maker_of(asked, "logits").maps(prepare_file(file, inputs.recipe)[None], [Target(0)], [], method)  # type: ignore[arg-type]
                ours = time.perf_counter() - began
                part = bodies[([0, *sent])[k] : sent[k]]
                ratios.append(ours / asyncio.run(_bare(asked.speaks.url, part, asked.at_once)))
            print(
                f"{method}: {min(each)} to {max(each)} requests an image, {statistics.median(ratios):.2f} × the bare requests' time",
                flush=True,
            )


PARTS = {"figures": figures, "rate": rate, "memory": memory, "trouble": trouble, "kills": kills, "maps": maps}


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        for what in ("XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
            os.environ[what] = str(Path(name) / what)
        for part in sys.argv[1:] or PARTS:
            folder = Path(name) / part
            folder.mkdir()
            PARTS[part](folder)


if __name__ == "__main__":
    main()
