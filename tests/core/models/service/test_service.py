"""Services asked for real, over loopback: the same figures as the file's, trouble got over or told of, keys told to nobody."""

from __future__ import annotations

import http.client
import json
import logging
import threading
import time
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from mivrat import cli
from mivrat.core.answers.answers import FAILED, PENDING, SCORED, UNREADABLE
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.base.log import begin_logging, end_logging
from mivrat.core.heatmaps.maps import Target, maker_of
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service.agreement import agreed_to, withdraw
from mivrat.core.models.service.description import write_description
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Recipe, parse_recipe, recipe_to_toml
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.service.stand_in import Manner, StandIn
from mivrat.service.trouble import KINDS, Trouble, parse_trouble
from tests.support.networks import classifier, loaded
from tests.support.services import Said, described, met, said, saying
from tests.support.sets import CLASSES, write_classes, write_set

KEY = "s3cr3t/key+of=ours"


@pytest.fixture
def images(tmp_path: Path) -> ImageSet:
    """Three classes of five pictures; one is unreadable, one stands there twice."""
    root = write_set(tmp_path / "set", 5)
    (root / "birch" / "1.png").write_bytes(b"no picture")
    (root / "alder" / "9.png").write_bytes((root / "alder" / "0.png").read_bytes())
    return read_image_set(root, CLASSES)


def finished(model: Any, images: ImageSet, study: Study | None = None) -> Evaluation:
    evaluation = Evaluation(model, images, study)
    for _ in evaluation.run(batch_size=1):
        pass
    return evaluation


def network(tmp_path: Path, **how: Any) -> OnnxModel:
    return loaded(classifier(side=16, **how), tmp_path / "net.onnx", 3)


@pytest.mark.parametrize(
    ("how", "manner", "entries"),
    [
        ({}, {}, {}),
        ({}, {"binary": False}, {}),
        ({}, {}, {"limits": {"at_once": 1}}),
        ({}, {"told": False}, {}),
        ({"dtype": "float16"}, {}, {}),
        ({"dtype": "float16"}, {"binary": False}, {}),
        ({"dtype": "uint8", "order": "NHWC"}, {}, {}),
        ({"dtype": "uint8"}, {"binary": False}, {}),
        ({}, {"pictures": True}, {}),
        ({}, {"pictures": True, "binary": False}, {"encoding": "original"}),
        ({}, {}, {"send": "json", "response": {"scores": "/scores"}, "encoding": "tensor"}),
        ({}, {}, {"send": "json", "response": {"pairs": "/classes", "label": "/name"}, "encoding": "png"}),
        ({}, {}, {"send": "multipart", "image": "image", "response": {"scores": "/scores"}, "encoding": "original"}),
        ({}, {}, {"send": "body", "response": {"scores": "/scores"}, "encoding": "png"}),
    ],
)
def test_a_service_answers_as_its_file_does_however_it_is_asked(
    how: dict[str, Any], manner: dict[str, Any], entries: dict[str, Any], images: ImageSet, tmp_path: Path
) -> None:
    model = network(tmp_path, **how)
    alone = finished(model, images).answers
    with StandIn(model, "net", ["Hazel", "birch", "alder"], Manner(**manner)) as service:
        if "pairs" in entries.get("response", {}):  # matched by name, in whatever order they come
            service.classes = list(CLASSES)
        url = service.address if "send" not in entries else f"{service.root}/score"
        asked = met(tmp_path, described(url, **entries), CLASSES, model.recipe)
        found = finished(asked, images).answers
        assert Counter(service.images) == Counter(set(service.images)), "something was sent twice"
        assert len(service.images) == 14
    assert found.state.tolist() == alone.state.tolist()
    assert found.state.tolist().count(UNREADABLE) == 1
    np.testing.assert_array_equal(found.rows, alone.rows)


