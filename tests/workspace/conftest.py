"""A workspace on a made-up run, without a window."""

from __future__ import annotations

from pathlib import Path

import pytest

from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import made_up_run, opened


@pytest.fixture
def workspace(tmp_path: Path) -> Workspace:
    return opened(made_up_run(tmp_path, 5, 80))
