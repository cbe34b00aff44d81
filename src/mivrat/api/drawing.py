"""A diagram that notebooks show by themselves."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from mivrat.core.base.files import write_whole


@dataclass(frozen=True)
class Drawing:
    """A diagram as SVG text."""

    svg: str

    def _repr_svg_(self) -> str:
        # On a sheet of its own: the page around it may be light or dark.
        return re.sub(r"(<svg\b[^>]*>)", r'\1<rect width="100%" height="100%" fill="#ffffff"/>', self.svg, count=1)

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write it to an ``.svg`` file."""
        write_whole(Path(path), self.svg)
