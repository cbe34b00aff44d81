"""Keys of services: from the environment first, then the desktop's keyring; never from a file, and none is made up."""

from __future__ import annotations

from collections.abc import Iterator

import keyring
import pytest
from keyring.backend import KeyringBackend

from mivrat.core.base.errors import InputError
from mivrat.core.models.service.keys import find_key, from_keyring, to_keyring
from tests.support.services import described

ADDRESS = "https://host:8443/v2/models/m"


class InMemory(KeyringBackend):
    """A keyring that forgets."""

    priority = 1

    def __init__(self) -> None:
        super().__init__()
        self.kept: dict[tuple[str, str], str] = {}

    def get_password(self, service: str, username: str) -> str | None:
        return self.kept.get((service, username))

    def set_password(self, service: str, username: str, password: str) -> None:
        self.kept[service, username] = password

    def delete_password(self, service: str, username: str) -> None:
        del self.kept[service, username]


@pytest.fixture
def ring() -> Iterator[InMemory]:
    before, made = keyring.get_keyring(), InMemory()
    keyring.set_keyring(made)
    yield made
    keyring.set_keyring(before)


def test_the_environment_comes_first_then_the_keyring(ring: InMemory, monkeypatch: pytest.MonkeyPatch) -> None:
    one = described(ADDRESS, key={"environment": "OURS"})
    monkeypatch.delenv("OURS", raising=False)
    with pytest.raises(InputError) as caught:
        find_key(one)
    for part in ("OURS", "service 'mivrat'", "host:8443"):
        assert part in caught.value.line()
    assert to_keyring("host:8443", "of-the-ring")
    assert ring.kept == {("mivrat", "host:8443"): "of-the-ring"}
    assert find_key(one) == "of-the-ring"
    monkeypatch.setenv("OURS", " of-the-environment ")
    assert find_key(one) == "of-the-environment"
    assert find_key(described(ADDRESS)) == "", "without [key] none goes out"
    monkeypatch.setenv("OURS", "schlüssel")
    with pytest.raises(InputError, match="cannot be sent") as caught:
        find_key(one)
    assert "schlüssel" not in caught.value.line()


def test_without_a_keyring_there_is_none_and_nothing_fails(ring: InMemory, monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(*_: object) -> str:
        raise RuntimeError("the ring does not answer")

    monkeypatch.setattr(ring, "get_password", fail)
    monkeypatch.setattr(ring, "set_password", fail)
    assert from_keyring("host:8443") == ""
    assert not to_keyring("host:8443", "key")