def test_several_images_in_one_request_and_one_that_is_refused_among_them(images: ImageSet, tmp_path: Path) -> None:
    model = network(tmp_path)
    with StandIn(model, "net", manner=Manner()) as service:
        found = finished(
            met(tmp_path, described(service.address, limits={"per_request": 4}), CLASSES, model.recipe), images
        )
        assert service.trouble.requests == 4
    np.testing.assert_allclose(found.answers.rows, finished(model, images).answers.rows, rtol=1e-5)

    black = np.zeros((3, 16, 16), np.float32)

    def picky(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]}) if "models" in path else said({"extensions": []})
        given = json.loads(body)["inputs"][0]
        batch = np.asarray(given["data"], np.float32).reshape(given["shape"])
        if any((one == black).all() for one in batch):
            return said({"error": "too dark"}, 422)
        rows = [[1.0, 2.0, 3.0]] * len(batch)
        return said({"outputs": [{"name": "y", "datatype": "FP32", "shape": [len(batch), 3], "data": rows}]})

    Image.new("RGB", (16, 16)).save(tmp_path / "set" / "hazel" / "0.png")
    with saying(picky) as root:
        asked = met(tmp_path, described(f"{root}/v2/models/net", limits={"per_request": 5}), CLASSES, model.recipe)
        answers = finished(asked, images).answers
    dark = next(i for i, item in enumerate(images.items) if item.path.endswith("hazel/0.png"))
    assert answers.state[dark] == FAILED
    assert "too dark" in answers.reasons[dark]
    assert (answers.state == SCORED).sum() == 14


def test_trouble_of_every_kind_changes_no_figure(images: ImageSet, tmp_path: Path) -> None:
    model = network(tmp_path)
    kinds = [kind for kind in KINDS if kind not in ("refuse", "slow", "hang")]
    troubles = (*(Trouble(kind, share=0.04) for kind in kinds), Trouble("hang", every=9))
    with StandIn(model, "net", manner=Manner(troubles=troubles, seed=3)) as service:
        asked = met(tmp_path, described(service.address, limits={"timeout": 0.4}), CLASSES, model.recipe)
        asked.client.patience = asked.client.patience.__class__(tries=30, first=0.01, longest=0.02, bad_tries=30)
        with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
            found = finished(asked, images, study)
            (kept,) = study.rows("SELECT COUNT(*), COUNT(DISTINCT content) FROM answer")[0:1]
    assert asked.tally.again > 3
    assert kept == (15, 15)  # one of them unreadable, the copy kept once
    np.testing.assert_array_equal(found.answers.rows, finished(model, images).answers.rows)


@pytest.mark.parametrize("status", [400, 401, 403, 404, 413, 422, 500])
def test_a_clear_refusal_is_not_repeated_and_its_words_are_kept(status: int, images: ImageSet, tmp_path: Path) -> None:
    model, seen = network(tmp_path), Counter[bytes]()
    refused: list[bytes] = []

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]})
        seen[body] += 1
        if not refused and len(seen) == 2:  # of the first one there is a copy
            refused.append(body)
        if refused and body == refused[0]:
            return said({"detail": "not this one"}, status)
        return said({"outputs": [{"name": "y", "datatype": "FP64", "shape": [1, 3], "data": [0.5, 1.5, -1]}]})

    with saying(say) as root, Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        asked = met(tmp_path, described(f"{root}/v2/models/net", limits={"at_once": 1}), CLASSES, model.recipe)
        answers = finished(asked, images, study).answers
        (failed,) = np.flatnonzero(answers.state == FAILED)
        assert answers.reasons[int(failed)] == f"the service refused it: {status} not this one"
        assert set(seen.values()) == {1}
        refused[0] = b"no more"  # another time it is asked for again, and nothing else is
        again = finished(asked, images, study).answers
        assert (again.state == SCORED).sum() == 15
        assert sorted(seen.values()) == [1] * 13 + [2]


SCORES = {"name": "y", "datatype": "FP32", "shape": [1, 3], "data": [1, 2, 3]}


