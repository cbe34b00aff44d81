"""Requirements on figures, such as ``low(top1) >= 0.9``, ``recall["ragweed"] >= 0.8``, ``recall[family = "trees"] >= 0.9`` or
``top1[station = "north"] >= 0.85``, ``every(recall) >= 0.8`` or ``coverage(0.9) >= 0.9``: parsed, never evaluated as code."""

from __future__ import annotations

import json
import operator
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import inf, isfinite
from typing import Literal

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.comparison import Comparison
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion, lowest_of
from mivrat.core.figures.metrics import COVERAGE, METRICS, OVER_CLASSES, metric
from mivrat.core.figures.ranked import RANKED
from mivrat.core.figures.summary import Figures
from mivrat.core.figures.uncertainty import NAMES, Intervals, without_images
from mivrat.core.pictures.classes import ClassMatcher

_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", re.ASCII)
# No class name is longer, and no number either.
_LONGEST, _LONGEST_NUMBER = 10_000, 40
# So many letters of a model's hash stand for it in a requirement.
REFERENCE = 16
_OPERATORS: dict[str, Callable[[float, float], bool]] = {
    ">=": operator.ge,
    "<=": operator.le,
    "==": operator.eq,
    ">": operator.gt,
    "<": operator.lt,
}
PER_CLASS = tuple(one.key for one in METRICS if one.of_class is not None)
# Figures of all images, those whose difference of two runs is computed, and those that can be asked of a family or of every class.
_WHOLE = tuple(one.key for one in METRICS if one.of_class is None)
_DIFFERENT = tuple(one.key for one in METRICS if one.compared and one.of_class is None)
_DIFFERENT_BY_CLASS = tuple(one.key for one in METRICS if one.compared and one.of_class is not None)
_OF_FAMILY = tuple(one.key for one in METRICS if one.of_family)
_OF_EVERY = tuple(one.key for one in METRICS if one.of_every)
_SHARES = ("precision", "recall", "specificity", "f1", "family_accuracy")


Verdict = Literal["met", "missed", "inconclusive"]


def as_written(verdict: str) -> str:
    """A verdict as the JSON files have spelled it since their first version, for the programs that read them."""
    return "cannot tell" if verdict == "inconclusive" else verdict


@dataclass(frozen=True)
class RequirementOutcome:
    """One requirement held against the figures; ``value`` is None where the figure is undefined, and then it does not hold.

    ``verdict`` asks more than ``holds``: whether it still does at either end of the figure's 95 % interval; where the ends
    disagree, it is inconclusive.
    """

    text: str
    value: float | None
    holds: bool
    low: float | None = None
    high: float | None = None
    verdict: Verdict = "inconclusive"
    # How many images it is of, which of them where it is a share of images, and why it could not be asked, where it could not.
    images: int | None = None
    share: Proportion | None = None
    problem: str = ""
    # The class that it comes down to, by its index, where it is asked of every class.
    lowest: int | None = None

    def sentence(self) -> str:
        shown = "undefined" if self.value is None else f"{self.value:.6g}"
        return f"{'holds' if self.holds else 'DOES NOT HOLD'}: {self.text} (figure: {shown})"


