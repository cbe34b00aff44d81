"""A share in a selection given by rule: which images it is of, which of them show what was found, and what it is held against."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import in_a_row, in_sentence
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Beside, Measure
from mivrat.core.figures.groups import group_names
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.selecting.kept import as_data, from_data
from mivrat.core.selecting.ordering import columns_to_group_by
from mivrat.core.selecting.ranges import InRange
from mivrat.core.selecting.selection import (
    OF_BOTH,
    About,
    Caused,
    Condition,
    InGroup,
    Labelled,
    MatrixCells,
    Outcome,
    Picked,
    Predicted,
    Reviewed,
)

Mask = NDArray[np.bool_]
# By so many of the first images the groups of columns are counted: it is asked for on the main thread.
SEEN = 5_000
# Ranges are mostly quarters.
QUARTERS = 4
# What is known of an image whatever a model answers.
_WHERE = (Labelled, InGroup, InRange, Caused, Reviewed)


@dataclass(frozen=True)
class Share:
    """``event`` of the images of ``base``, both masks; ``rest`` and ``rest_event`` are the other images it can be compared with;
    ``of`` and ``what`` say both in words; ``bad`` is -1 where more of it is better."""

    base: Mask
    event: Mask
    rest: Mask
    rest_event: Mask
    of: str
    what: str
    bad: int = 1


def refused(conditions: Sequence[Condition]) -> str:
    """Why a selection is no rule that another run can be asked by; empty where it is one."""
    for one in conditions:
        if isinstance(one, Picked):
            return (
                f"This selection is a list of images (picked by {one.by}), not a rule: another model could not be asked by it. "
                "Give them a cause (keys 1 to 9) and select that cause, or select by label, prediction or group."
            )
        if isinstance(one, OF_BOTH):
            return "This selection speaks of two runs. Add the difference itself (under Compare), or select by one run alone."
    return ""


def looks_of(conditions: Sequence[Condition], ground: EvaluationContext) -> int:
    """Of how many selections alike this one may have been chosen for what it shows: the classes or pairs of classes of the list, and the
    groups of all columns. What was chosen as the most striking of many is partly striking by chance."""
    figures, items = ground.snapshot.figures, ground.snapshot.record.image_set.items
    labelled, called = (
        max(1, sum(bool(n) for n in (getattr(one, name) for one in figures.classes)))
        for name in ("support", "predicted")
    )
    looks = 1
    if any(isinstance(one, MatrixCells) for one in conditions):
        looks *= labelled * max(1, called - 1)
    else:
        by_label = any(isinstance(one, Labelled) for one in conditions)
        by_answer = any(isinstance(one, Predicted) for one in conditions)
        looks *= (labelled if by_label else 1) * (max(1, called - by_label) if by_answer else 1)
    if any(isinstance(one, InGroup) for one in conditions):
        names = columns_to_group_by(items)
        looks *= max(1, sum(len(set(group_names(column_of(items, name, SEEN)))) for name in names))
    ranges = sum(isinstance(one, InRange) for one in conditions)
    if ranges:
        looks *= QUARTERS * max(1, len(ground.measures.names))
    return looks


def written(conditions: Sequence[Condition], ground: EvaluationContext) -> tuple[dict[str, Any], ...]:
    """Conditions as a claim keeps them."""
    return tuple(as_data(one, ground.classes, ground.names) for one in conditions)


def read(conditions: Sequence[Any], ground: EvaluationContext) -> tuple[Condition, ...]:
    """The conditions that a claim keeps, for a run. InputError where they do not fit it."""
    record = ground.snapshot.record
    try:
        return tuple(
            from_data(
                one, ground.classes, record.image_set.items, ground.names, ground.reviews, measures=ground.measures
            )
            for one in conditions
        )
    except (KeyError, ValueError, TypeError, AttributeError, IndexError, OverflowError, RecursionError) as error:
        raise InputError(
            f"the rule does not fit these images and classes ({error})",
            hint="it names a class, a group or a property that is not there",
        ) from error


def _all(conditions: Sequence[Condition], judged: EvaluatedRun) -> Mask:
    found = np.ones(len(judged.labels), bool)
    for one in conditions:
        found &= one.mask(judged)
    return found


def share_of(conditions: Sequence[Condition], ground: EvaluationContext) -> Share:
    """The share that a selection tells of.

    What is known of an image before a model answers (label, group, cause, review) says which images it is of; what the model
    answers (predicted, confidence, wrong) is what happens to them. Without an answer among the conditions it is the share wrong;
    without anything else, the share of those so answered that is wrong.
    """
    judged, classes = ground.snapshot.judged, ground.classes
    evaluated, wrong = judged.evaluated, judged.wrong
    cells = [one for one in conditions if isinstance(one, MatrixCells)]
    where = [one for one in conditions if isinstance(one, _WHERE)]
    where += [Labelled(frozenset(a for a, _ in one.cells)) for one in cells]
    answers = [one for one in conditions if not isinstance(one, _WHERE)]
    outcome = [one for one in answers if isinstance(one, Outcome)]
    unanswered = any(one.which & {"unlabelled", "unreadable", "failed"} for one in outcome)
    known = np.ones(len(evaluated), bool) if unanswered else evaluated
    of = "; ".join(_words(one, classes) for one in where) or "all images"
    if where and answers:
        base, event = known & _all(where, judged), _all(answers, judged)
        what = "; ".join(_answer(one, classes) for one in answers)
    elif where or not answers:
        base, event, what = evaluated & _all(where, judged), wrong, "wrong"
    else:
        others = [one for one in answers if not isinstance(one, Outcome)]
        base, event = known & _all(others, judged), _all(outcome, judged) if outcome else wrong
        of = "; ".join(_words(one, classes) for one in others) or "all images"
        what = "; ".join(_answer(one, classes) for one in outcome) or "wrong"
    called = frozenset(b for one in cells for _, b in one.cells).union(
        *(one.classes for one in answers if isinstance(one, Predicted | About))
    )
    rest, rest_event = known & ~base, event
    if where and called:
        # How often the other images, not of these classes themselves, are called so.
        rest = rest & ~np.isin(judged.labels, list(called))
        others = [Predicted(called), *(one for one in answers if not isinstance(one, MatrixCells | Predicted | About))]
        rest_event = _all(others, judged)
    right_only = bool(outcome) and all(one.which == {"right"} for one in outcome)
    return Share(base, base & event, rest, rest & rest_event, of, what, -1 if right_only else 1)


def _words(one: Condition, classes: Sequence[str]) -> str:
    kind, value = one.words(classes)
    return f"{kind} {value}".strip()


def _answer(one: Condition, classes: Sequence[str]) -> str:
    if isinstance(one, Outcome):
        return in_a_row(sorted(one.which))
    if isinstance(one, MatrixCells):
        return f"predicted {in_sentence([classes[k] for k in sorted({b for _, b in one.cells})])}"
    return _words(one, classes)


def measured_share(conditions: Sequence[Condition], ground: EvaluationContext) -> Measure:
    """What a share comes to under a run, beside that of the other images."""
    judged = ground.snapshot.judged
    found = share_of(conditions, ground)
    share, rest = judged.share(found.event, found.base), judged.share(found.rest_event, found.rest)
    beside = None
    if rest.total:
        beside = Beside("the other images", rest.value, rest.low, rest.high, rest.hits, rest.total)
    words = f"{found.what}, of images {found.of}" if found.of != "all images" else f"{found.what}, of all images"
    problem = "" if share.total else f"this set has no images {found.of}"
    return Measure(
        words, share.value, share.low, share.high, share.hits, share.total, found.bad, beside=beside, problem=problem
    )
