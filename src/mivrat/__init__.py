"""Mivrat finds out how good a trained image classifier is, where it fails, and why.

From Python::

    run = mivrat.evaluate("net.onnx", images="held-out/", classes="classes.txt", recipe="recipe.toml")
    run.top1.value, run.top1.low, run.top1.high, run.top1.n

Everything that is offered stands in ``mivrat.__all__``; ``docs/python.md`` goes through it. Nothing is loaded before it is used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from mivrat.api.arrays import from_scores
    from mivrat.api.comparing import Comparison, compare
    from mivrat.api.drawing import Drawing
    from mivrat.api.evaluating import evaluate, evaluation
    from mivrat.api.explaining import Heatmap, heatmap, layers
    from mivrat.api.figure import Figure
    from mivrat.api.labels import Estimate, LabelList, estimate, sample
    from mivrat.api.regions import CoverTest, Region, TransplantTest, cover, transplant
    from mivrat.api.run import Run
    from mivrat.api.sets import Sets
    from mivrat.api.straining import StrainTest, strain
    from mivrat.api.study import Study, Verification, open_study
    from mivrat.api.work import Work
    from mivrat.core.base.errors import InputError
    from mivrat.core.base.job import Progress, Stopped

# Where each name is kept: a module is loaded when one of its names is first used, so that importing costs nothing.
_PLACES = {
    "Comparison": "mivrat.api.comparing",
    "CoverTest": "mivrat.api.regions",
    "Drawing": "mivrat.api.drawing",
    "Estimate": "mivrat.api.labels",
    "Figure": "mivrat.api.figure",
    "Heatmap": "mivrat.api.explaining",
    "InputError": "mivrat.core.base.errors",
    "LabelList": "mivrat.api.labels",
    "Progress": "mivrat.core.base.job",
    "Region": "mivrat.api.regions",
    "Run": "mivrat.api.run",
    "Sets": "mivrat.api.sets",
    "Stopped": "mivrat.core.base.job",
    "StrainTest": "mivrat.api.straining",
    "Study": "mivrat.api.study",
    "TransplantTest": "mivrat.api.regions",
    "Verification": "mivrat.api.study",
    "Work": "mivrat.api.work",
    "compare": "mivrat.api.comparing",
    "cover": "mivrat.api.regions",
    "estimate": "mivrat.api.labels",
    "evaluate": "mivrat.api.evaluating",
    "evaluation": "mivrat.api.evaluating",
    "from_scores": "mivrat.api.arrays",
    "heatmap": "mivrat.api.explaining",
    "layers": "mivrat.api.explaining",
    "open_study": "mivrat.api.study",
    "sample": "mivrat.api.labels",
    "strain": "mivrat.api.straining",
    "transplant": "mivrat.api.regions",
}
__all__ = [
    "Comparison",
    "CoverTest",
    "Drawing",
    "Estimate",
    "Figure",
    "Heatmap",
    "InputError",
    "LabelList",
    "Progress",
    "Region",
    "Run",
    "Sets",
    "Stopped",
    "StrainTest",
    "Study",
    "TransplantTest",
    "Verification",
    "Work",
    "compare",
    "cover",
    "estimate",
    "evaluate",
    "evaluation",
    "from_scores",
    "heatmap",
    "layers",
    "open_study",
    "sample",
    "strain",
    "transplant",
]


def __getattr__(name: str) -> Any:
    if (place := _PLACES.get(name)) is None:
        raise AttributeError(f"module 'mivrat' has no attribute {name!r}")
    found = getattr(import_module(place), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
