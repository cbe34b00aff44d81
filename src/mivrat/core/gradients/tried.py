"""The process a model is tried in: reads a task from standard input, does it within limits, and says how it went."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.models.trial import limit_this_process

# How the engine says that it was given no more memory.
_OUT_OF_MEMORY = ("bad allocation", "bad_alloc", "Failed to allocate memory")


def _do(task: dict[str, Any]) -> None:
    from mivrat.core.models.onnx_model import OnnxModel
    from mivrat.core.pictures.recipe import parse_recipe

    path = Path(os.fsdecode(bytes.fromhex(task["path"])))
    recipe = parse_recipe(task["recipe"], path) if task["recipe"] is not None else None
    model = OnnxModel(path, recipe, task["classes"], tried=True)
    if task["tensors"]:
        from mivrat.core.gradients.graph import GraphView

        GraphView(model, tuple(task["sides"]) if task["sides"] else None, tried=True)


def main() -> None:
    task = json.load(sys.stdin)
    # Whatever a library prints must not get between the lines that are read.
    out, sys.stdout = os.fdopen(os.dup(1), "w", encoding="ascii"), sys.stderr
    os.dup2(2, 1)
    limit_this_process(task["seconds"], task["bytes"])
    said: dict[str, Any] = {}
    try:
        _do(task)
    except InputError as error:
        said = {"what": error.what, "where": error.where, "mend": error.hint}
        if any(words in error.what for words in _OUT_OF_MEMORY):
            said = {"memory": task["bytes"]}
    except MemoryError:
        said = {"memory": task["bytes"]}
    json.dump(said, out)
    out.flush()
    os._exit(0)  # threads of the engine may still be at work


if __name__ == "__main__":
    main()
