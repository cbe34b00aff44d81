"""The selection: conditions on images that are in force together, with a history to walk."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.answers import FAILED, UNREADABLE
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import Other
from mivrat.core.study.reviews import Reviews

Mask = NDArray[np.bool_]


class Condition(Protocol):
    """One condition: which images it keeps, how it reads, and ``kind``: two of one kind stand beside each other as *or*."""

    @property
    def kind(self) -> str: ...

    def mask(self, judged: EvaluatedRun) -> Mask: ...

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        """How it reads: what it is about, and its value."""
        ...

    def beside(self, other: Condition) -> Condition:
        """Both, as alternatives; ``other`` has the same kind."""
        ...


def _names(classes: Sequence[str], indices: Sequence[int]) -> str:
    return " or ".join(classes[i] for i in sorted(indices)) if len(indices) <= 3 else f"{len(indices)} classes"


@dataclass(frozen=True)
class Labelled:
    """The label is one of some classes."""

    classes: frozenset[int]
    kind: str = "labelled"

    def mask(self, judged: EvaluatedRun) -> Mask:
        return np.isin(judged.labels, list(self.classes))

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "labelled", _names(classes, list(self.classes))

    def beside(self, other: Condition) -> Condition:
        return Labelled(self.classes ^ other.classes) if isinstance(other, Labelled) else other


@dataclass(frozen=True)
class Predicted:
    """The prediction is one of some classes."""

    classes: frozenset[int]
    kind: str = "predicted"

    def mask(self, judged: EvaluatedRun) -> Mask:
        return np.isin(judged.predicted, list(self.classes))

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "predicted", _names(classes, list(self.classes))

    def beside(self, other: Condition) -> Condition:
        return Predicted(self.classes ^ other.classes) if isinstance(other, Predicted) else other


@dataclass(frozen=True)
class MatrixCells:
    """Label and prediction together are one of some cells (label, prediction) of the confusion matrix."""

    cells: frozenset[tuple[int, int]]
    kind: str = "cells"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        for label, predicted in self.cells:
            found |= (judged.labels == label) & (judged.predicted == predicted)
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        if len(self.cells) > 2:
            return "confusion", f"{len(self.cells)} cells"
        return "confusion", " or ".join(f"{classes[a]} → {classes[b]}" for a, b in sorted(self.cells))

    def beside(self, other: Condition) -> Condition:
        return MatrixCells(self.cells ^ other.cells) if isinstance(other, MatrixCells) else other


@dataclass(frozen=True)
class Outcome:
    """How the image came out: ``wrong``, ``right``, ``unlabelled``, ``unreadable`` or ``failed``."""

    which: frozenset[str]
    kind: str = "outcome"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        masks = {
            "wrong": judged.wrong,
            "right": judged.right,
            "unlabelled": judged.labels < 0,
            "unreadable": judged.state == UNREADABLE,
            "failed": judged.state == FAILED,
        }
        for which in self.which:
            found |= masks[which]
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "outcome", " or ".join(sorted(self.which))

    def beside(self, other: Condition) -> Condition:
        return Outcome(self.which ^ other.which) if isinstance(other, Outcome) else other


@dataclass(frozen=True)
class Confidence:
    """Confidence lies in (low, high]; from 0 on, 0 is included. Several ranges are alternatives."""

    ranges: frozenset[tuple[float, float]]
    kind: str = "confidence"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        for low, high in self.ranges:
            with np.errstate(invalid="ignore"):
                found |= ((judged.confidence > low) | ((low == 0) & (judged.confidence == 0))) & (
                    judged.confidence <= high
                )
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        if len(self.ranges) > 2:
            return "confidence", f"{len(self.ranges)} ranges"
        return "confidence", " or ".join(f"{low:.2f} – {high:.2f}" for low, high in sorted(self.ranges))

    def beside(self, other: Condition) -> Condition:
        return Confidence(self.ranges ^ other.ranges) if isinstance(other, Confidence) else other


@dataclass(frozen=True)
class About:
    """The image is called one of some classes, or labelled so."""

    classes: frozenset[int]
    kind: str = "about"

    def mask(self, judged: EvaluatedRun) -> Mask:
        return np.isin(judged.labels, list(self.classes)) | np.isin(judged.predicted, list(self.classes))

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "called or labelled", _names(classes, list(self.classes))

    def beside(self, other: Condition) -> Condition:
        return About(self.classes ^ other.classes) if isinstance(other, About) else other


@dataclass(frozen=True)
class Caused:
    """The image is put down to one of some causes."""

    causes: frozenset[int]
    reviews: Reviews = field(compare=False, repr=False)
    kind: str = "cause"

    def mask(self, judged: EvaluatedRun) -> Mask:
        return self.reviews.with_causes(len(judged.labels), self.causes)

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "cause", " or ".join(sorted(self.reviews.name_of(one) for one in self.causes))

    def beside(self, other: Condition) -> Condition:
        return Caused(self.causes ^ other.causes, self.reviews) if isinstance(other, Caused) else other


@dataclass(frozen=True)
class Reviewed:
    """What has been written down of the image: it is ``reviewed`` or ``not reviewed``, has a ``cause``, a ``note``, or
    ``another label``."""

    which: frozenset[str]
    reviews: Reviews = field(compare=False, repr=False)
    kind: str = "review"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        for which in self.which:
            found |= self.reviews.mask(len(judged.labels), which)
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "review", " or ".join(sorted(self.which))

    def beside(self, other: Condition) -> Condition:
        return Reviewed(self.which ^ other.which, self.reviews) if isinstance(other, Reviewed) else other


@dataclass
class OtherAnswers:
    """The other run's answers, while one is held against the run shown; None while none is. One object for as long as a study is
    open: conditions look into it."""

    other: Other | None = None


@dataclass(frozen=True)
class OutcomeOfBoth:
    """The image is in one of some states under both runs: see ``answers.other.STATES``. It keeps none while nothing is held."""

    which: frozenset[str]
    held: OtherAnswers = field(compare=False, repr=False)
    kind: str = "against"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        if self.held.other is not None and len(self.held.other.at) == len(found):
            for which in self.which:
                found |= self.held.other.mask(which)
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "", " or ".join(sorted(self.which))

    def beside(self, other: Condition) -> Condition:
        return OutcomeOfBoth(self.which ^ other.which, self.held) if isinstance(other, OutcomeOfBoth) else other


@dataclass(frozen=True)
class OtherPredicted:
    """The other run's prediction is one of some classes."""

    classes: frozenset[int]
    held: OtherAnswers = field(compare=False, repr=False)
    kind: str = "other predicted"

    def mask(self, judged: EvaluatedRun) -> Mask:
        other = self.held.other
        if other is None or len(other.at) != len(judged.labels):
            return np.zeros(len(judged.labels), bool)
        return np.isin(other.predicted, list(self.classes))

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "other predicted", _names(classes, list(self.classes))

    def beside(self, other: Condition) -> Condition:
        return OtherPredicted(self.classes ^ other.classes, self.held) if isinstance(other, OtherPredicted) else other