@pytest.mark.parametrize(
    ("send", "answer", "words"),
    [
        ("open-inference", b'{"outputs": [', "no JSON"),
        ("open-inference", b"[" * 100_000, "no JSON"),
        ("open-inference", b"[1]", "no JSON object"),
        ("open-inference", {"outputs": []}, "just one output with 3 scores"),
        ("open-inference", {"outputs": [SCORES | {"shape": [1, 2], "data": [1, 2]}]}, "3 each are needed"),
        ("open-inference", {"outputs": [SCORES | {"shape": [2, 3], "data": [1] * 6}]}, "for 1 image"),
        ("open-inference", {"outputs": [SCORES | {"data": [1, 2]}]}, "2 scores where its shape says 3"),
        ("open-inference", {"outputs": [SCORES | {"data": [1, float("nan"), 3]}]}, "not a finite number"),
        ("open-inference", {"outputs": [SCORES | {"data": [1, 1e300, 3]}]}, "not a finite number"),
        ("open-inference", {"outputs": [SCORES | {"data": ["a", 2, 3]}]}, "not numbers"),
        ("open-inference", {"outputs": [SCORES | {"datatype": "BYTES"}]}, "of the type 'BYTES'"),
        ("open-inference", {"outputs": [SCORES | {"parameters": {"binary_data_size": 12}, "data": None}]}, "too early"),
        ("json", {"scores": [1, 2]}, "2 scores; 3 are needed"),
        ("json", {"scores": [1, 2, None]}, "no number"),
        ("json", {"other": 1}, "'/scores' leads nowhere"),
        (
            "pairs",
            [{"label": "birch", "score": 1}, {"label": "oak", "score": 1}],
            "'oak', which is not in the class list",
        ),
        ("pairs", [{"label": "birch", "score": 1}, {"label": "Birch", "score": 1}], "two scores for 'birch'"),
        ("pairs", [{"label": "birch", "score": 1}], "scores for 1 of 3 classes; 'alder' has none"),
    ],
)
def test_an_answer_that_is_none_is_told_of(
    send: str, answer: Any, words: str, images: ImageSet, tmp_path: Path
) -> None:
    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]})
        return (200, {}, answer) if isinstance(answer, bytes) else said(answer)

    with saying(say) as root:
        entries: dict[str, Any] = {"send": "json", "response": {"scores": "/scores"}}
        if send == "pairs":
            entries["response"] = {"pairs": ""}
        one = described(f"{root}/v2/models/net", **({} if send == "open-inference" else entries))
        asked = met(tmp_path, one, CLASSES, network(tmp_path).recipe)
        with pytest.raises(InputError, match="came to nothing") as caught:
            finished(asked, images)
    assert words in caught.value.line()


def test_of_several_outputs_the_one_named_or_the_only_one_that_fits_is_read(images: ImageSet, tmp_path: Path) -> None:
    recipe = network(tmp_path).recipe
    features = {"name": "features", "datatype": "FP32", "shape": [1, 5], "data": [9] * 5}
    other = SCORES | {"name": "other", "data": [3, 2, 1]}

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"], "outputs": []})
        return said({"outputs": [features, SCORES] if "other" not in body.decode() else [features, SCORES, other]})

    with saying(say) as root:
        asked = met(tmp_path, described(f"{root}/v2/models/net"), CLASSES, recipe)
        assert finished(asked, images).answers.rows[0].tolist() == [1, 2, 3]
        named = recipe.model_copy(update={"tensor": recipe.tensor.model_copy(update={"output": "other"})})
        asked = met(tmp_path, described(f"{root}/v2/models/net"), CLASSES, named)
        assert finished(asked, images).answers.rows[0].tolist() == [3, 2, 1]


