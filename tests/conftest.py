"""Settings every test shares: no screen, and nothing of the user's own folders is touched."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile("mivrat", deadline=None, print_blob=True, derandomize=True, max_examples=80)
settings.load_profile("mivrat")


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Point data, configuration and log folders at a temporary place."""
    home = tmp_path_factory.getbasetemp() / "home"
    for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        monkeypatch.setenv(name, str(home / name.lower()))
    return home
