"""Criteria in plain words: a requirement told as a sentence, and a sentence read as a requirement."""

from __future__ import annotations

import re
from collections.abc import Sequence
from math import isfinite

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.base.text import count, in_a_row, minus
from mivrat.core.concluding.requirements import (
    PER_CLASS,
    Requirement,
    RequirementOutcome,
    parse_criterion,
    quoted,
)
from mivrat.core.figures.metrics import METRICS, metric
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.selecting.ranges import InRange, range_text
from mivrat.core.selecting.selection import Condition, InGroup, Labelled, Predicted

_SIGNS = {">=": "at least", "<=": "at most", ">": "above", "<": "below", "==": "exactly"}


# --- told ---


def in_plain_words(wanted: Requirement, classes: Sequence[str]) -> str:
    """A requirement as a sentence without a verb: "Recall of ragweed at least 80 %"."""
    figure = metric(wanted.figure).name
    told = figure
    if wanted.level is not None:
        told += f" of {100 * wanted.level:.6g} %"
    if wanted.every:
        told += " of every class"
    elif wanted.class_index is not None:
        told += f" of {classes[wanted.class_index]}"
    elif wanted.family is not None:
        told += f" of the family {wanted.family}"
    if some := images_in_words(wanted, "is "):
        told += f" where {in_a_row(some)}"
    if wanted.of_difference:
        name = wanted.against_model.rpartition("#")[0]
        told = f"Difference in {figure if figure.startswith('F1') else figure[:1].lower() + figure[1:]}{told[len(figure) :]}"
        told += f" to {name}" if name else ""
    if wanted.bound:
        told += f", {'lower' if wanted.bound == 'low' else 'upper'} end of its interval,"
    return f"{told} {_SIGNS[wanted.compare]} {_limit(wanted)}"


def images_in_words(wanted: Requirement, verb: str = "") -> list[str]:
    """Of which images a requirement is, each group and each range by itself; nothing for all images."""
    groups = [f"{column} {verb}{value}" for column, value in wanted.groups]
    return groups + [f"{name} {verb}{range_text(name, low, high)}" for name, low, high in wanted.ranges]


def _limit(wanted: Requirement) -> str:
    value = wanted.limit
    unit = metric(wanted.figure).unit
    if unit == "images" and value.is_integer():
        return count(int(value))
    if unit in ("images", "number"):
        return minus(f"{value:g}")
    shown = minus(f"{100 * value:.6g}")
    return f"{shown} point{'' if shown in ('1', minus('-1')) else 's'}" if wanted.of_difference else f"{shown} %"


def figure_in_words(wanted: Requirement, found: RequirementOutcome, classes: Sequence[str]) -> str:
    """What a requirement's figure comes to, with its interval and what it is of: "50.0 % (33.2 – 66.8), N = 24"."""
    if found.value is None:
        return found.problem or "undefined"
    value, ends = found.value, (found.low, found.high)
    unit = metric(wanted.figure).unit
    number = unit in ("images", "number")
    if unit == "images":
        return count(round(value))
    if wanted.of_difference and not number:
        told = minus(f"{100 * value:+.1f} points")
    else:
        told = minus(f"{value:.3f}") if number else percent(value)
    if ends[0] is not None and ends[1] is not None and ends[0] != ends[1]:
        scale, places = (1, 3) if number else (100, 1)
        told += f" ({minus(f'{scale * ends[0]:.{places}f}')} – {minus(f'{scale * ends[1]:.{places}f}')})"
    of = f", N = {count(found.images)}" if found.images is not None else ""
    lowest = f" ({classes[found.lowest]}, the lowest)" if found.lowest is not None else ""
    return f"{told}{of}{lowest}{f'; {found.problem}' if found.problem else ''}"


def criterion_of(conditions: Sequence[Condition], classes: Sequence[str], limit: float) -> str | None:
    """That so many of the images which meet conditions are right, as the text of a criterion; None where no criterion says that."""
    figure, inside = "top1", list[str]()
    for one in conditions:
        match one:
            case Labelled() | Predicted() if len(one.classes) == 1 and figure == "top1":
                figure = "recall" if isinstance(one, Labelled) else "precision"
                inside.insert(0, quoted(classes[next(iter(one.classes))]))
            case InGroup() if len(one.groups) == 1:
                inside += [f"{quoted(one.column)} = {quoted(name)}" for name, _ in one.groups]
            case InRange() if len(one.ranges) == 1:
                ((low, high),) = one.ranges
                if isfinite(low):
                    inside.append(f"{quoted(one.name)} > {low!r}")
                if isfinite(high):
                    inside.append(f"{quoted(one.name)} <= {high!r}")
            case _:
                return None
    return f"{figure}[{', '.join(inside)}] >= {limit:g}" if inside else None


# --- read ---