def test_nothing_leaves_before_it_is_agreed_to_not_even_the_key(
    images: ImageSet, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("MIVRAT_SERVICE_KEY", KEY)
    heard: list[tuple[str, str]] = []

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        heard.append((method, str(headers)))
        return said({"name": "net", "versions": ["1"]})

    with saying(say) as root:
        path = write_description(described(f"{root}/v2/models/net", limits={"per_second": 5}), tmp_path)
        with pytest.raises(NotAgreed) as caught:
            finished(ServiceModel(path, CLASSES, network(tmp_path).recipe), images)
        for part in ("16 images", root.removeprefix("http://"), "as the numbers", "4 s", "5 requests a second"):
            assert part in caught.value.question
        assert {method for method, _ in heard} == {"GET"}
        heard.clear()
        with_key = write_description(described(f"{root}/v2/models/net", key={}), tmp_path)
        with pytest.raises(NotAgreed, match="MIVRAT_SERVICE_KEY"):
            ServiceModel(with_key, CLASSES)
        assert heard == []
        assert agreed_to() == {}


def test_the_key_stands_nowhere(
    images: ImageSet,
    tmp_path: Path,
    own_folders: Path,
    monkeypatch: pytest.MonkeyPatch,
    capfd: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.setenv("MIVRAT_SERVICE_KEY", f" {KEY}\n")
    model, out = network(tmp_path), tmp_path / "out"
    recipe = tmp_path / "recipe.toml"
    recipe.write_text(recipe_to_toml(model.recipe))
    begin_logging()
    logging.getLogger().setLevel(logging.DEBUG)
    try:
        with StandIn(model, "net", manner=Manner(key=f"Bearer {KEY}", troubles=(Trouble("json", every=3),))) as service:
            path = write_description(described(service.address, key={"scheme": "Bearer"}), tmp_path)
            arguments = [
                "evaluate",
                "--model",
                str(path),
                "--images",
                str(images.root),
                "--classes",
                str(write_classes(tmp_path / "c.txt")),
            ]
            arguments += [
                "--recipe",
                str(recipe),
                "--out",
                str(out),
                "--study",
                str(tmp_path / "s.mivrat"),
                "--agree",
                f"{service.root} Authorization MIVRAT_SERVICE_KEY",
            ]
            assert cli._code_of(arguments) == 0
            report = ["report", str(tmp_path / "s.mivrat"), "--out", str(out / "r.html"), "--out", str(out / "card.md")]
            assert cli._code_of(report) == 0
            assert "Service description" in (out / "card.md").read_text()
            tried = ServiceModel(path, CLASSES, model.recipe).try_one(_file(images, 0))
            assert "Authorization: Bearer •••" in tried.request
            # A server that repeats what it got: the wrong key, this time.
            monkeypatch.setenv("MIVRAT_SERVICE_KEY", f"{KEY}-old")
            assert cli._code_of([*arguments, "--study", str(tmp_path / "t.mivrat")]) == 2
    finally:
        logging.getLogger().setLevel(logging.WARNING)
        end_logging()
    shown = capfd.readouterr()
    assert "401" in shown.err
    assert KEY not in shown.out + shown.err + str(tried)
    for file in [*tmp_path.rglob("*"), *own_folders.rglob("*")]:
        assert not file.is_file() or KEY.encode() not in file.read_bytes(), file


def _file(images: ImageSet, at: int) -> Any:
    from mivrat.core.pictures.decode import read_file

    return read_file(images.file(at))


def test_other_hosts_are_not_followed_to_and_this_one_is(images: ImageSet, tmp_path: Path) -> None:
    model, heard = network(tmp_path), list[str]()

    def elsewhere(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        heard.append(path)
        return said({})

    with saying(elsewhere) as other, StandIn(model, "net"):

        def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
            if method == "GET":
                return said({"name": "net", "versions": ["1"]})
            if path.endswith("/infer"):
                return 307, {"Location": f"{target[0]}/v2/models/net/moved"}, b""
            return said({"outputs": [SCORES]})

        with saying(say) as root:
            target = [other]
            asked = met(tmp_path, described(f"{root}/v2/models/net"), CLASSES, model.recipe)
            with pytest.raises(InputError, match="another host"):
                finished(asked, images)
            assert heard == []
            target = [""]  # on the same host
            assert (finished(asked, images).answers.state == SCORED).sum() == 15


def test_a_certificate_nobody_vouches_for_is_refused(tmp_path: Path) -> None:
    import ssl
    from http.server import BaseHTTPRequestHandler, HTTPServer

    x509 = pytest.importorskip("cryptography.x509")
    from datetime import datetime, timedelta

    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    made = made.serial_number(1).not_valid_before(datetime(2020, 1, 1)).not_valid_after(datetime.now() + timedelta(1))
    pem = made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
    form = (serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (tmp_path / "both.pem").write_bytes(pem + key.private_bytes(*form))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "both.pem")
    server = HTTPServer(("127.0.0.1", 0), BaseHTTPRequestHandler)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    server.handle_error = lambda *_: None  # type: ignore[method-assign]
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    try:
        with pytest.raises(InputError, match="who it says it is"):
            met(tmp_path, described(f"https://localhost:{server.server_address[1]}/v2/models/net"), CLASSES)
    finally:
        server.shutdown()
        server.server_close()


def test_retry_after_is_waited_for_and_too_long_a_rest_ends_the_run(images: ImageSet, tmp_path: Path) -> None:
    times, rest = list[float](), ["1"]

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]})
        times.append(time.monotonic())
        return said({"error": "later"}, 429, Retry_After=rest[0]) if len(times) == 1 else said({"outputs": [SCORES]})

    with saying(say) as root:
        one = described(f"{root}/v2/models/net", limits={"at_once": 1})
        finished(met(tmp_path, one, CLASSES, network(tmp_path).recipe), images)
        assert times[1] - times[0] >= 1
        times.clear()
        rest[0] = "Fri, 01 Jan 2100 00:00:00 GMT"
        with pytest.raises(InputError, match="left alone for"):
            finished(met(tmp_path, one, CLASSES, network(tmp_path).recipe), images)


