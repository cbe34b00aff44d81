"""Arrows point one way: core knows neither window nor command line, and its parts know only those below them."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

SOURCE = Path(__file__).resolve().parents[1] / "src" / "mivrat"
TOOLKIT = ("PySide6", "shiboken6", "pyqtgraph")
# What each part of the core may import of the others.
BELOW = {
    "figures": {"figures"},
    "pictures": {"pictures"},
    "models": {"models", "pictures"},
    "running": {"running", "models", "pictures", "figures", "study"},
    "study": {"study", "models", "pictures", "running"},
    "selecting": {"selecting", "figures", "pictures", "running", "study"},
    "likeness": {"likeness", "evidence", "figures", "models", "pictures", "running", "study"},
    "checks": {"checks", "figures", "models", "pictures", "running", "study"},
    "evidence": {"evidence", "figures", "models", "pictures"},
    "explaining": {"explaining", "evidence", "figures", "models", "pictures", "running", "study"},
    "reporting": {"reporting", "checks", "evidence", "explaining", "figures", "models", "pictures", "running", "study"},
}


def imports_of(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"relative import in {path}"
            found.add(node.module or "")
    return found


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda p: str(p.relative_to(SOURCE)))
def test_imports_point_one_way(path: Path) -> None:
    parts, names = path.relative_to(SOURCE).parts, imports_of(path)
    assert ("onnxruntime" in {n.split(".")[0] for n in names}) == (path.name == "engine.py")
    if parts[0] != "ui":
        assert not [n for n in names if n.split(".")[0] in TOOLKIT]
    assert not [n for n in names if n.split(".")[0] in ("torch", "pickle", "marshal", "shelve")]
    if parts[0] == "core":
        inside = [n for n in names if n.startswith("mivrat.")]
        assert all(n.startswith("mivrat.core.") for n in inside)
        if len(parts) > 2 and parts[1] in BELOW:
            used = {n.split(".")[2] for n in inside} - {
                "array_cache",
                "database",
                "errors",
                "files",
                "job",
                "log",
                "names",
            }
            assert used <= BELOW[parts[1]]


def test_every_module_says_its_job() -> None:
    for path in SOURCE.rglob("*.py"):
        assert ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))), path