@dataclass(frozen=True)
class Requirement:
    """A parsed requirement: a figure, perhaps its interval's bound, compared with a limit.

    ``family`` asks for the figure of a family of classes, ``groups`` (column, value) for that of the images of some groups, ``ranges``
    (name, low, high; above the low end, up to the high one) for that of the images with a number there;
    ``against_model`` names the model, as ``reference_text`` writes it, that a difference is to; ``every`` asks for the figure of each
    class, down to the lowest; ``level`` is that of the prediction sets whose coverage is asked for.
    """

    text: str
    figure: str
    class_index: int | None
    bound: str | None
    compare: str
    limit: float
    of_difference: bool = False
    family: str | None = None
    groups: tuple[tuple[str, str], ...] = ()
    against_model: str = ""
    every: bool = False
    level: float | None = None
    ranges: tuple[tuple[str, float, float], ...] = ()

    @property
    def of_all_images(self) -> bool:
        """Whether it is of a figure that every run has over all images."""
        some = self.groups or self.ranges or self.family is not None
        return not (some or self.of_difference or self.level is not None)

    @property
    def plain(self) -> bool:
        """Whether it is of such a figure itself."""
        return self.of_all_images and not (self.bound or self.every)

    @property
    def at_most(self) -> bool:
        """Whether less is better."""
        return self.compare in ("<=", "<")

    def against_difference(self, found: Comparison) -> RequirementOutcome:
        """Hold it against the difference of two runs."""
        one = self._difference(found)
        value, low, high = (None, None, None) if one is None else (one.value, one.low, one.high)
        return replace(self._held(value, low, high), images=found.shared.both if found.paired is not None else None)

    def _difference(self, found: Comparison) -> Difference | None:
        figures = found.either
        if self.class_index is not None:
            of_class: Difference = getattr(figures.classes[self.class_index], self.figure)
            return of_class
        if self.figure.startswith("top"):
            return figures.top_k.get(int(self.figure[3:]))
        return figures.means.get(self.figure)

    def against(self, figures: Figures, intervals: Intervals | None = None) -> RequirementOutcome:
        """Hold it against figures; ``intervals`` are those of the figures that are no proportions."""
        if self.every:
            return self._of_every([getattr(one, self.figure) for one in figures.classes], figures.total)
        found = self._figure(figures)
        low: float | None = None
        high: float | None = None
        if isinstance(found, Proportion):
            if (
                self.figure == "f1"
            ):  # an interval as of a share, but no share of images of which more could be counted on
                return replace(self._held(found.value, found.low, found.high), images=found.total)
            return self.of_share(found)
        value = found
        absent = sum(not one.support for one in figures.classes)
        if self.figure in OVER_CLASSES and absent and figures.total:
            # An average of the classes that are there says nothing of the others: whatever it is, it meets no criterion.
            why = without_images(absent, len(figures.classes))
            return RequirementOutcome(
                self.text, None if self.bound else value, False, images=figures.total, problem=why
            )
        if intervals is not None and self.figure in intervals.of:
            low, high = intervals.of[self.figure].low, intervals.of[self.figure].high
        elif self.class_index is not None and self.figure in RANKED:
            low, high = figures.ranked_ends(self.figure, self.class_index) or (None, None)
        return replace(self._held(value, low, high), images=figures.total)

    def _of_every(self, shares: Sequence[Proportion], total: int) -> RequirementOutcome:
        """Hold it against the lowest of the classes' shares; where a class has none, it meets no criterion."""
        without = sum(one.value is None for one in shares)
        if without:
            of = without_images(without, len(shares))
            why = of if self.figure == "recall" else f"{without} of {len(shares)} classes are never predicted"
            return RequirementOutcome(self.text, None, False, images=total, problem=why)
        at, low, high = lowest_of(shares)
        return replace(self._held(shares[at].value, low, high), images=shares[at].total, lowest=at)

    def of_share(self, found: Proportion) -> RequirementOutcome:
        """Hold it against a share."""
        return replace(self._held(found.value, found.low, found.high), images=found.total, share=found)

    def _held(self, value: float | None, low: float | None, high: float | None) -> RequirementOutcome:
        counted = metric(self.figure).unit == "images"
        return compared(self.text, value, low, high, self.bound, self.compare, self.limit, counted)

    def _figure(self, figures: Figures) -> Proportion | float | None:
        record = metric(self.figure)
        if self.class_index is not None:
            assert record.of_class is not None
            return record.of_class(figures, self.class_index)
        assert record.read is not None, f"{self.figure} is not read off the figures"
        return record.read(figures)