def test_a_version_that_changes_ends_the_run_and_another_one_does_not_go_on_with_it(
    images: ImageSet, tmp_path: Path
) -> None:
    model = network(tmp_path)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        manner = Manner(told=False, new_version_after=6)  # the answers alone tell the version
        with StandIn(model, "net", manner=manner) as service:
            port = int(service.root.rpartition(":")[2])
            asked = met(tmp_path, described(service.address, limits={"at_once": 1}), CLASSES, model.recipe)
            evaluation = Evaluation(asked, images, study)
            with pytest.raises(InputError, match="version '1-next'"):
                list(evaluation.run())
            assert (evaluation.answers.state == SCORED).sum() in (6, 7)  # a copy may be among them
        with StandIn(model, "net", manner=Manner("1-next", told=False), port=port) as service:
            again = met(tmp_path, described(service.address, limits={"at_once": 1}), CLASSES, model.recipe)
            with pytest.raises(InputError, match="version '1-next'"):
                list(Evaluation(again, images, study).run())
            assert study.rows("SELECT COUNT(*) FROM answer WHERE state = 1")[0][0] in (6, 7)
        with StandIn(model, "net", manner=Manner("2"), port=port) as service:
            other = met(tmp_path, described(service.address), CLASSES, model.recipe)
            assert other.content != again.content
            assert (finished(other, images, study).answers.state == SCORED).sum() == 15


def test_several_versions_are_asked_about(tmp_path: Path) -> None:
    with saying(lambda *_: said({"name": "net", "versions": ["1", "2"]})) as root:
        with pytest.raises(InputError, match="versions/2"):
            met(tmp_path, described(f"{root}/v2/models/net"), CLASSES)
        assert met(tmp_path, described(f"{root}/v2/models/net/versions/2"), CLASSES).version == "2"


def test_limits_are_kept_to(images: ImageSet, tmp_path: Path) -> None:
    now, most, times, lock = [0], [0], list[float](), threading.Lock()

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]})
        with lock:
            times.append(time.monotonic())
            now[0] += 1
            most[0] = max(most[0], now[0])
            wait_until = time.monotonic() + 2
        while most[0] < 3 and time.monotonic() < wait_until:  # however slowly the others come on a busy machine
            time.sleep(0.005)
        time.sleep(0.03)
        with lock:
            now[0] -= 1
        return said({"outputs": [SCORES]})

    with saying(say) as root:
        recipe = network(tmp_path).recipe
        finished(met(tmp_path, described(f"{root}/v2/models/net", limits={"at_once": 3}), CLASSES, recipe), images)
        assert most[0] == 3
        times.clear()
        limits = {"at_once": 8, "per_second": 40}
        finished(met(tmp_path, described(f"{root}/v2/models/net", limits=limits), CLASSES, recipe), images)
        assert (times[-1] - times[0]) >= (len(times) - 1) / 40 - 0.05


def test_a_stop_calls_off_what_hangs_and_what_was_answered_is_kept(images: ImageSet, tmp_path: Path) -> None:
    model = network(tmp_path)
    manner = Manner(troubles=(Trouble("hang", every=5),))
    with StandIn(model, "net", manner=manner) as service, Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        asked = met(tmp_path, described(service.address, limits={"at_once": 1}), CLASSES, model.recipe)
        stop, evaluation, stopped = StopSignal(), Evaluation(asked, images, study), list[float]()

        def stop_at_the_fifth() -> None:
            while service.trouble.requests < 5:
                time.sleep(0.02)
            stopped.append(time.monotonic())
            stop.stop()

        threading.Thread(target=stop_at_the_fifth, daemon=True).start()
        with stopped_by(stop):
            for _ in evaluation.run():
                pass
        assert time.monotonic() - stopped[0] < 3
        assert study.rows("SELECT COUNT(*) FROM answer WHERE state = 1")[0][0] == 4
        assert (evaluation.answers.state == PENDING).sum() >= 8


