"""One run of a study held against another, whole: figures, intervals, groups and what may be claimed, for reports."""

from __future__ import annotations

from mivrat.core.comparing.claims import MARGIN, claims
from mivrat.core.comparing.holding import Compared, hold, names_of
from mivrat.core.running.snapshot import Snapshot


def compare_runs(baseline: Snapshot, candidate: Snapshot, margin: float = MARGIN, seed: int = 0) -> Compared | None:
    """The candidate held against the baseline: every difference is candidate less baseline. None where it was stopped."""
    held = hold(baseline, candidate, names_of(baseline, candidate))
    if held.on_images is not None:
        found = held.on_images.deepen(held.on_images.compare(), seed=seed)
    else:
        assert held.on_sets is not None
        found = held.on_sets.compare()
        if found.sets is not None and found.sets.total_a and found.sets.total_b:
            found = held.on_sets.deepen(found, seed=seed)
    return None if found is None else Compared(held, found, tuple(claims(found, margin)))
