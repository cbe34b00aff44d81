"""Check results as JSON for other programs, and as lines to read."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from mivrat.core.checks.catalogue import Check
from mivrat.core.checks.result import CheckResult
from mivrat.core.pictures.image_sets import ImageSet

FORMAT = "mivrat-checks/1"
_MARKS = {"fine": "fine", "look": "needs a look", "stop": "STOPS YOU", "open": "not said"}


def checks_report(results: Sequence[CheckResult], model: Path, images: Path, image_set: ImageSet) -> dict[str, Any]:
    """All results as JSON data; images are given by their paths in the set, at most a thousand for each check."""
    return {
        "format": FORMAT,
        "model": str(model),
        "images": str(images),
        "worst": worst(results),
        "checks": [
            {
                **json.loads(one.to_json()),
                "concerned": len(one.images),
                "images": [image_set.items[i].path for i in one.images[:1000]],
            }
            for one in results
        ],
    }


def worst(results: Sequence[CheckResult]) -> str:
    """The gravest state among results; ``open`` where nothing could be said."""
    states = {one.state for one in results}
    return next((state for state in ("stop", "look", "fine") if state in states), "open")


def in_sentences(results: Sequence[CheckResult], checks: Mapping[str, Check]) -> str:
    """One line a check: its state, its title, what was found."""
    width = max((len(checks[one.name].title) for one in results), default=0)
    return "\n".join(f"{_MARKS[one.state]:<13} {checks[one.name].title:<{width}}  {one.sentence}" for one in results)
