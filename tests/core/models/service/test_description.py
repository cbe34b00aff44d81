"""Service descriptions: read back as written, keys refused, JSON Pointers that lead where they say."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.agreement import (
    agree,
    agreement_of,
    is_agreed,
    is_agreed_at,
    question,
    read_agreement,
    withdraw,
)
from mivrat.core.models.service.described import pointed, put_at
from mivrat.core.models.service.description import (
    describe_address,
    parse_description,
    read_description,
    to_toml,
    write_description,
)
from tests.support.services import described

WHOLE = """format = "mivrat-service/1"
url = "https://host:8443/some/path?lang=en"
send = "json"
image = "/instances/0/image/b64"
encoding = "jpeg"
[request]
headers = {Accept = "application/json"}
parameters = {top = 3, exact = true, note = "a \\"b\\"", deep = {list = [1, 2.5]}}
[key]
header = "X-Service"
environment = "OURS"
[response]
pairs = "/predictions/0/classes"
label = "/name"
score = "/p"
kind = "probabilities"
[limits]
at_once = 4
per_second = 10
timeout = 30
"""


def test_a_description_is_read_back_as_written(tmp_path: Path) -> None:
    one = parse_description(WHOLE)
    assert parse_description(to_toml(one)) == one
    assert (one.host, one.name, one.encrypted) == ("host:8443", "path", True)
    first = write_description(one, tmp_path)
    assert read_description(first) == one
    assert write_description(one, tmp_path) == first
    other = describe_address("https://host/v2/models/path")
    second = write_description(other, tmp_path)
    assert second != first
    assert read_description(second) == other
    assert (other.host, other.parts()) == ("host:443", ("https://host", "path", ""))
    assert describe_address("http://h/pre/v2/models/m/versions/7/infer").parts() == ("http://h/pre", "m", "7")


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("https://host:8443/some/path?lang=en", "https://me:pw@host/x"), "holds a name or password"),
        (("?lang=en", "?api_key=abc123"), "holds a key"),
        (('Accept = "application/json"', 'X-Api-Key = "abc123"'), "would hold a key"),
        (('Accept = "application/json"', '"Bad Name" = "x"'), "cannot be a header"),
        (("https://host:8443", "ftp://host"), "begin with https://"),
        (("https://host:8443", "https://host:x"), "not a service address"),
        (('send = "json"', 'send = "open-inference"'), "names a model"),
        (('send = "json"', 'send = "pigeon"'), "send"),
        (("at_once = 4", "at_once = 0"), "limits.at_once"),
        (("timeout = 30", "timeout = inf"), "limits.timeout"),
        (("timeout = 30", "patience = 30"), "limits.patience"),
        (('pairs = "/predictions/0/classes"', 'scores = "/s"\npairs = "/p"'), "give scores"),
        (('pairs = "/predictions/0/classes"', 'pairs = "classes"'), "response.pairs"),
        (('image = "/instances', 'image = "instances'), "begins with /"),
        (("top = 3", "top = 2020-01-01"), "JSON cannot say"),
        (("list = [1, 2.5]", 'api_token = "abc123abc123"'), "'api_token' would hold a key"),
        (("mivrat-service/1", "mivrat-service/2"), "has format"),
        (("[key]", "[key"), "not valid TOML"),
    ],
)
def test_what_is_wrong_is_named_and_no_key_repeated(change: tuple[str, str], words: str) -> None:
    assert change[0] in WHOLE
    with pytest.raises(InputError) as caught:
        parse_description(WHOLE.replace(*change), "service.toml")
    assert words in caught.value.line()
    assert "abc123" not in caught.value.line()
    assert "pw@" not in caught.value.line()


_NAMES = st.text(st.sampled_from("ab/~ é"), min_size=1, max_size=4)


@given(st.lists(_NAMES, min_size=1, max_size=4), st.dictionaries(_NAMES, st.integers(), max_size=3))
def test_a_pointer_leads_to_what_was_put_there(path: list[str], others: dict[str, int]) -> None:
    pointer = "".join("/" + name.replace("~", "~0").replace("/", "~1") for name in path)
    whole: dict[str, Any] = {name: value for name, value in others.items() if name != path[0]}
    made = put_at(dict(whole), pointer, "image")
    assert pointed(made, pointer) == "image"
    assert {name: made[name] for name in whole} == whole


def test_pointers_into_lists_and_into_nothing() -> None:
    assert put_at({}, "/instances/0/b64", 1) == {"instances": [{"b64": 1}]}
    assert put_at({"l": [1, 2]}, "/l/-", 3) == {"l": [1, 2, 3]}
    assert put_at({}, "", 5) == 5
    found = json.loads('{"a/b": [{"m~n": 7}], "": 1}')
    assert pointed(found, "/a~1b/0/m~0n") == 7
    assert pointed(found, "/") == 1
    assert pointed(found, "") is found
    for pointer in ("/a~1b/1", "/a~1b/-", "/a~1b/x", "/none", "/a~1b/0/m~0n/deeper"):
        with pytest.raises(KeyError):
            pointed(found, pointer)
    with pytest.raises(KeyError):
        put_at({"a": 1}, "/a/b", 2)


def test_agreements_as_they_are_written() -> None:
    texts = ("h", "h:81", "http://h/x", "https://H:9/x", "h Authorization MIVRAT_KEY")
    assert [read_agreement(text) for text in texts] == [
        *("https://h:443", "https://h:81", "http://h:80", "https://h:9"),
        "https://h:443 Authorization MIVRAT_KEY",
    ]
    for text in (" ", "h:x", "//", "ftp://h", "h Authorization"):
        with pytest.raises(InputError, match="not a host"):
            read_agreement(text)


def test_an_agreement_covers_nothing_else(own_folders: Path) -> None:
    """Neither another port or scheme, nor a key, nor another header or variable of one."""
    plain = described("https://h/v2/models/m")
    keyed = described("https://h/v2/models/m", key={})
    others = [
        *(
            described(url)
            for url in ("http://h:443/v2/models/m", "https://h:444/v2/models/m", "https://h.example/v2/models/m")
        ),
        *(
            described("https://h/v2/models/m", key=key)
            for key in ({"header": "X-Own"}, {"environment": "HOME"}, {"environment": "MIVRAT_OTHER"})
        ),
    ]
    agree(agreement_of(plain))
    assert is_agreed(plain)
    assert is_agreed(described("https://h:443/v2/models/other"))
    assert not any(is_agreed(one) for one in (keyed, *others))
    agree(agreement_of(keyed))
    assert is_agreed(keyed)
    assert not any(is_agreed(one) for one in others)
    assert "HOME is not one of Mivrat's own variables" in question(others[4], "", 1)
    assert "MIVRAT_OTHER is not" not in question(others[5], "", 1)
    assert is_agreed_at("https://h:443")
    withdraw("https://h:443")
    assert not is_agreed(plain)
    assert not is_agreed(keyed)
    # What an earlier version wrote down stands for https, and for pictures alone.
    kept = own_folders / "xdg_config_home" / "mivrat" / "agreed-hosts.json"
    kept.write_text('{"h:443": "2026-01-01", "h:80": "2026-01-01"}')
    assert is_agreed(plain)
    assert not is_agreed(keyed)
    assert not is_agreed(described("http://h/v2/models/m"))
