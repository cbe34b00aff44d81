"""Criteria checked on a run: met, missed, or inconclusive, and then how many more images are needed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped
from mivrat.core.base.text import count, in_a_row
from mivrat.core.comparing.comparison import Comparison
from mivrat.core.comparing.holding import hold, names_of
from mivrat.core.concluding.criterion_words import images_in_words
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.requirements import Requirement, RequirementOutcome, parse_criterion
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.ranked import RANKED
from mivrat.core.figures.sample_size import MOST, best_mix, to_decide, to_decide_mean
from mivrat.core.figures.uncertainty import NAMES
from mivrat.core.running.set_valued import SetPlan, at_last, own_sets


def outcome_of(text: str, ground: EvaluationContext) -> RequirementOutcome:
    """One criterion held against a run; where it cannot be asked of it, an outcome that says why."""
    try:
        return hold_requirement(parse_criterion(text, ground.classes), ground)
    except InputError as error:
        return RequirementOutcome(text, None, False, problem=error.what)


def hold_requirement(wanted: Requirement, ground: EvaluationContext) -> RequirementOutcome:
    """A requirement held against a run. InputError where the run cannot be asked for that figure."""
    if wanted.of_difference:
        return _difference(wanted, ground)
    judged = ground.snapshot.judged
    if wanted.level is not None:
        return _coverage(wanted, wanted.level, ground)
    among = ground.of_groups(wanted.groups) if wanted.groups else None
    if wanted.ranges:
        within = ground.of_ranges(wanted.ranges)
        among = within if among is None else among & within
    use = judged.evaluated_among(among)
    if wanted.family is not None:
        members = ground.of_family(wanted.family)
        labelled, called = np.isin(judged.labels, members), np.isin(judged.predicted, members)
        if wanted.figure == "support":
            total = int((use & labelled).sum())
            return wanted.of_share(Proportion(total, total, float(total), float(total), float(total)))
        hits, of = (called, labelled) if wanted.figure == "recall" else (labelled, called)
        return wanted.of_share(judged.share(hits, use & of))
    if wanted.figure == "family_accuracy":
        if not ground.snapshot.record.families:
            raise InputError("the study has no families of classes", hint="enter them under Prepare, Classes")
        return wanted.of_share(judged.within_family(ground.snapshot.record.families, among))
    if among is not None or (
        wanted.figure.startswith("top") and int(wanted.figure[3:]) not in ground.snapshot.figures.top_k
    ):
        ks = [int(wanted.figure[3:])] if wanted.figure.startswith("top") else [1]
        if ks[0] > judged.classes:
            raise InputError(f"there are only {judged.classes} classes", hint="ask for top-1 to that number")
        return wanted.against(judged.figures(ks, among, wanted.figure in RANKED))
    figures = ground.ranked if wanted.figure in RANKED else ground.snapshot.figures
    return wanted.against(figures, ground.intervals if wanted.figure in NAMES else None)


def _coverage(wanted: Requirement, level: float, ground: EvaluationContext) -> RequirementOutcome:
    """How many prediction sets hold the label: of the least ambiguous classes, one threshold for all, out of fold."""
    snapshot = ground.snapshot
    found = at_last(own_sets(snapshot.record, snapshot.judged, SetPlan(level)))
    if found is None:
        raise Stopped
    return wanted.of_share(found.coverage)


def compared(ground: EvaluationContext, reference: str) -> Comparison:
    """This run held against the run of the model that a reference names, on the same images: the difference is this run's figure less
    that one's. InputError where there is none."""
    name = reference.rpartition("#")[0]
    if ground.is_model(reference):
        raise InputError(f"{name} is this very model", hint="name another one")
    other = ground.other(reference)
    if other is None:
        raise InputError(f"{name} has no run on these images", hint="score these images with it first, under Prepare")
    held = hold(other, ground.snapshot, names_of(other, ground.snapshot))
    if held.on_images is None:
        raise InputError(f"{name} has no run on these images", hint="score these images with it first, under Prepare")
    found = held.on_images.compare()
    return held.on_images.deepen(found) or found


def _difference(wanted: Requirement, ground: EvaluationContext) -> RequirementOutcome:
    return wanted.against_difference(compared(ground, wanted.against_model))


@dataclass(frozen=True)
class Criterion:
    """A criterion as it stands under a run; ``more`` says what it would take to tell, where that cannot be told."""

    outcome: RequirementOutcome
    more: str = ""


def criteria_of(texts: Sequence[str], ground: EvaluationContext) -> tuple[Criterion, ...]:
    """Criteria held against a run, each with what it would take."""
    found = []
    for text in texts:
        outcome = outcome_of(text, ground)
        found.append(Criterion(outcome, what_it_takes(outcome, ground)))
    return tuple(found)


