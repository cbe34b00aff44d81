"""A server that gives the key back, anywhere and in any spelling: no eight characters of it reach a text or a file."""

from __future__ import annotations

import base64
import html
import json
import string
from urllib.parse import quote, unquote

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.keys import BLANK, LONGEST_LEFT, Blanker
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from tests.support.networks import classifier, loaded
from tests.support.services import Said, described, met, said, saying
from tests.support.sets import CLASSES, write_set

KEY = "s3cr3t/key+of=ours&more-9Zq"

SPELLINGS = {
    "raw": lambda key: key,
    "percent": lambda key: quote(key, safe=""),
    "every byte percent": lambda key: "".join(f"%{ord(c):02x}" for c in key),
    "json": lambda key: key.replace("/", "\\/"),
    "json, by numbers": lambda key: "".join(f"\\u{ord(c):04X}" for c in key),
    "html": lambda key: html.escape(key),
    "html, by numbers": lambda key: "".join(f"&#{ord(c)};" if i % 2 else f"&#x{ord(c):x};" for i, c in enumerate(key)),
    "base64": lambda key: base64.b64encode(key.encode()).decode(),
    "base64 of a header": lambda key: base64.b64encode(f"Bearer {key}".encode()).decode(),
    "base64 for addresses": lambda key: base64.urlsafe_b64encode(f"me:{key}".encode()).decode(),
    "hexadecimal": lambda key: key.encode().hex(),
}


def gives_away(text: str, key: str = KEY) -> bool:
    """Whether a run of the key stands in a text, as it is or once it is read as JSON, HTML, an address, base64 or hexadecimal."""
    read = {text, unquote(text), html.unescape(text), text.replace("\\/", "/")}
    for part in (json.loads(f'"{one}"') for one in text.split('"') if "\\u" in one and "\n" not in one):
        read.add(part)
    for word in "".join(c if c in string.ascii_letters + string.digits + "+/-_=" else " " for c in text).split():
        for at in range(4):
            bare = word[at:].rstrip("=").replace("-", "+").replace("_", "/")
            try:
                read.add(base64.b64decode(bare + "=" * (-len(bare) % 4)).decode("latin-1"))
            except ValueError:
                continue
        if len(word) % 2 == 0 and all(c in string.hexdigits for c in word):
            read.add(bytes.fromhex(word).decode("latin-1"))
    runs = {key[i : i + LONGEST_LEFT + 1] for i in range(len(key) - LONGEST_LEFT)}
    return any(run in one for one in read for run in runs)


def test_what_gives_a_key_away_is_known() -> None:
    """The test's own judge sees every spelling, so that what it does not see is not there."""
    for spelling in SPELLINGS.values():
        assert gives_away(f"no {spelling(KEY)}!")
    assert not gives_away("no s3cr3t/ and more")


@settings(deadline=None)
@given(
    st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=9, max_size=60),
    st.sampled_from(sorted(SPELLINGS)),
    st.text(max_size=20),
    st.text(max_size=20),
)
def test_no_spelling_of_a_key_is_left(key: str, spelling: str, before: str, behind: str) -> None:
    blank = Blanker(key)
    text = blank(f"{before}{SPELLINGS[spelling](key)}{behind}")
    assert BLANK in text
    runs = {key[i : i + 8] for i in range(len(key) - 7)}
    assert not any(run in one for one in (text, unquote(text), html.unescape(text)) for run in runs)


def test_what_holds_no_key_stays_as_it_is() -> None:
    for text in ("", "birch", "a\\b %zz &amp; &nothing; 100 %", "s3cr3t/"):
        assert Blanker(KEY)(text) == text
    assert Blanker("")(KEY) == KEY
    assert Blanker("abc")("abc") == "abc"  # so short a key would blank half of every answer
    assert Blanker("abcd")("xabcdx") == f"x{BLANK}x"
    numbers = [0.123456789, 1e30]
    assert Blanker("0123456789")(str(numbers)) != str(numbers)
    assert Blanker("0123456789").all_of({"data": numbers}) == {"data": numbers}


