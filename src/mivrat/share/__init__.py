"""What a desktop and a shell are given: icon, entry, file type, manual page, completions; laid out as below a ``share`` folder."""

from __future__ import annotations

from pathlib import Path

SHARE = Path(__file__).parent
ICON = SHARE / "icons" / "hicolor" / "scalable" / "apps" / "mivrat.svg"