def compared(
    text: str,
    value: float | None,
    low: float | None,
    high: float | None,
    bound: str | None,
    compare: str,
    limit: float,
    counted: bool = False,
) -> RequirementOutcome:
    """A figure with the ends of its interval, or the ``bound`` of these that is asked for, compared with a limit; ``counted``: a number of
    images, which is what it is."""
    if bound:
        value = low = high = {"low": low, "high": high}[bound]
    if value is None:
        return RequirementOutcome(text, None, False, problem="the figure is undefined here")
    holds = _OPERATORS[compare](value, limit)
    if low is None or high is None:
        # Of a figure without an interval nothing is known beyond itself.
        verdict: Verdict = ("met" if holds else "missed") if counted else "inconclusive"
    else:
        ends = {_OPERATORS[compare](end, limit) for end in (low, high)}
        verdict = "inconclusive" if len(ends) > 1 else "met" if holds else "missed"
    return RequirementOutcome(text, value, holds, low, high, verdict)


def _no_requirement(text: str) -> InputError:
    return InputError(
        f"{_shortened(text)!r} is not a requirement",
        where="--require",
        hint="write for example '95 % of all', 'recall of ragweed 80 %', 'every class at least 70 %', or as a formula 'low(top1) >= 0.85'",
    )


def _shortened(text: str) -> str:
    return text if len(text) <= 200 else f"{text[:200]}…"


def parts_of(text: str) -> tuple[str, str, float]:
    """What stands left of the comparison, the comparison, and the limit."""
    at = max(text.rfind(sign) for sign in "<>=")
    written = text[at + 1 :].strip()
    compare = text[max(0, at - 1) : at + 1]
    if compare not in _OPERATORS:
        compare = text[at : at + 1]
    if compare not in _OPERATORS or len(written) > _LONGEST_NUMBER or not _NUMBER.fullmatch(written):
        raise _no_requirement(text)
    limit = float(written)
    if not isfinite(limit):
        raise _no_requirement(text)
    return text[: at + 1 - len(compare)].strip(), compare, limit


def bound_of(left: str) -> tuple[str, str | None]:
    """The figure, and which bound of its interval is meant, if any."""
    for bound in ("low", "high"):
        inside = inside_of(left, bound)
        if inside is not None:
            return inside, bound
    return left, None


def _quoted(text: str) -> str | None:
    """What stands between quotes, or None where nothing does; in double ones as in JSON, in single ones as it is."""
    if len(text) >= 2 and text[0] == text[-1] == "'" and "'" not in text[1:-1]:
        return text[1:-1]
    if text[:1] == '"':
        try:
            found = json.loads(text, strict=False)
        except ValueError:
            return None
        return found if isinstance(found, str) else None
    return None


def quoted(text: str) -> str:
    """A name as a requirement has it."""
    return json.dumps(text, ensure_ascii=False)


def _key(text: str) -> str | None:
    """What stands left of a sign in brackets: a name as it is, or in quotes; None where the quotes hold nothing."""
    return _quoted(text) if text[:1] in "\"'" else text


def inside_of(left: str, word: str) -> str | None:
    """What stands in the brackets after a word; None where it does not stand there."""
    rest = left.removeprefix(word).lstrip()
    return rest[1:-1].strip() if left.startswith(word) and rest[:1] == "(" and rest[-1:] == ")" else None


def reference_text(name: str, content: str) -> str:
    """How a requirement names a model: by its name, for people, and by the beginning of the hash of what it is."""
    return f"{name}#{content[:REFERENCE]}"


def pieces_of(text: str) -> list[str]:
    """What stands between commas that are not in quotes."""
    found, quote, start, escaped = [], "", 0, False
    for i, letter in enumerate(text):
        if escaped:
            escaped = False
        elif quote:
            escaped = letter == "\\" and quote == '"'
            quote = "" if letter == quote else quote
        elif letter in "\"'":
            quote = letter
        elif letter == ",":
            found.append(text[start:i].strip())
            start = i + 1
    return [*found, text[start:].strip()]


_KEY = r"""(?P<key>[^\W\d]\w*|"(?:[^"\\]|\\.)*"|'[^']*')"""
_PAIR = re.compile(rf"""{_KEY}\s*=\s*(?P<value>["'].*)""", re.DOTALL)
# A property or a column of numbers, and one end of a range.
_END = re.compile(rf"{_KEY}\s*(?P<end><=|>)\s*(?P<number>{_NUMBER.pattern})", re.ASCII)


