"""Requirements on figures, such as ``low(top1) >= 0.9`` or ``recall["ragweed"] >= 0.8``: parsed, never evaluated as code."""

from __future__ import annotations

import json
import operator
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import isfinite
from typing import Literal

from mivrat.core.base.errors import InputError
from mivrat.core.comparing.comparison import Comparison
from mivrat.core.figures.bootstrap import NAMES, Intervals
from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.summary import Figures
from mivrat.core.pictures.classes import ClassMatcher

_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", re.ASCII)
_PER_CLASS = ("precision", "recall", "specificity", "f1", "auroc", "average_precision", "support")
# No class name is longer, and no number either.
_LONGEST, _LONGEST_NUMBER = 10_000, 40
_OPERATORS: dict[str, Callable[[float, float], bool]] = {
    ">=": operator.ge,
    "<=": operator.le,
    "==": operator.eq,
    ">": operator.gt,
    "<": operator.lt,
}
_AVERAGES = ("balanced_accuracy", "macro_precision", "macro_recall", "macro_f1", "weighted_f1", "cohen_kappa", "mcc")
_DIFFERENT = ("balanced_accuracy", "macro_f1", "log_loss", "brier", "ece")
_PLAIN = ("log_loss", "brier", "ece", "mce", "signed_gap", "evaluated")


Verdict = Literal["pass", "fail", "cannot tell"]


@dataclass(frozen=True)
class Outcome:
    """One requirement held against the figures; ``value`` is None where the figure is undefined, and then it does not hold.

    ``verdict`` asks more than ``holds``: whether it still does at either end of the figure's 95 % interval; where the ends
    disagree, so few images cannot tell.
    """

    text: str
    value: float | None
    holds: bool
    low: float | None = None
    high: float | None = None
    verdict: Verdict = "cannot tell"

    def sentence(self) -> str:
        shown = "undefined" if self.value is None else f"{self.value:.6g}"
        return f"{'holds' if self.holds else 'DOES NOT HOLD'}: {self.text} (figure: {shown})"


@dataclass(frozen=True)
class Requirement:
    """A parsed requirement: a figure, perhaps its interval's bound, compared with a limit."""

    text: str
    figure: str
    class_index: int | None
    bound: str | None
    compare: str
    limit: float
    of_difference: bool = False

    def against_difference(self, found: Comparison) -> Outcome:
        """Hold it against the difference of two runs."""
        one = self._difference(found)
        value, low, high = (None, None, None) if one is None else (one.value, one.low, one.high)
        return self._held(value, low, high)

    def _difference(self, found: Comparison) -> Difference | None:
        figures = found.either
        if self.class_index is not None:
            of_class: Difference = getattr(figures.classes[self.class_index], self.figure)
            return of_class
        if self.figure.startswith("top"):
            return figures.top_k.get(int(self.figure[3:]))
        return figures.means.get(self.figure)

    def against(self, figures: Figures, intervals: Intervals | None = None) -> Outcome:
        """Hold it against figures; ``intervals`` are those of the figures that are no proportions."""
        found = self._figure(figures)
        low: float | None = None
        high: float | None = None
        if isinstance(found, Proportion):
            value, low, high = found.value, found.low, found.high
        else:
            value = found
            if intervals is not None and self.figure in intervals.of:
                low, high = intervals.of[self.figure].low, intervals.of[self.figure].high
        return self._held(value, low, high)

    def _held(self, value: float | None, low: float | None, high: float | None) -> Outcome:
        if self.bound:
            value = low = high = {"low": low, "high": high}[self.bound]
        if value is None:
            return Outcome(self.text, None, False)
        holds = _OPERATORS[self.compare](value, self.limit)
        if low is None or high is None:
            # A count is what it is; of any other figure without an interval nothing is known beyond itself.
            verdict: Verdict = (
                ("pass" if holds else "fail") if self.figure in ("evaluated", "support") else "cannot tell"
            )
        else:
            ends = {_OPERATORS[self.compare](end, self.limit) for end in (low, high)}
            verdict = "cannot tell" if len(ends) > 1 else "pass" if holds else "fail"
        return Outcome(self.text, value, holds, low, high, verdict)

    def _figure(self, figures: Figures) -> Proportion | float | None:
        if self.class_index is not None:
            if self.figure in ("auroc", "average_precision"):
                per_class: list[float | None] = getattr(figures, self.figure)
                return per_class[self.class_index]
            found: Proportion | float | None = getattr(figures.classes[self.class_index], self.figure)
            return found
        if self.figure.startswith("top"):
            return figures.top_k[int(self.figure[3:])]
        if self.figure in _AVERAGES:
            average: float | None = getattr(figures.averages, self.figure)
            return average
        if self.figure == "evaluated":
            return figures.total
        if self.figure == "log_loss":
            return figures.log_loss.value if figures.log_loss else None
        if self.figure == "brier":
            return figures.brier
        calibrated: float | None = getattr(figures.calibration, self.figure)
        return calibrated