# Conditions that mean something only while another run is held against the one shown.
OF_BOTH = (OutcomeOfBoth, OtherPredicted)


@dataclass(frozen=True)
class Picked:
    """The image is one of a list that something else has drawn up, such as a check; ``positions`` in its order."""

    by: str
    positions: tuple[int, ...]
    kind: str = "picked"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        found[[i for i in self.positions if i < len(found)]] = True
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return "picked by", self.by

    def beside(self, other: Condition) -> Condition:
        if not isinstance(other, Picked) or other == self:
            return other
        return Picked(f"{self.by} or {other.by}", tuple(dict.fromkeys((*self.positions, *other.positions))))


@dataclass(frozen=True)
class InGroup:
    """The image belongs to one of some groups of a column; ``positions`` are the images of each."""

    column: str
    groups: frozenset[tuple[str, tuple[int, ...]]]

    @property
    def kind(self) -> str:
        return f"group of {self.column}"

    def mask(self, judged: EvaluatedRun) -> Mask:
        found = np.zeros(len(judged.labels), bool)
        for _, positions in self.groups:
            found[[i for i in positions if i < len(found)]] = True
        return found

    def words(self, classes: Sequence[str]) -> tuple[str, str]:
        return self.column, " or ".join(sorted(name for name, _ in self.groups))

    def beside(self, other: Condition) -> Condition:
        return InGroup(self.column, self.groups ^ other.groups) if isinstance(other, InGroup) else other


