"""The transplant test as files: what was done, what came of it, and every image's answers."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from pydantic import TypeAdapter

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.base.text import escaped, minus, printable, safe_cell
from mivrat.core.checks.result import in_words
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.transplanted import Pasted, TransplantResult
from mivrat.core.figures.units import from_kept
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.region_masking.transplant import Transplanted, TransplantTest

FORMAT = "mivrat-transplant/1"
# Over fewer donors no way of turning their signs is rare enough to be beyond chance.
FEWEST_DONORS = 6
_ENOUGH, _NEED = TypeAdapter(TransplantResult), TypeAdapter(CoverResult)


def as_json(test: TransplantTest, model: str, model_sha256: str, image_set: ImageSet) -> dict[str, Any]:
    """The result with everything needed to do it again; ``enough`` is what pasting did, ``need`` what hiding did to the donors."""
    done = {"model": model, "model_sha256": model_sha256, "images": image_set.name}
    return {
        "format": FORMAT,
        "done": {**done, "together": image_set.unit_column or None, **test.plan.how()},
        **left_out(test),
        "enough": asdict(test.enough),
        "need": asdict(test.need),
    }


def left_out(test: TransplantTest) -> dict[str, Any]:
    """How many images do not count, how many controls lie partly in their piece, and the mean area of a piece."""
    return {
        "donors_left_out": test.donors_left_out,
        "receivers_left_out": test.left_out,
        "controls_overlapping": test.overlapping,
        "mean_area": test.mean_area,
    }


def as_text(told: dict[str, Any]) -> str:
    """The JSON as it stands in files."""
    return printable(json.dumps(told, indent=1, ensure_ascii=False)) + "\n"


def results_from_text(text: str) -> tuple[TransplantResult, CoverResult, dict[str, Any]]:
    """What pasting and hiding did, and the rest, as ``as_text`` has written it; InputError where it is nothing of the kind."""
    try:
        told = json.loads(text)
        return _ENOUGH.validate_python(told["enough"]), _NEED.validate_python(told["need"]), told
    except (KeyError, TypeError, ValueError, RecursionError) as error:
        raise InputError(
            "a kept transplant test cannot be read", where="study", hint="remove it and repeat it"
        ) from error


def as_csv(found: Sequence[Transplanted], image_set: ImageSet, classes: Sequence[str]) -> str:
    """Every receiver's answers: as it is, with the piece, with the control."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    answers = [f"{way}{what}" for way in ("", "piece_", "control_") for what in ("predicted", "p")]
    writer.writerow(["path", "label", "piece_from", "target", "area", *answers, "left_out"])
    for one in found:
        label = image_set.items[one.image].label
        head = [safe_cell(escaped(image_set.told_path(one.image))), "" if label is None else safe_cell(classes[label])]
        if one.problem:
            writer.writerow([*head, *[""] * 9, safe_cell(one.problem)])
            continue
        source = safe_cell(escaped(image_set.told_path(one.donor)))
        cells = [
            cell for k, p in zip(one.predicted, one.p, strict=True) for cell in (safe_cell(classes[k]), f"{p:.6f}")
        ]
        writer.writerow([*head, source, safe_cell(classes[one.target]), f"{one.area:.4f}", *cells, ""])
    return out.getvalue()


def in_sentences(enough: TransplantResult, need: CoverResult) -> str:
    """The result in words."""

    def effect(what: str, one: Pasted) -> str:
        share = one.became
        ends = f", 95 % interval {bounds(share)}" if bounds(share) else ""
        return (
            f"{what}: {share.hits} of {share.total} answers become the donor's class ({percent(share.value or 0)}{ends}); "
            f"its probability rises by {minus(f'{round(one.mean_rise, 3) + 0.0:.3f}')} on average"
        )

    lines = [effect("piece pasted", enough.piece), effect("control pasted", enough.control)] if enough.total else []
    return "\n".join([*lines, *conclusions(enough, need)])


def conclusions(enough: TransplantResult, need: CoverResult) -> list[str]:
    """Whether the piece is enough, and whether it is needed, in a sentence each, without a full stop."""
    if not enough.total:
        return ["nothing was pasted onto any image that counts, so the test says nothing", *_needed(need)]
    units = enough.piece.became.units
    tests = {
        "images": "exact paired test",
        "units": f"paired test over {units} whole units",
        "donors": f"paired test over {units} donors, each with all its receivers",
    }
    p = from_kept(enough.difference.p if enough.difference.p is not None else 1.0, units)
    if p >= 0.05:
        verdict = "not significantly more often than the control, on these images"
    else:
        verdict = f"{'more' if enough.only_piece > enough.only_control else 'less'} often than the control"
    found = [
        f"the piece carries answers over to the donor's class {verdict}: {enough.only_piece} only by the piece, {enough.only_control} only by "
        f"the control ({tests[enough.over]}, p {in_words(p)}, N = {enough.total})"
    ]
    if enough.over != "donors":
        found.append("with pieces of one donor the test is about that piece alone, not about others like it")
    elif (units or 0) < FEWEST_DONORS:
        found.append(f"with fewer than {FEWEST_DONORS} independent donors no such test can be significant: choose more")
    return [*found, *_needed(need)]


def _needed(need: CoverResult) -> list[str]:
    if not need.total:
        return []
    region, control = need.region.changed, need.control.changed
    return [
        f"hiding it changes the answer of {region.hits} of {region.total} donors, hiding the same area elsewhere that of {control.hits} "
        f"(p {in_words(from_kept(need.p, region.units))})"
    ]