@dataclass
class _Named:
    """What the brackets behind a figure name: a class, a family, groups of columns, ranges of numbers."""

    said: str | None = None
    family: str | None = None
    groups: tuple[tuple[str, str], ...] = ()
    ranges: tuple[tuple[str, float, float], ...] = ()


def _in_brackets(inside: str, shown: str) -> _Named:
    said: str | None = None
    family: str | None = None
    groups: list[tuple[str, str]] = []
    ranges: dict[str, tuple[float, float]] = {}
    for piece in pieces_of(inside):
        if (end := _END.fullmatch(piece)) is not None and (name := _key(end["key"])) is not None:
            low, high = ranges.get(name, (-inf, inf))
            limit = float(end["number"])
            ranges[name] = (max(low, limit), high) if end["end"] == ">" else (low, min(high, limit))
            continue
        pair = _PAIR.fullmatch(piece)
        if pair is None:
            one = _quoted(piece)
            if one is None or said is not None:
                raise InputError(
                    f"{shown!r}: {piece!r} is not a class name in quotes",
                    where="--require",
                    hint='write the name as in recall["ragweed"], a family as in recall[family = "trees"], a group as in '
                    'top1[station = "north"], a range as in top1[sharpness <= 5.6]; in double quotes, \\ and " are written as \\\\ and \\"',
                )
            said = one
            continue
        key, value = pair["key"], _quoted(pair["value"].strip())
        column = _key(key)
        if value is None or column is None:
            raise InputError(
                f"{shown!r}: {piece!r} is not a group", where="--require", hint='write it as in top1[station = "north"]'
            )
        if key == "family":
            family = value
        else:
            groups.append((column, value))
    if any(low >= high for low, high in ranges.values()):
        raise InputError(f"{shown!r}: no number is in that range", where="--require", hint="exchange its ends")
    return _Named(said, family, tuple(groups), tuple((name, *ends) for name, ends in ranges.items()))