def _is_empty(condition: Condition) -> bool:
    return any(isinstance(value, frozenset) and not value for value in vars(condition).values())


# Kinds that say the same thing in two ways: setting one takes the others away.
_RIVALS = {
    "cells": {"labelled", "predicted", "other predicted", "outcome", "about"},
    "labelled": {"cells", "about"},
    "predicted": {"cells", "about", "other predicted"},
    "other predicted": {"cells", "about", "predicted"},
    "about": {"labelled", "predicted", "other predicted", "cells"},
    "outcome": {"cells"},
}

Conditions = tuple[Condition, ...]


@dataclass
class Selection:
    """The conditions in force and the history of earlier ones. It knows no images; ``mask`` is given them."""

    conditions: Conditions = ()
    _back: list[Conditions] = field(default_factory=list)
    _forward: list[Conditions] = field(default_factory=list)

    def mask(self, judged: EvaluatedRun) -> Mask:
        """The images (all listed ones without any condition) that meet every condition."""
        found = np.ones(len(judged.labels), bool)
        for condition in self.conditions:
            found &= condition.mask(judged)
        return found

    def _move(self, conditions: Conditions) -> None:
        if conditions != self.conditions:
            self._back.append(self.conditions)
            self._forward.clear()
            self.conditions = conditions

    def choose(self, *new: Condition, beside: bool = False) -> None:
        """Put just these conditions in force, so that what is shown is what they tell of; in force by themselves already: take
        them away.

        ``beside`` narrows what is shown by them instead; those of a kind in force are added as alternatives.
        """
        if not beside:
            self._move(() if self.is_just(new) else tuple(new))
            return
        found = list(self.conditions)
        for condition in new:
            found = [c for c in found if c.kind not in _RIVALS.get(condition.kind, ())]
            same = [i for i, c in enumerate(found) if c.kind == condition.kind]
            if same:
                found[same[0]] = found[same[0]].beside(condition)
            else:
                found.append(condition)
        self._move(tuple(c for c in found if not _is_empty(c)))

    def is_just(self, conditions: Sequence[Condition]) -> bool:
        """Whether these conditions are in force and no others."""
        return set(self.conditions) == set(conditions)

    def narrow(self, new: Sequence[Condition], judged: EvaluatedRun) -> None:
        """Keep of the images shown those that meet these conditions too; all of them in force already: take them away."""
        if new and all(condition in self.conditions for condition in new):
            self._move(tuple(c for c in self.conditions if c not in new))
            return
        both = (*self.conditions, *(c for c in new if c not in self.conditions))
        kinds = {c.kind for c in new}.union(*(_RIVALS.get(c.kind, set()) for c in new))
        tidy = (*(c for c in self.conditions if c.kind not in kinds), *new)
        # What says less in fewer words is taken only where it says the same of these images.
        same = np.array_equal(Selection(tidy).mask(judged), Selection(both).mask(judged))
        self._move(tidy if same else both)

    def replace(self, *conditions: Condition) -> None:
        """Put just these in force."""
        self._move(tuple(conditions))

    def remove(self, condition: Condition) -> None:
        self._move(tuple(c for c in self.conditions if c != condition))

    def remove_last(self) -> None:
        self._move(self.conditions[:-1])

    def forget(self, kind: type[Condition]) -> None:
        """Take conditions of a kind out, of the history too: they mean nothing any more."""

        def without(conditions: Conditions) -> Conditions:
            return tuple(c for c in conditions if not isinstance(c, kind))

        self.conditions = without(self.conditions)
        self._back[:] = [without(one) for one in self._back]
        self._forward[:] = [without(one) for one in self._forward]

    def begin_with(self, conditions: Conditions) -> None:
        """Put these in force without a history."""
        self.conditions = conditions
        self._back.clear()
        self._forward.clear()

    def clear(self) -> None:
        self._move(())

    @property
    def can_go_back(self) -> bool:
        return bool(self._back)

    @property
    def can_go_forward(self) -> bool:
        return bool(self._forward)

    def back(self) -> None:
        if self._back:
            self._forward.append(self.conditions)
            self.conditions = self._back.pop()

    def forward(self) -> None:
        if self._forward:
            self._back.append(self.conditions)
            self.conditions = self._forward.pop()
