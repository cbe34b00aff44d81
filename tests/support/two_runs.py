"""Two made-up models that answer the same images, alike to a degree."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.outcomes import Outcomes, outcomes


def two_runs(
    rng: np.random.Generator,
    total: int,
    classes: int = 4,
    strength: tuple[float, float] = (1.6, 2.1),
    alike: float = 0.5,
    units: int = 0,
    labels: NDArray[np.int64] | None = None,
    mix: Sequence[float] | None = None,
    sharp: tuple[float, float] = (1.3, 1.3),
) -> tuple[Outcomes, Outcomes, NDArray[np.int64] | None]:
    """Outcomes of both for images of classes of falling size, and the units (numbered without gaps) of images that share their luck. The
    sharper, the surer a model is of what it answers."""
    falling = np.arange(classes, 0, -1) / np.arange(classes, 0, -1).sum()
    share = np.array(falling if mix is None else mix)
    unit, shared = None, np.zeros((total, classes))
    if units:
        unit = np.unique(rng.integers(0, units, total), return_inverse=True)[1].astype(np.int64)
        many = int(unit.max()) + 1
        shared = rng.normal(0, 0.9, (many, classes))[unit]
        labels = rng.choice(classes, many, p=share)[unit] if labels is None else labels
    labels = rng.choice(classes, total, p=share) if labels is None else labels
    common, made = rng.normal(0, 1, (total, classes)), []
    for one, factor in zip(strength, sharp, strict=True):
        z = np.sqrt(alike) * common + np.sqrt(1 - alike) * rng.normal(0, 1, (total, classes)) + shared
        z[np.arange(total), labels] += one
        raised = np.exp(factor * (z - z.max(axis=1, keepdims=True)))
        made.append(outcomes(factor * z, raised / raised.sum(axis=1, keepdims=True), labels))
    return made[0], made[1], unit