def _no_requirement(text: str) -> InputError:
    return InputError(
        f"{_shortened(text)!r} is no requirement",
        where="--require",
        mend="write for example 'top1 >= 0.9', 'low(top1) >= 0.85' or 'recall[\"ragweed\"] >= 0.8'",
    )


def _shortened(text: str) -> str:
    return text if len(text) <= 200 else f"{text[:200]}…"


def _parts(text: str) -> tuple[str, str, float]:
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


def _bound(left: str) -> tuple[str, str | None]:
    """The figure, and which bound of its interval is meant, if any."""
    for bound in ("low", "high"):
        inside = _inside(left, bound)
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


def _inside(left: str, word: str) -> str | None:
    """What stands in the brackets after a word; None where it does not stand there."""
    rest = left.removeprefix(word).lstrip()
    return rest[1:-1].strip() if left.startswith(word) and rest[:1] == "(" and rest[-1:] == ")" else None


def parse_difference(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one requirement on the difference of two runs, such as ``low(difference(recall["ragweed"])) >= -0.02``."""
    if len(text) > _LONGEST:
        raise _no_requirement(text)
    left, compare, limit = _parts(text)
    inner, bound = _bound(left)
    figure, shown = _inside(inner, "difference"), _shortened(text)
    if figure is None:
        raise InputError(
            f"{shown!r} is not about a difference",
            where="--require",
            mend="write for example 'difference(top1) >= 0' or 'low(difference(recall[\"ragweed\"])) >= -0.02'",
        )
    parsed = parse_requirement(f"{figure} {compare} {limit!r}", classes)
    if not (parsed.figure.startswith("top") or parsed.figure in (*_DIFFERENT, "recall", "precision")):
        raise InputError(
            f"{shown!r}: there is no difference of {_shortened(figure)!r}",
            where="--require",
            mend=f'differences are of top1, top3 …, {", ".join(_DIFFERENT)}, and recall and precision with ["class"]',
        )
    return replace(parsed, text=text, bound=bound, of_difference=True)


def parse_requirement(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one requirement; InputError naming what is not understood."""
    if len(text) > _LONGEST:
        raise _no_requirement(text)
    left, compare, limit = _parts(text)
    figure, bound = _bound(left)
    if _inside(figure, "difference") is not None:
        raise InputError(
            f"{_shortened(text)!r} is about a difference, and there is only one run",
            where="--require",
            mend="ask for it with 'mivrat compare'",
        )
    class_index = None
    name, bracket, rest = figure.partition("[")
    name, shown = name.rstrip(), _shortened(text)
    if bracket and name in _PER_CLASS and rest[-1:] == "]":
        said = _quoted(rest[:-1].strip())
        if said is None:
            raise InputError(
                f"{shown!r}: {rest[:-1].strip()!r} is no class name in quotes",
                where="--require",
                mend='write the name as in recall["ragweed"]; in double quotes, \\ and " are written as \\\\ and \\"',
            )
        class_index = ClassMatcher(classes).index(said)
        if class_index is None:
            raise InputError(
                f"{shown!r} names {said!r}, which is no class", where="--require", mend="use a name from the class list"
            )
        figure = name
    elif not (re.fullmatch(r"top[1-9]\d{0,4}", figure, re.ASCII) or figure in _AVERAGES or figure in _PLAIN):
        raise InputError(
            f"{shown!r}: there is no figure {_shortened(figure)!r}",
            where="--require",
            mend=f'figures are top1, top3 …, {", ".join(_AVERAGES + _PLAIN)}, and {", ".join(_PER_CLASS)} with ["class"]',
        )
    if bound and not (figure.startswith("top") or figure in ("precision", "recall", "specificity", *NAMES)):
        raise InputError(
            f"{shown!r}: {figure} has no interval",
            where="--require",
            mend=f"ask for the figure itself; top-k, precision, recall, specificity and {', '.join(NAMES[1:])} have intervals",
        )
    return Requirement(text, figure, class_index, bound, compare, limit)
