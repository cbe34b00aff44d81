"""Requirements on figures, such as ``low(top1) >= 0.9`` or ``recall["ragweed"] >= 0.8``: parsed, never evaluated as code."""

from __future__ import annotations

import json
import operator
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from mivrat.core.errors import InputError
from mivrat.core.figures.bootstrap import NAMES, Intervals
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.summary import Figures
from mivrat.core.pictures.classes import ClassMatcher

_FORM = re.compile(
    r"""^\s*(?:(?P<bound>low|high)\s*\(\s*(?P<inner>.+?)\s*\)|(?P<figure>.+?))\s*(?P<op>>=|<=|==|>|<)\s*(?P<limit>[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*$"""
)
_PER_CLASS = re.compile(
    r"""^(?P<name>precision|recall|specificity|f1|auroc|average_precision|support)\s*\[\s*(?P<class>"(?:[^"\\]|\\.)*"|'[^']*')\s*\]$"""
)
_OPERATORS: dict[str, Callable[[float, float], bool]] = {
    ">=": operator.ge,
    "<=": operator.le,
    "==": operator.eq,
    ">": operator.gt,
    "<": operator.lt,
}
_AVERAGES = ("balanced_accuracy", "macro_precision", "macro_recall", "macro_f1", "weighted_f1", "cohen_kappa", "mcc")
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


def parse_requirement(text: str, classes: Sequence[str]) -> Requirement:
    """Parse one requirement; InputError naming what is not understood."""
    form = _FORM.match(text)
    if form is None:
        raise InputError(
            f"{text!r} is no requirement",
            where="--require",
            mend="write for example 'top1 >= 0.9', 'low(top1) >= 0.85' or 'recall[\"ragweed\"] >= 0.8'",
        )
    figure, bound = (form["inner"] or form["figure"]).strip(), form["bound"]
    class_index = None
    if per_class := _PER_CLASS.match(figure):
        quoted = per_class["class"]
        name = json.loads(quoted) if quoted[0] == '"' else quoted[1:-1]
        class_index = ClassMatcher(classes).index(name)
        if class_index is None:
            raise InputError(
                f"{text!r} names {name!r}, which is no class", where="--require", mend="use a name from the class list"
            )
        figure = per_class["name"]
    elif not (re.fullmatch(r"top[1-9]\d{0,4}", figure) or figure in _AVERAGES or figure in _PLAIN):
        raise InputError(
            f"{text!r}: there is no figure {figure!r}",
            where="--require",
            mend=f'figures are top1, top3 …, {", ".join(_AVERAGES + _PLAIN)}, and recall, precision, specificity, f1, auroc, average_precision, support with ["class"]',
        )
    if bound and not (figure.startswith("top") or figure in ("precision", "recall", "specificity", *NAMES)):
        raise InputError(
            f"{text!r}: {figure} has no interval",
            where="--require",
            mend=f"ask for the figure itself; top-k, precision, recall, specificity and {', '.join(NAMES[1:])} have intervals",
        )
    return Requirement(text, figure, class_index, bound, form["op"], float(form["limit"]))