def _server(place: str, planted: str, sent: list[str]) -> object:
    """What a server says that plants a text in one place of what it tells or answers."""

    def say(method: str, path: str, body: bytes, headers: dict[str, str]) -> Said:
        sent.append(headers.get("authorization", ""))
        if place == "error":
            return said({"error": f"x{planted}"}, 401)
        if place == "long error":
            return 400, {}, ("y" * 280 + planted).encode()
        if place == "redirect" and method == "GET":
            return 302, {"Location": f"http://{quote(planted, safe='')[:60]}.example/x"}, b""
        if method == "GET" and path.endswith("/v2"):
            return said({"extensions": [planted]})
        if method == "GET":
            about = {
                "name": "net",
                "versions": ["1"],
                "inputs": [{"name": "image", "datatype": "FP32", "shape": [-1, 3, 16, 16]}],
                "outputs": [{"name": "scores", "datatype": "FP32", "shape": [-1, 3]}],
            }
            spoilt = {
                "version": ("versions", [planted]),
                "versions": ("versions", ["1", planted]),
                "name": ("name", planted),
            }
            if place in spoilt:
                about |= dict([spoilt[place]])
            if place == "datatype":
                about["inputs"][0]["datatype"] = f"{planted} {planted}"  # type: ignore[index]
            if place == "input":
                about["inputs"][0]["name"] = planted  # type: ignore[index]
            return said(about)
        count = json.loads(body[: int(headers.get("inference-header-content-length", len(body)))])["inputs"][0][
            "shape"
        ][0]
        output = {"name": "scores", "datatype": "FP32", "shape": [count, 3], "data": [0.1, 0.2, 0.7] * count}
        if place == "answer's version":
            return said({"model_version": planted, "outputs": [output]})
        if place == "answer's datatype":
            return said({"outputs": [output | {"datatype": planted}]})
        if place == "bad answer":
            return 200, {}, f"{{{planted}".encode()
        return said({"outputs": [output]})

    return say


PLACES = [
    *("error", "long error", "redirect", "version", "versions", "name", "datatype", "input", "answer's version"),
    *("answer's datatype", "bad answer"),
]


@pytest.fixture(scope="module")
def images(tmp_path_factory: pytest.TempPathFactory) -> ImageSet:
    return read_image_set(write_set(tmp_path_factory.mktemp("images") / "set", 1), CLASSES)


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.sampled_from(PLACES), st.sampled_from(sorted(SPELLINGS)), st.integers(0, 12))
def test_no_run_of_the_key_reaches_a_text_or_a_study(
    images: ImageSet,
    tmp_path_factory: pytest.TempPathFactory,
    place: str,
    spelling: str,
    cut: int,
) -> None:
    folder, sent = tmp_path_factory.mktemp("served"), list[str]()
    recipe = loaded(classifier(side=16), folder / "net.onnx", 3).recipe
    told: list[str] = []
    with pytest.MonkeyPatch.context() as patch, saying(_server(place, SPELLINGS[spelling](KEY)[cut:], sent)) as root:  # type: ignore[arg-type]
        patch.setenv("MIVRAT_SERVICE_KEY", KEY)
        try:
            model = met(folder, described(f"{root}/v2/models/net", key={"scheme": "Bearer"}), CLASSES, recipe)
            told += [repr(model.told), str(model.remarks), repr(model.try_one(_file(images)))]
            with Study.create(folder / "s.mivrat", CLASSES) as study:
                evaluation = Evaluation(model, images, study)
                for _ in evaluation.run(batch_size=1):
                    pass
                told += list(evaluation.answers.reasons.values())
        except InputError as error:
            told.append(str(error))
    assert any(KEY in one for one in sent)
    for file in folder.rglob("*.mivrat*"):
        told.append(file.read_bytes().decode("latin-1"))
    for text in told:
        assert not gives_away(text), (place, spelling, text[:300])


def _file(images: ImageSet) -> object:
    from mivrat.core.pictures.decode import read_file

    return read_file(images.file(0))