def test_what_gets_no_answer_waits_for_another_time(images: ImageSet, tmp_path: Path) -> None:
    model, down = network(tmp_path), [False]

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        if method == "GET":
            return said({"name": "net", "versions": ["1"]})
        calls.append(body)
        return said({}, 503) if down[0] and len(calls) > 5 else said({"outputs": [SCORES]})

    calls: list[bytes] = []
    with saying(say) as root, Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        asked = met(tmp_path, described(f"{root}/v2/models/net", limits={"at_once": 2}), CLASSES, model.recipe)
        down[0] = True
        with pytest.raises(InputError, match=r"images got no answer|came to nothing") as caught:
            finished(asked, images, study)
        assert "go on" in caught.value.hint
        done = set(calls[:5])
        down[0] = False
        calls.clear()
        answers = finished(asked, images, study).answers
        assert (answers.state == SCORED).sum() == 15
        assert not done & set(calls)


@pytest.mark.parametrize("form", ["tensor", "png"])
def test_occlusion_and_masks_need_answers_alone_and_send_nothing_twice(
    form: str, images: ImageSet, tmp_path: Path
) -> None:
    dtype, order = ("uint8", "NHWC") if form == "png" else ("float32", "NCHW")
    model = network(tmp_path, dtype=dtype, order=order)
    tensor = prepare_file(images.file(0), model.recipe)
    with StandIn(model, "net", manner=Manner(pictures=form == "png")) as service:
        for method, together in (("occlusion", 1),) if form == "png" else (("occlusion", 1), ("masks", 16)):
            limits = {"at_once": 8, "per_request": together}
            asked = met(tmp_path, described(service.address, limits=limits), CLASSES, model.recipe)
            maker, own = maker_of(asked, "logits"), maker_of(model, "logits")
            sent, had = service.trouble.requests, len(service.images)
            batch = np.stack([tensor, tensor])
            maps = maker.maps(batch, [Target(0), Target(1, 2)], [], method)[0]  # type: ignore[arg-type]
            expected = own.maps(batch, [Target(0), Target(1, 2)], [], method)[0]  # type: ignore[arg-type]
            np.testing.assert_allclose(maps, expected, atol=1e-6)
            assert len(service.images) - had == len(set(service.images[had:]))
            assert service.trouble.requests - sent <= -(-len(service.images[had:]) // together) + 40
            sent = service.trouble.requests
            maker.maps(tensor[None], [Target(2)], [], method)  # type: ignore[arg-type]
            assert service.trouble.requests == sent
        with pytest.raises(InputError, match="Layers and gradients need the ONNX model"):
            maker.maps(tensor[None], [Target(0)], [], "gradient")


def test_what_does_not_go_together_is_said_when_a_service_is_met(tmp_path: Path) -> None:
    model = network(tmp_path)
    with StandIn(model, "net") as service:
        with pytest.raises(InputError, match="class list names 4"):
            met(tmp_path, described(service.address), [*CLASSES, "oak"])
        with pytest.raises(InputError, match="does not list a model 'other'"):
            met(tmp_path, described(f"{service.root}/v2/models/other"), CLASSES)
        with pytest.raises(InputError, match="takes float32, the recipe makes float16"):
            met(
                tmp_path,
                described(service.address),
                CLASSES,
                parse_recipe('format = "mivrat-recipe/1"\n[tensor]\ndtype = "float16"'),
            )
        with pytest.raises(InputError, match="encoding"):
            met(tmp_path, described(service.address, encoding="png"), CLASSES)
        root = service.root
        asked = met(tmp_path, described(service.address), CLASSES, model.recipe)
        assert asked.is_ready() is True
        assert asked.misfit((3, 20, 16)) == "is 3 × 20 × 16 once prepared; the service takes 3 × 16 × 16"
    with pytest.raises(InputError, match="the server does not answer"):
        met(tmp_path, described(f"{root}/v2/models/net"), CLASSES)
    withdraw(root)
    assert agreed_to() == {}


def test_a_recipe_for_pictures_keeps_what_can_be_kept(images: ImageSet, tmp_path: Path) -> None:
    model = network(tmp_path, dtype="uint8", order="NHWC")
    with StandIn(model, "net", manner=Manner(pictures=True)) as service:
        given = Recipe.model_validate(
            {"crop": {"size": (8, 8)}, "picture": {"mode": "BGR"}, "values": {"mean": [0.4, 0.5, 0.6]}}
        )
        asked = met(tmp_path, described(service.address), CLASSES, given)
        assert asked.recipe.crop == given.crop
        assert (asked.recipe.tensor.order, asked.recipe.tensor.dtype, asked.recipe.picture.mode) == (
            "NHWC",
            "uint8",
            "RGB",
        )
        assert asked.remarks
        assert prepare_file(images.file(0), asked.recipe).shape == (8, 8, 3)


def test_trouble_is_read_or_told_of() -> None:
    assert parse_trouble("busy:10") == Trouble("busy", every=10)
    assert parse_trouble("cut:0.25") == Trouble("cut", share=0.25)
    for text in ("busy", "busy:0", "busy:1.5", "fire:3", "busy:x", ""):
        with pytest.raises(InputError, match="is not a kind of trouble"):
            parse_trouble(text)


@pytest.mark.parametrize(
    ("told", "words"),
    [
        (
            {"inputs": [{"name": "image", "datatype": "FP32", "shape": [-1, 3, 60_000, 60_000]}]},
            "longer than 16384 on a side",
        ),
        ({"inputs": [{"name": "image", "datatype": ["FP32"], "shape": [-1, 3, 16, 16]}]}, "Mivrat sends"),
        ({"inputs": [{"name": ["a"], "datatype": "FP32", "shape": [-1, 3, 10**30, True]}], "versions": {"a": 1}}, ""),
        ({"versions": 5, "inputs": 7, "outputs": "x", "name": ["net"]}, ""),
    ],
)
def test_what_a_server_tells_in_another_kind_is_a_sentence_at_most(
    told: dict[str, Any], words: str, tmp_path: Path
) -> None:
    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        return said({"extensions": 5} if path.endswith("/v2") else {"name": "net", **told})

    recipe = network(tmp_path).recipe
    with saying(say) as root:
        if words:
            with pytest.raises(InputError, match=words):
                met(tmp_path, described(f"{root}/v2/models/net"), CLASSES)
        else:
            assert met(tmp_path, described(f"{root}/v2/models/net"), CLASSES, recipe).told.version == ""


def test_the_stand_in_answers_odd_requests_with_what_is_wrong(tmp_path: Path) -> None:
    given = {"name": "image", "datatype": "FP32", "shape": [1, 3, 16, 16], "data": [0.0] * 768}
    odd = [
        {"inputs": [given], "parameters": [1]},
        {"inputs": [given], "parameters": "binary"},
        {"inputs": [given | {"shape": [1e400]}]},
        {"inputs": [[]]},
        {"inputs": [given | {"data": [[]] * 1_000_001}]},
        [],
        5,
    ]
    with StandIn(network(tmp_path), "net") as service:
        host = service.root.removeprefix("http://")
        for body in odd:
            asked = http.client.HTTPConnection(host, timeout=20)
            asked.request("POST", "/v2/models/net/infer", json.dumps(body))
            answer = asked.getresponse()
            assert answer.status == 400, str(body)[:80]
            assert "not a request of the protocol" in answer.read().decode()
            asked.close()
        asked = http.client.HTTPConnection(host, timeout=20)
        asked.putrequest("POST", "/v2/models/net/infer")
        asked.putheader("Content-Length", "9" * 5000)
        asked.endheaders()
        assert asked.getresponse().status == 413
        asked.close()


def test_an_answer_of_nothing_but_lists_is_refused_unread(tmp_path: Path) -> None:
    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        return 200, {}, b'{"name": "net", "x": [' + b"[]," * 400_000 + b"[]]}"

    with saying(say) as root, pytest.raises(InputError, match="more than 300 000 lists and objects"):
        met(tmp_path, described(f"{root}/v2/models/net"), CLASSES)