def what_it_takes(outcome: RequirementOutcome, ground: EvaluationContext) -> str:
    """How many more images, and of which kind, it would take to tell whether a criterion is met, in words; empty where it is told, or
    nothing can be said."""
    if outcome.verdict != "inconclusive" or outcome.problem:
        return ""
    wanted = parse_criterion(outcome.text, ground.classes)
    if outcome.value is None or wanted.bound is not None:
        return ""
    if wanted.every:
        return _for_every(wanted, ground)
    if outcome.low is None or outcome.high is None:
        return "This figure has no interval, so nothing is known beyond the figure itself."
    share = outcome.share
    if share is not None and share.units is None:
        total, needed, about = share.total, to_decide(outcome.value, wanted.limit), ""
    else:
        total = share.total if share is not None else ground.snapshot.figures.total
        needed, about = to_decide_mean(outcome.value, outcome.low, outcome.high, wanted.limit, total), "about "
    if needed is None:
        if outcome.value == wanted.limit:
            return "It stands just on the limit: no number of images would tell if it stays there."
        return f"Too near the limit: more than {count(MOST)} images would be needed."
    more = max(1, needed - total)
    what = "more image" if more == 1 else "more images"
    told = f"{about}{count(more)} {what} {_of_which(wanted, ground)}"
    if (
        wanted.figure == "balanced_accuracy"
        and not (wanted.groups or wanted.ranges)
        and (mix := _best_mix(ground, total / needed))
    ):
        told = f"{mix}; or {told}"
    return f"{told} would be enough, with a chance of 80 %, if it stays at this figure. Decide once, at that number: looking again as they come in makes false verdicts more frequent."


def _for_every(wanted: Requirement, ground: EvaluationContext) -> str:
    """How many more images of which classes it would take to tell whether every class is above a limit."""
    kind, needed = {"recall": "labelled", "precision": "predicted"}[wanted.figure], []
    for name, one in zip(ground.classes, ground.snapshot.figures.classes, strict=True):
        share: Proportion = getattr(one, wanted.figure)
        if share.value is None or share.low is None or share.high is None or not share.low < wanted.limit <= share.high:
            continue
        worth = (share.effective or share.total) / share.total
        enough = to_decide(share.value, wanted.limit, worth)
        needed.append((None if enough is None else max(1, enough - share.total), name))
    told = [f"{count(n)} {kind} {name}" for n, name in sorted((n, name) for n, name in needed if n is not None)[-4:]]
    near = [name for n, name in needed if n is None]
    parts = []
    if told:
        others = len(needed) - len(near) - len(told)
        more = f", fewer for {others} other classes" if others > 0 else ""
        parts.append(
            f"about {in_a_row(told)} more{more} would decide each of them, with a chance of 80 %, if they stay at these figures"
        )
    if near:
        parts.append(
            f"{in_a_row(near) if len(near) <= 4 else f'{len(near)} classes'} {'is' if len(near) == 1 else 'are'} too near the limit for any number of images"
        )
    text = "; ".join(parts)
    return f"{text[:1].upper()}{text[1:]}." if text else ""


def _best_mix(ground: EvaluationContext, shrink: float) -> str:
    """The fewest further images that narrow the interval as much, by class, in words; empty where that takes too many."""
    classes = ground.snapshot.figures.classes
    if any(not one.support for one in classes):
        return ""
    more = best_mix(
        np.array([one.support for one in classes]), np.array([one.true_positive for one in classes]), shrink
    )
    if more is None or not more.any():
        return ""
    order = sorted(np.flatnonzero(more).tolist(), key=lambda k: -more[k])
    named = [f"{count(int(more[k]))} {ground.classes[k]}" for k in order[:4]]
    others = int(more[order[4:]].sum())
    listed = in_a_row([*named, *([f"{count(others)} of other classes"] if others else [])])
    return f"about {count(int(more.sum()))} more images, chosen by label ({listed})"


def _of_which(wanted: Requirement, ground: EvaluationContext) -> str:
    name = ground.classes[wanted.class_index] if wanted.class_index is not None else ""
    name = f"the family {wanted.family}" if wanted.family is not None else name
    kinds = {"recall": f"labelled {name}", "precision": f"predicted {name}", "specificity": f"not labelled {name}"}
    told = kinds.get(wanted.figure, "") if name else ""
    where = in_a_row(images_in_words(wanted))
    told = told or ("mixed as these are" if not where else "")
    return " ".join(part for part in (told, f"from {where}" if where else "") if part)
