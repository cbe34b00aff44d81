"""A strain test of a run: what is to be done, doing it with progress and stop, and what it found."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.models.model import Model
from mivrat.core.pictures.distorting.kinds import Distortion, spelled_kind
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.straining.curves import MARGIN, StrainFigures, strain_figures
from mivrat.core.straining.strained import IN_BLOCK, StrainedImage, StrainWork

# What a model has answered before: by content and distortion, predicted class and confidence.
Known = Mapping[tuple[bytes, str], tuple[int, float]]


@dataclass(frozen=True)
class StrainPlan:
    """Everything that doing a strain test again takes: the images (positions in the set), the distortions, and the seed; ``selection`` says
    in words what the images are."""

    images: tuple[int, ...]
    strains: tuple[Distortion, ...]
    seed: int = 0
    selection: str = "all images"


def checked(strains: Sequence[Distortion]) -> tuple[Distortion, ...]:
    """The distortions without those at level 0, which are the run itself. InputError where a kind stands twice, or nothing is left."""
    found = tuple(one for one in strains if one.level != 0)
    if len({one.spelled for one in found}) < len(found):
        twice = next(one for one in found if sum(other.spelled == one.spelled for other in found) > 1)
        raise InputError("stands twice", where=spelled_kind(twice.kind, twice.given), hint="name each kind once")
    if not found:
        raise InputError(
            "there is nothing to do but what is untouched", where="strain", hint="name a level other than 0"
        )
    return found


class Sweep:
    """Scores the plan's images under each distortion. What ``known`` tells is not asked again; ``keep`` is given what was answered, block by
    block, with the kinds as ``spelled`` has them."""

    def __init__(
        self,
        judged: EvaluatedRun,
        image_set: ImageSet,
        model: Model | None,
        plan: StrainPlan,
        contents: Mapping[int, bytes] | None = None,
        known: Known | None = None,
        keep: Callable[[Sequence[tuple[bytes, str, int, float]]], object] = lambda rows: None,
        where: Where | None = None,
    ) -> None:
        """``contents`` are the hashes of files by position, as far as they have been read. Without a ``model`` it only tells what is known."""
        self.judged, self.image_set, self.model, self.plan = judged, image_set, model, plan
        self._keep, self._where = keep, where
        shape = len(plan.strains), len(plan.images)
        self.predicted, self.confidence = np.full(shape, -1, np.int32), np.full(shape, np.nan)
        self.problems: dict[int, str] = {}
        self._column = {image: m for m, image in enumerate(plan.images)}
        self._spelled = [spelled(one, plan.seed) for one in plan.strains]
        # By image the distortions that are still to be asked.
        self._left: dict[int, tuple[int, ...]] = {}
        for image in plan.images:
            content, left = (contents or {}).get(image), []
            for s, name in enumerate(self._spelled):
                answer = known.get((content, name)) if known and content is not None else None
                if answer is None:
                    left.append(s)
                else:
                    self._take(s, image, *answer)
            if left:
                self._left[image] = tuple(left)

    def _take(self, s: int, image: int, predicted: int, confidence: float) -> None:
        self.predicted[s, self._column[image]] = predicted
        self.confidence[s, self._column[image]] = confidence

    @property
    def complete(self) -> bool:
        """Whether every image has been tried under every distortion."""
        return not self._left

    @property
    def to_ask(self) -> int:
        """How many answers are still to be asked for."""
        return sum(map(len, self._left.values()))

    def run(self, threads: int = 0) -> Iterator[Progress]:
        """Score what is left, yielding progress after each block; every block is kept before it is told of."""
        total = len(self.plan.images) * len(self.plan.strains)
        model = self.model
        assert model is not None
        done = total - self.to_ask
        meter = Meter(total, done)
        yield meter.at(done)
        todo = list(self._left)
        remote = remote_of(model)
        if remote is not None and todo:
            remote.may_send(len(todo), self.to_ask)
        for found in self._blocks(model, todo, threads):
            rows = []
            for one in found:
                left = self._left.pop(one.image)
                done += len(left)
                if one.problem:
                    self.problems[one.image] = one.problem
                for s, predicted, confidence in zip(left, one.predicted.tolist(), one.confidence.tolist(), strict=True):
                    self._take(s, one.image, predicted, confidence)
                    if one.content is not None and predicted >= 0:
                        rows.append((one.content, self._spelled[s], predicted, confidence))
            self._keep(rows)
            yield meter.at(done)

    def _blocks(self, model: Model, todo: Sequence[int], threads: int) -> Iterator[list[StrainedImage]]:
        kind = self.judged.kind
        assert kind != "prediction", "a table of predictions answers for no other picture"

        def work_for(images: Sequence[int]) -> StrainWork:
            strains = {image: tuple(self.plan.strains[s] for s in self._left[image]) for image in images}
            return StrainWork(strains, kind, self.plan.seed)

        if self._where is not None:
            files = self.image_set.files()
            yield from self._where.work(files, todo, model, work_for, in_block=IN_BLOCK, threads=threads)
            return
        for first in range(0, len(todo), IN_BLOCK):
            if current_stop().stopped:
                return
            some = todo[first : first + IN_BLOCK]
            yield work_for(some).do(model, {image: self.image_set.file(image) for image in some}, threads)

    def figures(self, margin: float = MARGIN) -> StrainFigures:
        """What it found so far."""
        images = np.array(self.plan.images, np.int64)
        return strain_figures(self.judged, images, self.plan.strains, self.predicted, self.confidence, margin)

    def answered(self, image: int) -> NDArray[np.int32]:
        """An image's predicted classes under each distortion, -1 where there is none."""
        return self.predicted[:, self._column[image]]

    def confidences(self, image: int) -> NDArray[np.float64]:
        """How sure it is of these, NaN where there is none."""
        return self.confidence[:, self._column[image]]


# To be raised where a kind comes to do something else: answers kept before are then not taken for those of now.
_VERSION = 1


def spelled(one: Distortion, seed: int) -> str:
    """What a distorted picture is known by, beside its content: the distortion, the version of what it does, and the seed."""
    return f"{one.spelled}#{_VERSION}#{seed}"
