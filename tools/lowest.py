"""Writes the lowest versions that pyproject.toml allows, one requirement a line: what ``make test-lowest`` installs."""

from __future__ import annotations

import re
import sys
import tomllib
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1] / "pyproject.toml"


def lowest(requirement: str) -> str:
    """A requirement at its lower bound.

    >>> lowest("PySide6-Essentials>=6.8,!=6.12.0")
    'PySide6-Essentials==6.8'
    """
    found = re.fullmatch(r"([A-Za-z0-9_.-]+)(?:\[.*\])?>=([0-9.]+)(?:,.*)?", requirement.split(";")[0].strip())
    if found is None:
        raise SystemExit(f"{requirement!r} has no lower bound")
    return f"{found[1]}=={found[2]}"


def main() -> None:
    project = tomllib.loads(PROJECT.read_text(encoding="utf-8"))["project"]
    sys.stdout.write("\n".join(map(lowest, project["dependencies"])) + "\n")


if __name__ == "__main__":
    main()