_WORDS = {
    **dict.fromkeys(("at least", "no less than"), ">="),
    **dict.fromkeys(("at most", "no more than"), "<="),
    **dict.fromkeys(("more than", "above", "over"), ">"),
    **dict.fromkeys(("less than", "below", "under"), "<"),
}
_OVERALL = (
    *("of all", "all", "right", "of all right", "right of all", "of all images", "of all images right", "accuracy"),
    *("of all correct", "correct", "top1", "top 1", "top-1", "top-1 accuracy", "top 1 accuracy"),
)
_SIGN = "|".join([*_WORDS, ">=", "<=", "≥", "≤", ">", "<"])
_NUMBER = r"(?P<number>[-−]?\d+(?:[.,]\d+)?)\s*(?P<percent>%|per ?cent|points?)?"
# "recall of ragweed at least 90 %", "95 % of all right", "at most 5 % ECE"
_LAST = re.compile(rf"(?P<what>.+?)\s*(?:(?:is|are)\s+)?(?P<sign>{_SIGN})?\s*(?<![\w.,]){_NUMBER}\s*", re.IGNORECASE)
_FIRST = re.compile(rf"(?P<sign>{_SIGN})?\s*{_NUMBER}\s+(?P<what>.+)", re.IGNORECASE)
_NAMES = {
    **{
        name.lower(): one.key
        for one in METRICS
        for name in (one.name, one.short or one.name, one.key.replace("_", " "))
    },
    "calibration error": "ece",
    "kappa": "cohen_kappa",
    "f1 score": "f1",
    "number of images": "evaluated",
    **dict.fromkeys(_OVERALL, "top1"),
}
_OF_CLASS = (
    "recall",
    "precision",
    "specificity",
    "f1",
    "f1 score",
    "auroc",
    "average precision",
    "number of images",
    "support",
)
_EVERY = ("every class", "each class", "all classes", "any class", "the worst class")


def read_criterion(text: str, classes: Sequence[str]) -> str:
    """What somebody typed as the text of a criterion: a formula as it is, a sentence ("95 % of all", "recall of ragweed 90 %", "every
    class at least 80 %") as the formula it means. InputError, that of the formula, where it is neither."""
    try:
        parse_criterion(text, classes)
        return text
    except InputError:
        read = _read(" ".join(text.split()), classes)
        if read is None:
            raise
        return read


def _read(text: str, classes: Sequence[str]) -> str | None:
    for form in (_LAST, _FIRST):
        found = form.fullmatch(text)
        figure = _figure(found["what"].strip().rstrip(":"), classes) if found is not None else None
        if found is not None and figure is not None:
            return _written(figure, found["sign"], found["number"], found["percent"])
    return None


def _written(figure: str, said: str | None, number: str, percent_sign: str | None) -> str | None:
    name = re.split(r"[\[(]", figure.removeprefix("every("))[0].rstrip(")")
    sign = (said or "").lower()
    sign = {"≥": ">=", "≤": "<="}.get(sign, _WORDS.get(sign, sign)) or ("<=" if metric(name).lower_is_better else ">=")
    value = float(number.replace(",", ".").replace("−", "-"))
    # A share of more than 1 can only be in percent.
    if percent_sign or (metric(name).in_percent and abs(value) > 1):
        value = round(value / 100, 12)
    return f"{figure} {sign} {value:g}" if abs(value) < 1e5 else None


def _figure(what: str, classes: Sequence[str]) -> str | None:
    """The figure that some words name, as a formula has it; None where they name none."""
    plain = what.lower()
    sets = re.fullmatch(r"coverage(?: of prediction sets)?(?: of| at)? (\d+(?:\.\d+)?) ?%", plain)
    if sets:
        return f"coverage({float(sets[1]) / 100:.10g})"
    top = re.fullmatch(r"top[ -]?(\d{1,5})(?: accuracy)?", plain)
    if top:
        return f"top{top[1]}"
    key = _NAMES.get(plain)
    if key is not None and key not in PER_CLASS:
        return key
    if plain in _EVERY:
        return "every(recall)"
    for name in _OF_CLASS:
        rest = named = next(
            (what[len(name) + len(of) :] for of in (" of ", " for ") if plain.startswith(name + of)), None
        )
        if rest is None and plain.endswith(f" {name}"):
            rest = what[: -len(name) - 1]
        if rest is None:
            continue
        key = "support" if name == "number of images" else _NAMES[name]
        if rest.lower() in _EVERY:
            return f"every({key})"
        at = ClassMatcher(classes).index(rest)
        if at is None and named:
            raise InputError(
                f"{what!r} names {rest!r}, which is not a class",
                where="criterion",
                hint="use a name from the class list, or 'every class'",
            )
        if at is not None:
            return f"{key}[{quoted(classes[at])}]"
    return None
