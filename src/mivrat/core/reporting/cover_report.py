"""The cover test over many images as files: what was done, what came of it, and every image's answers."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import asdict, fields
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.base.text import escaped, printable, safe_cell
from mivrat.core.checks.result import in_words
from mivrat.core.figures.covered import CoverResult, Effect, SecondControl
from mivrat.core.figures.units import from_kept
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.region_masking.one_image import Covered

FORMAT = "mivrat-cover/3"
_RESULT = TypeAdapter(CoverResult)


def as_json(result: CoverResult, done: dict[str, Any], found: Sequence[Covered]) -> dict[str, Any]:
    """The result with everything needed to do it again."""
    areas = [one.area for one in found if not one.problem]
    return {
        "format": FORMAT,
        "done": done,
        "unreadable": sum(bool(one.problem) for one in found),
        "mean_area": float(np.mean(areas)) if areas else None,
        **asdict(result),
    }


def told_from_text(text: str) -> dict[str, Any]:
    """What ``as_text`` has written; InputError where it is nothing of the kind."""
    try:
        told = json.loads(text)
    except (ValueError, RecursionError):
        told = None
    if not isinstance(told, dict):
        raise _unreadable()
    return told


def _unreadable() -> InputError:
    return InputError("a kept cover test cannot be read", where="study", hint="remove it and repeat it")


def result_from_json(told: dict[str, Any]) -> CoverResult:
    """The result that ``as_json`` has told of; InputError where it tells of none."""
    try:
        # Tests kept by earlier versions have no second control, and call what became right "mended".
        known = {one.name: _with_new_names(told[one.name]) for one in fields(CoverResult) if one.name in told}
        return _RESULT.validate_python({"hot_elsewhere": None, **known})
    except (KeyError, ValueError) as error:
        raise _unreadable() from error


def _with_new_names(value: Any) -> Any:
    """A part of a kept result with today's names in it."""
    if not isinstance(value, dict):
        return value
    return {"fixed" if name == "mended" else name: _with_new_names(one) for name, one in value.items()}


def as_text(told: dict[str, Any]) -> str:
    """The JSON as it stands in files."""
    text = json.dumps(told, indent=1, ensure_ascii=False)
    return printable(text) + "\n"


def as_csv(found: Sequence[Covered], image_set: ImageSet, classes: Sequence[str]) -> str:
    """Every image's answers: as it is, with the region hidden, with each control hidden."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(
        [
            "path",
            "label",
            "target",
            "area",
            "predicted",
            "p",
            "covered_predicted",
            "covered_p",
            "control_predicted",
            "control_p",
            "patch_from",
            "hot_elsewhere_predicted",
            "hot_elsewhere_p",
        ]
    )
    for one in found:
        item = image_set.items[one.image]
        label = "" if item.label is None else classes[item.label]
        head = [safe_cell(escaped(image_set.told_path(one.image))), safe_cell(label)]
        if one.problem:
            writer.writerow([*head, "", "", safe_cell(one.problem), *[""] * 8])
            continue
        answers = [
            cell for k, p in zip(one.predicted, one.p, strict=True) for cell in (safe_cell(classes[k]), f"{p:.6f}")
        ]
        donor = safe_cell(escaped(image_set.told_path(one.donor))) if one.donor >= 0 else ""
        answers += [""] * (8 - len(answers))
        writer.writerow([*head, safe_cell(classes[one.target]), f"{one.area:.4f}", *answers[:6], donor, *answers[6:]])
    return out.getvalue()


def in_sentences(result: CoverResult) -> str:
    """The result in words."""

    def effect(what: str, one: Effect) -> str:
        share = one.changed
        ends = f", 95 % interval {bounds(share)}" if bounds(share) else ""
        return (
            f"{what}: {share.hits} of {share.total} predictions change ({percent(share.value or 0)}{ends}); {one.fixed} become correct, "
            f"{one.broken} become wrong (p {in_words(from_kept(one.p_paired, share.units))}); p(target) falls by {one.mean_drop:.3f} on average"
        )

    lines = [effect("region hidden", result.region), effect("same area elsewhere", result.control)]
    if result.hot_elsewhere is not None:
        lines.append(effect("what is hot in another image", result.hot_elsewhere.effect))
    return "\n".join([*lines, *conclusions(result)])


def conclusions(result: CoverResult) -> list[str]:
    """How the region compares with each control, in a sentence each, without a full stop."""
    if not result.total:
        return ["no image was covered, so the test says nothing"]
    second = result.hot_elsewhere
    found = [_compared("the same area elsewhere", result, result.region.changed.units)]
    if second is not None:
        found.append(_compared("what is hot in another image", second, second.effect.changed.units))
    return found


def _compared(what: str, one: CoverResult | SecondControl, units: int | None) -> str:
    test = "exact paired test" if units is None else f"paired test over {units} whole units"
    if one.p >= 0.05:
        verdict = f"not significantly more than {what}, on these images"
    else:
        verdict = f"{'more' if one.only_region > one.only_control else 'less'} than {what}"
    return (
        f"hiding the region changes {verdict}: {one.only_region} only by the region, {one.only_control} only by the control "
        f"({test}, p {in_words(from_kept(one.p, units))}, N = {one.total})"
    )
