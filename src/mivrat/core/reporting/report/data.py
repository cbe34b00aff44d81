"""A report as data for other programs: the format mivrat-report/2 of docs/findings.md."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from mivrat.core.comparing.training import Training
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Finding, measure_data
from mivrat.core.concluding.requirements import as_written
from mivrat.core.figures.intervals import Proportion
from mivrat.core.pictures.recipe import recipe_to_toml
from mivrat.core.reporting.comparison import ComparisonResults, comparison
from mivrat.core.reporting.report.content import CriterionLine, Report, ReportInputs

FORMAT = "mivrat-report/2"
_VERDICTS = {"stop": "not accepted", "look": "open", "fine": "accepted", "": "no criteria"}
Data = dict[str, Any]


def report_data(report: Report, ground: EvaluationContext, told: ReportInputs) -> Data:
    """The report's figures and words; no pictures. Shares lie in [0, 1], figures carry their 95 % interval."""
    record = ground.snapshot.record
    return {
        "format": FORMAT,
        "title": report.title,
        "day": report.day,
        "study": report.study,
        "author": report.wanted.author,
        "summary": report.wanted.summary,
        "sections": [key for key, _ in report.sections],
        "verdict": {"state": _VERDICTS[report.verdict_state], "text": report.verdict},
        "headline": report.headline,
        "model": {
            "name": record.info.model,
            "sha256": record.model_sha256,
            "recipe": recipe_to_toml(record.recipe),
            "recipe_is_guess": record.recipe_is_guess,
        },
        "images": {
            "name": record.info.image_set,
            "listed": len(record.image_set.items),
            "sha256": ground.images,
            "subset": record.image_set.drawn,
            "together": record.image_set.unit_column or None,
        },
        "class_names": list(record.classes),
        "criteria": [_criterion(one) for one in report.criteria],
        "checks": [
            {"name": one.name, "state": one.state, "sentence": one.sentence, "answer": one.answer}
            for one in told.checks
        ],
        "metrics": told.metrics,
        "groups": [
            {
                "column": column,
                "groups": [
                    {"name": one.name, "images": one.accuracy.total, "top1": _share(one.accuracy), "p_holm": one.p}
                    for one in some
                ],
            }
            for column, some in told.groups
        ],
        "comparisons": [comparison(ComparisonResults(one.found, one.claims)) for one, _ in told.compared],
        "training": None if told.training is None else _training(told.training),
        "findings": [_finding(one, checked) for one, checked in told.findings],
        "limits": list(report.limits),
        "commands": list(report.commands),
    }


def _share(one: Proportion) -> Data:
    return {"value": one.value, "low": one.low, "high": one.high}


def _criterion(one: CriterionLine) -> Data:
    found = one.outcome
    return {
        "text": one.text,
        "words": one.words,
        "state": as_written(one.state),
        "value": found.value,
        "low": found.low,
        "high": found.high,
        "images": found.images,
        "problem": found.problem,
        "takes": one.more,
    }


def _finding(one: Finding, checked: Checked | None) -> Data:
    return {
        "title": one.title,
        "sentence": one.sentence,
        "weight": one.weight,
        "claim": one.claim.kind,
        "state": None if checked is None else as_written(checked.state),
        "why": "" if checked is None else checked.why,
        "found_on": {"model": one.made.model_name, "images": one.made.images_name, "day": one.made.day},
        "before": measure_data(one.before),
        "after": None if checked is None else measure_data(checked.after),
        "pictures": [
            {"content": each.image.content, "path": each.image.path, "heat": each.heat, "caption": each.caption}
            for each in one.pictures
        ],
    }


def _training(found: Training) -> Data:
    def at(place: int | None) -> float | None:
        return None if place is None else float(found.step[place])

    return {
        "best": at(found.best),
        "best_by": found.best_by,
        "gap_opens": at(found.gap_opens),
        "overfitting": None if found.overfitting is None else asdict(found.overfitting),
        "told": found.sentences(),
    }
