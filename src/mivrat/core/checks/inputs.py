"""What the checks look at: an image set, and as far as there are any a model, its answers, and training images."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import SCORED
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.checks.copies import FoundCopies
from mivrat.core.checks.survey import ContentFacts, Surveyed
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.pictures.decode import Stamp
from mivrat.core.pictures.image_sets import ImageSet


@dataclass
class Inputs:
    """Everything the checks may use; the surveys are filled by the first check that needs them, by the set's use.

    ``others`` are the other held-out images of the study; ``near`` holds the near copies found within the set (``within``), and
    between it and another (``others``, ``training``).

    ``stamps`` tells what files were when they were scored, ``reasons`` why images could not be. ``judged`` holds answers
    for some or all images; ``aside`` are labels that were put aside by hand as standing for no class. ``fresh`` collects
    facts by content as pictures are surveyed, so that a survey that is stopped is not for nothing. ``model_problem`` says
    why a model that should be there cannot be used; ``remote`` is a model that is asked over the network.
    """

    classes: list[str]
    image_set: ImageSet
    model: OnnxModel | None = None
    model_problem: str = ""
    judged: EvaluatedRun | None = None
    training: ImageSet | None = None
    stamps: Mapping[int, Stamp] = field(default_factory=dict)
    aside: frozenset[str] = frozenset()
    seed: int = 0
    survey: list[Surveyed] | None = None
    training_survey: list[Surveyed] | None = None
    others_survey: list[Surveyed] | None = None
    near: dict[str, FoundCopies] = field(default_factory=dict)
    fresh: dict[bytes, ContentFacts] = field(default_factory=dict)
    remote: ServiceModel | None = None
    references: ImageSet | None = None
    others: ImageSet | None = None

    @property
    def labels(self) -> NDArray[np.int64]:
        """The class index of each image, -1 without one."""
        return self.image_set.labels

    @property
    def answered(self) -> NDArray[np.int64]:
        """Positions of the images with an answer."""
        return np.flatnonzero(self.judged.state == SCORED) if self.judged is not None else np.zeros(0, np.int64)
