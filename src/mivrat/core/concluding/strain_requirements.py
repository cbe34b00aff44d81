"""Requirements on a strain test, such as ``at(blur, 1.5, top1) >= 0.8`` or ``retained(jpeg) >= 0.9``: parsed, never evaluated as code."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mivrat.core.base.errors import InputError
from mivrat.core.concluding.requirements import RequirementOutcome, bound_of, compared, inside_of, parts_of, pieces_of
from mivrat.core.figures.intervals import Proportion
from mivrat.core.pictures.distorting.kinds import Distortion, spelled_kind
from mivrat.core.straining.curves import StrainFigures

# Of one level: the accuracy, the share of predictions changed.
FIGURES = ("top1", "changed")
_HINT = "such as 'at(blur, 1.5, top1) >= 0.8', 'low(at(jpeg, 20, top1)) >= 0.7' or 'retained(blur) >= 0.9'"


@dataclass(frozen=True)
class StrainRequirement:
    """A figure of one kind (``level`` None: retained, over its levels) compared with a limit; ``bound`` asks an end of its interval."""

    text: str
    kind: str
    level: float | None
    figure: str
    bound: str
    compare: str
    limit: float

    def against(self, found: StrainFigures) -> RequirementOutcome:
        """Hold it against a strain test."""
        if self.level is None:
            value = next((one.retained for one in found.curves if one.spelled == self.kind), None)
            return compared(self.text, value, None, None, self.bound, self.compare, self.limit)
        one = next(
            level
            for curve in found.curves
            for level in curve.levels
            if curve.spelled == self.kind and level.strain.level == self.level
        )
        share: Proportion = one.accuracy if self.figure == "top1" else one.changed
        return compared(self.text, share.value, share.low, share.high, self.bound, self.compare, self.limit)


def parse_strain_requirement(text: str, strains: Sequence[Distortion]) -> StrainRequirement:
    """A requirement on one of these distortions. InputError where it is no such thing."""
    levels = {(spelled_kind(one.kind, one.given), one.level) for one in strains}
    left, compare, limit = parts_of(text)
    inner, bound = bound_of(left)
    kind = inside_of(inner, "retained")
    if kind is not None and bound is None:
        if kind not in {one for one, _ in levels}:
            raise _unknown(text, kind, levels)
        return StrainRequirement(text, kind, None, "retained", "", compare, limit)
    pieces = pieces_of(inside_of(inner, "at") or "")
    try:
        kind, level, figure = pieces[0], float(pieces[1]), pieces[2]
    except (IndexError, ValueError):
        figure = ""
    if figure not in FIGURES or len(pieces) != 3 or kind is None:
        raise InputError(f"{text!r} is not a requirement on a strain test", where="--require", hint=_HINT)
    if (kind, level) not in levels:
        raise _unknown(text, f"{kind} at {level:g}", levels)
    return StrainRequirement(text, kind, level, figure, bound or "", compare, limit)


def _unknown(text: str, what: str, levels: set[tuple[str, float]]) -> InputError:
    known = ", ".join(f"{kind} at {level:g}" for kind, level in sorted(levels))
    return InputError(f"{text!r}: {what} is not tried", where="--require", hint=f"tried are {known}")