def parse_criterion(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one criterion of a model: a requirement on its figures, or on the difference to another model, such as
    ``low(difference(top1, "grain-net-1#0123456789ab")) >= -0.01``."""
    if len(text) > _LONGEST:
        raise _no_requirement(text)
    left, compare, limit = parts_of(text)
    inner, bound = bound_of(left)
    inside = inside_of(inner, "difference")
    if inside is None:
        return parse_requirement(text, classes)
    pieces = pieces_of(inside)
    reference = _quoted(pieces[-1]) if len(pieces) > 1 else None
    if reference is None:
        raise InputError(
            f"{_shortened(text)!r} does not say which model the difference is to",
            where="criterion",
            hint="hold that model against this one first, and enter it then",
        )
    figure = inside[: inside.rindex(pieces[-1])].rstrip().removesuffix(",")
    whole = f"{bound}(difference({figure}))" if bound else f"difference({figure})"
    return replace(parse_difference(f"{whole} {compare} {limit!r}", classes), text=text, against_model=reference)


def with_reference(text: str, reference: str) -> str:
    """A criterion on a difference that names no model, with the one named; any other text as it is."""
    left, _, _ = parts_of(text)
    inner, bound = bound_of(left)
    inside = inside_of(inner, "difference")
    if inside is None or (len(pieces_of(inside)) > 1 and _quoted(pieces_of(inside)[-1]) is not None):
        return text
    whole = f"difference({inside}, {quoted(reference)})"
    return (f"{bound}({whole})" if bound else whole) + f" {text[len(left) :].strip()}"


def parse_difference(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one requirement on the difference of two runs, such as ``low(difference(recall["ragweed"])) >= -0.02``."""
    if len(text) > _LONGEST:
        raise _no_requirement(text)
    left, compare, limit = parts_of(text)
    inner, bound = bound_of(left)
    figure, shown = inside_of(inner, "difference"), _shortened(text)
    if figure is None:
        raise InputError(
            f"{shown!r} is not about a difference",
            where="--require",
            hint="write for example 'difference(top1) >= 0' or 'low(difference(recall[\"ragweed\"])) >= -0.02'",
        )
    parsed = parse_requirement(f"{figure} {compare} {limit!r}", classes)
    if not (parsed.figure.startswith("top") or parsed.figure in (*_DIFFERENT, *_DIFFERENT_BY_CLASS)):
        raise InputError(
            f"{shown!r}: no difference is defined for {_shortened(figure)!r}",
            where="--require",
            hint=f'differences are of top1, top3 …, {", ".join(_DIFFERENT)}, and {" and ".join(_DIFFERENT_BY_CLASS)} with ["class"]',
        )
    if not parsed.of_all_images:
        raise InputError(
            f"{shown!r}: a difference is of all images",
            where="--require",
            hint="leave out the groups, or ask for the figure of these images itself",
        )
    return replace(parsed, text=text, bound=bound, of_difference=True)


def _level(told: str, text: str) -> float:
    """The level of prediction sets, as it stands in brackets."""
    level = float(told) if len(told) <= _LONGEST_NUMBER and _NUMBER.fullmatch(told) else 0.0
    if not 0 < level < 1:
        raise InputError(
            f"{_shortened(text)!r}: {_shortened(told)!r} is not a level of prediction sets",
            where="--require",
            hint="write a number between 0 and 1, as in coverage(0.9) >= 0.9",
        )
    return level


def parse_requirement(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one requirement; InputError naming what is not understood."""
    if len(text) > _LONGEST:
        raise _no_requirement(text)
    left, compare, limit = parts_of(text)
    figure, bound = bound_of(left)
    if (every := inside_of(figure, "every")) is not None:
        if bound or every not in _OF_EVERY or compare not in (">=", ">"):
            raise InputError(
                f"{_shortened(text)!r}: that cannot be asked of every class",
                where="--require",
                hint=f"ask for {' or '.join(_OF_EVERY)} of every class at least, as in every(recall) >= 0.8",
            )
        return Requirement(text, every, None, None, compare, limit, every=True)
    if inside_of(figure, "difference") is not None:
        raise InputError(
            f"{_shortened(text)!r} is about a difference, and there is only one run",
            where="--require",
            hint="ask for it with 'mivrat compare'",
        )
    if (told := inside_of(figure, COVERAGE.key)) is not None:
        return Requirement(text, COVERAGE.key, None, bound, compare, limit, level=_level(told, text))
    class_index: int | None = None
    named = _Named()
    name, bracket, rest = figure.partition("[")
    name, shown = name.rstrip(), _shortened(text)
    if bracket and rest[-1:] == "]":
        named = _in_brackets(rest[:-1].strip(), shown)
        if named.said is not None and name in PER_CLASS:
            class_index = ClassMatcher(classes).index(named.said)
            if class_index is None:
                raise InputError(
                    f"{shown!r} names {named.said!r}, which is not a class",
                    where="--require",
                    hint="use a name from the class list",
                )
        if named.family is not None and (name not in _OF_FAMILY or named.said is not None):
            raise InputError(
                f"{shown!r}: that figure is not defined for a family",
                where="--require",
                hint='of a family there are recall, precision and support, as in recall[family = "trees"]',
            )
        if named.said is None or class_index is not None:
            figure = name
    if figure in PER_CLASS and (class_index is not None or named.family is not None):
        pass
    elif not (re.fullmatch(r"top[1-9]\d{0,4}", figure, re.ASCII) or figure in _WHOLE):
        raise InputError(
            f"{shown!r}: unknown figure {_shortened(figure)!r}",
            where="--require",
            hint=f'figures are top1, top3 …, {", ".join(_WHOLE)}, and {", ".join(PER_CLASS)} with ["class"]',
        )
    if bound and not (
        figure.startswith("top")
        or figure in (*_SHARES, *RANKED, *(NAMES if not (named.groups or named.ranges) else ()))
    ):
        raise InputError(
            f"{shown!r}: {figure} has no interval",
            where="--require",
            hint=f"ask for the figure itself; top-k, precision, recall, specificity, f1, auroc, average_precision and {', '.join(NAMES)} have intervals",
        )
    return Requirement(
        text, figure, class_index, bound, compare, limit, family=named.family, groups=named.groups, ranges=named.ranges
    )
