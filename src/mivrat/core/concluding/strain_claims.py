"""Claims about distorted photos: accuracy at one level that is expected in the field, asked again of any run."""

from __future__ import annotations

import json
from collections.abc import Iterator

import numpy as np

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Beside, FindingClaim, Measure, met_at_least
from mivrat.core.figures.intervals import Proportion
from mivrat.core.heatmaps.pool import model_of
from mivrat.core.pictures.distorting.kinds import Distortion, level_in_words, sweep_from_text
from mivrat.core.straining.curves import StrainLevel
from mivrat.core.straining.sweep import StrainPlan, Sweep, checked


def strain_claim(strain: Distortion, limit: float | None = None, seed: int = 0) -> FindingClaim:
    """The claim that accuracy is what it is at this level, or (with a ``limit``, a share) that it is at least so much there."""
    return FindingClaim("strain", json.dumps({"strain": strain.spelled, "limit": limit, "seed": seed}))


def read_strain_claim(claim: FindingClaim) -> tuple[Distortion, float | None, int]:
    """The distortion, the limit (None: without one) and the seed of a claim. InputError where it is none."""
    try:
        data = json.loads(claim.text)
        (strain,) = checked(sweep_from_text(str(data["strain"])))
        limit, seed = data["limit"], int(data["seed"])
        if limit is not None and not 0 <= float(limit) <= 1:
            raise ValueError("no share")
        return strain, None if limit is None else float(limit), seed
    except (KeyError, TypeError, ValueError, OverflowError, RecursionError) as error:
        raise InputError("the claim is not one of a strain test", hint="remove the finding and add it again") from error


def measure_of_strain(level: StrainLevel, untouched: Proportion, limit: float | None) -> Measure:
    """What a level comes to, beside the same images untouched; with a ``limit`` also whether that is met."""
    share = level.accuracy
    return Measure(
        f"accuracy at {level_in_words(level.strain)}",
        share.value,
        share.low,
        share.high,
        share.hits,
        share.total,
        bad=-1,
        beside=Beside("untouched", untouched.value, untouched.low, untouched.high, untouched.hits, untouched.total),
        p=level.difference.p,
        limit=limit,
        met=met_at_least(share.low, share.high, limit),
        problem="" if share.total else "no labelled image has an answer at this level",
    )


def strained(claim: FindingClaim, ground: EvaluationContext) -> Iterator[Progress | Measure]:
    """What a claim comes to under a run, after progress; answers that the study has are not asked again. Nothing where it was stopped."""
    strain, limit, seed = read_strain_claim(claim)
    record, judged = ground.snapshot.record, ground.snapshot.judged
    if not record.kind.can.scores:
        raise InputError(record.kind.lacks("A strain test needs"))
    if not judged.has_scores:
        raise InputError("a strain test needs all scores of this run, and they are missing")
    plan = StrainPlan(tuple(np.flatnonzero(judged.predicted >= 0).tolist()), (strain,), seed)
    sweep = Sweep(judged, record.image_set, None, plan, record.answers.contents, ground.strains())
    if not sweep.complete:
        sweep.model = model_of(record)
        yield from sweep.run()
    if current_stop().stopped:
        return
    figures = sweep.figures()
    yield measure_of_strain(figures.levels[0], figures.untouched, limit)
