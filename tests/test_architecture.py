"""Arrows point one way: each layer knows only those before it, and the core knows neither window nor command line."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).resolve().parents[1] / "src" / "mivrat"
TOOLKIT = ("PySide6", "shiboken6", "pyqtgraph")
# The layers of the core: each may use those before it, never one after it.
CORE = (
    "base",
    "pictures",
    "models",
    "figures",
    "answers",
    "study",
    "gradients",
    "heatmaps",
    "region_masking",
    "selecting",
    "likeness",
    "checks",
    "running",
    "comparing",
    "straining",
    "concluding",
    "reporting",
)
# What stands around the core, and what of that each part may use beside it.
AROUND = {
    "demo": set(),
    "workspace": {"cluster", "demo"},
    "service": set(),
    "share": set(),
    "cluster": set(),
    "api": {"cluster", "demo"},
    "commands": {"api", "cluster", "demo", "service", "share"},
    "ui": {"demo", "share", "workspace"},
    "cli": {"commands"},
    "__main__": {"cli"},
    "__init__": {"api"},
}


def imports_of(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"relative import in {path}"
            found |= {f"{node.module}.{alias.name}" for alias in node.names}
    return found


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda p: str(p.relative_to(SOURCE)))
def test_imports_point_one_way(path: Path) -> None:
    parts, names = path.relative_to(SOURCE).with_suffix("").parts, imports_of(path)
    roots = {n.split(".")[0] for n in names}
    assert ("onnxruntime" in roots) == (path.name == "engine.py")
    assert not roots & {"torch", "pickle", "marshal", "shelve"}
    if parts[0] != "ui":
        assert not roots & set(TOOLKIT)
    inside = [n.split(".")[1:] for n in names if n.startswith("mivrat.")]
    if parts[0] == "core":
        assert {one[0] for one in inside} <= {"core", "__version__"}
        if len(parts) > 2:
            assert {one[1] for one in inside if one[0] == "core"} <= set(CORE[: CORE.index(parts[1]) + 1])
    elif parts[0] != "__init__":
        assert {one[0] for one in inside} - {"__version__"} <= AROUND[parts[0]] | {"core", parts[0]} | (
            {"ui"} if parts == ("commands", "opening") else set()
        )


def test_every_module_says_its_job() -> None:
    for path in SOURCE.rglob("*.py"):
        assert ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))), path


@pytest.mark.parametrize(
    ("module", "never"),
    [
        (
            "commands.evaluating",
            (
                "scipy",
                "polars",
                "matplotlib",
                "weasyprint",
                "jinja2",
                "httpx",
                "keyring",
                "asyncio",
                "mivrat.core.concluding.requirements",
                *TOOLKIT,
            ),
        ),
        (
            "ui.window",
            ("numpy", "scipy", "polars", "pydantic", "onnx", "onnxruntime", "pyqtgraph", "mivrat.workspace.workspace"),
        ),
        ("__version__", ("numpy", "polars", "mivrat.core", *TOOLKIT)),
        ("api.run", ("matplotlib", "weasyprint", "jinja2", "httpx", "polars", *TOOLKIT)),
        ("ui.bench", ("scipy.stats", "scipy.optimize", "matplotlib", "weasyprint", "httpx", "keyring")),
    ],
)
def test_what_takes_long_to_load_is_loaded_when_it_is_used(module: str, never: tuple[str, ...]) -> None:
    how = f"import mivrat.{module}" if module != "__version__" else "pass"
    asked = f"import sys, mivrat; {how}; print([one for one in {never!r} if one in sys.modules])"
    found = subprocess.run([sys.executable, "-c", asked], check=True, capture_output=True, text=True)
    assert found.stdout.strip() == "[]"
