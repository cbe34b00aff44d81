"""Which map is wanted of each image: the method, the layers, and whose evidence."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.heatmaps.maps import Target
from mivrat.core.heatmaps.methods import Method

# Whose evidence: a class, or image by image the one predicted, labelled, second in the ranking, or the other one: the labelled
# class where it is not the predicted one, else the second.
Whose = int | Literal["predicted", "labelled", "runner-up", "other"]


@dataclass(frozen=True)
class MapSetup:
    """``layers`` are tensor names, several of them put together; none stands for the default. ``against``: rather than whom."""

    method: Method = "gradient"
    layers: tuple[str, ...] = ()
    of: Whose = "predicted"
    against: Whose | None = None

    def target(self, judged: EvaluatedRun, image: int) -> Target | None:
        """The target of one image; None where it has no such class, or the two are one."""
        of = class_of(self.of, judged, image)
        against = None if self.against is None else class_of(self.against, judged, image)
        if of is None or (self.against is not None and (against is None or against == of)):
            return None
        return Target(of, against)

    def possible(self, judged: EvaluatedRun) -> NDArray[np.bool_]:
        """Which images have a target, for all of them at once."""
        of = _classes_of(self.of, judged)
        if self.against is None:
            return of != NONE
        against = _classes_of(self.against, judged)
        return (of != NONE) & (against != NONE) & (of != against)

    def in_words(self, classes: list[str]) -> str:
        """Whose evidence, in words."""

        def name(one: Whose) -> str:
            if isinstance(one, int):
                return classes[one]
            return {"runner-up": "the runner-up", "other": "the labelled class or runner-up"}.get(
                one, f"the {one} class"
            )

        return name(self.of) + (f" rather than {name(self.against)}" if self.against is not None else "")

    def as_json(self) -> dict[str, Any]:
        return asdict(self) | {"layers": list(self.layers)}


NONE, SECOND = -1, -2


def _classes_of(whose: Whose, judged: EvaluatedRun) -> NDArray[np.int64]:
    """The class meant in each image; NONE where there is none, SECOND for a runner-up, whichever it is."""
    predicted, labels = judged.predicted.astype(np.int64), judged.labels.astype(np.int64)
    if whose == "predicted":
        return predicted
    if whose == "labelled":
        return labels
    if isinstance(whose, int):
        return np.full(len(predicted), whose, np.int64)
    ranked = (predicted >= 0) & judged.has_scores
    second = np.where(ranked, SECOND, NONE)
    return np.where((labels >= 0) & (labels != predicted), labels, second) if whose == "other" else second


def class_of(whose: Whose, judged: EvaluatedRun, image: int) -> int | None:
    """The class meant in one image, or None."""
    if whose == "predicted":
        k = int(judged.predicted[image])
    elif whose == "labelled" or (whose == "other" and judged.labels[image] not in (-1, judged.predicted[image])):
        k = int(judged.labels[image])
    elif whose in ("runner-up", "other"):
        if judged.predicted[image] < 0 or not judged.has_scores or len(judged.ranking(image)) < 2:
            return None
        k = int(judged.ranking(image)[1])
    else:
        assert isinstance(whose, int)
        k = whose
    return k if k >= 0 else None
