"""The examples in docstrings of the core are run: each says what it says."""

from __future__ import annotations

import doctest
import importlib
import pkgutil

import pytest

import mivrat.core.base
import mivrat.core.comparing
import mivrat.core.concluding
import mivrat.core.figures
import mivrat.core.models
import mivrat.core.pictures

PACKAGES = (
    mivrat.core.base,
    mivrat.core.comparing,
    mivrat.core.concluding,
    mivrat.core.figures,
    mivrat.core.models,
    mivrat.core.pictures,
)
# At least so many examples stand in each, so that they do not get lost.
LEAST = {"mivrat.core.base": 4, "mivrat.core.figures": 25}


@pytest.mark.parametrize("package", PACKAGES, ids=lambda one: one.__name__)
def test_every_example_is_as_it_says(package: object) -> None:
    name, runner = package.__name__, doctest.DocTestRunner(optionflags=doctest.NORMALIZE_WHITESPACE)
    for module in pkgutil.iter_modules(package.__path__, f"{name}."):
        for found in doctest.DocTestFinder().find(importlib.import_module(module.name)):
            if found.examples:
                assert runner.run(found).failed == 0, found.name
    assert runner.tries >= LEAST.get(name, 0)
