"""A small run that the tests of one file share."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.support.small_run import Ran


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ran]:
    made = Ran(tmp_path_factory.mktemp("ran"))
    yield made
    made.study.close()
