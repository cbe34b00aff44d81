"""Which map is wanted of each image: the method, the layers, and whose evidence."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

from mivrat.core.evidence.maps import Method, Target
from mivrat.core.running.answers import Judged

# Whose evidence: a class, or the one that is predicted, labelled, or second in the ranking, image by image.
Whose = int | Literal["predicted", "labelled", "runner-up"]


@dataclass(frozen=True)
class MapSetup:
    """``layers`` are tensor names, several of them put together; none stands for the default. ``against``: rather than whom."""

    method: Method = "gradient"
    layers: tuple[str, ...] = ()
    of: Whose = "predicted"
    against: Whose | None = None

    def target(self, judged: Judged, image: int) -> Target | None:
        """The target of one image; None where it has no such class, or the two are one."""
        of = class_of(self.of, judged, image)
        against = None if self.against is None else class_of(self.against, judged, image)
        if of is None or (self.against is not None and (against is None or against == of)):
            return None
        return Target(of, against)

    def in_words(self, classes: list[str]) -> str:
        """Whose evidence, in words."""

        def name(one: Whose) -> str:
            return classes[one] if isinstance(one, int) else f"the {one} class"

        return name(self.of) + (f" rather than {name(self.against)}" if self.against is not None else "")

    def as_json(self) -> dict[str, Any]:
        return asdict(self) | {"layers": list(self.layers)}


def class_of(whose: Whose, judged: Judged, image: int) -> int | None:
    """The class meant in one image, or None."""
    if whose == "predicted":
        k = int(judged.predicted[image])
    elif whose == "labelled":
        k = int(judged.labels[image])
    elif whose == "runner-up":
        if judged.predicted[image] < 0 or not judged.has_scores or len(judged.ranking(image)) < 2:
            return None
        k = int(judged.ranking(image)[1])
    else:
        k = whose
    return k if k >= 0 else None
