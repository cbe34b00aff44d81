"""A long job as the window tells of it: what kind it is, its title, and what is said when it ends."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from mivrat.ui import words

JobKind = Literal["demonstration", "score", "try", "read", "check", "features", "maps", "cover", "trust", "write"]


@dataclass(frozen=True)
class Job:
    """One long job; ``images`` is how many it is about, 0 where that goes without saying."""

    kind: JobKind
    title: str
    images: int = 0

    def ending(self, finished: bool, listed: int, pending: int) -> str:
        """What is said at its end, with the run's listed images and those not scored yet."""
        left = f"{words.images(pending)} not scored yet." if pending else ""
        if self.kind == "demonstration":
            return "" if finished else "Stopped. Opening the demonstration again goes on from there."
        if self.kind == "score":
            return f"Done: {words.images(listed)}." if finished else f"Stopped: {left} What is done is kept."
        if self.kind in ("try", "read"):
            done = (
                f"{'Tried' if self.kind == 'try' else 'Read again'}: {words.images(self.images)}."
                if self.images
                else ""
            )
            return " ".join(part for part in (done if finished else "Stopped.", left) if part)
        if self.kind == "check":
            return "Checked." if finished else "Stopped. What was found is kept."
        return f"{self.title}: done." if finished else f"{self.title}: stopped; what is done is kept."
