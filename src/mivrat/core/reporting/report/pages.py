"""Lays a report out as one self-contained HTML page, by Jinja2."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from mivrat.core.base.text import count, printable
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.reporting.report.content import MOST_CLASSES, Report, recipe_of
from mivrat.core.reporting.report.diagrams import diagrams_of, with_both_themes
from mivrat.core.reporting.report.pictures import ReportPicture, side_for
from mivrat.core.reporting.report.repeating import LIST
from mivrat.core.reporting.typeface import FONTS

_HERE = Path(__file__).parent


_LONG_WORD = re.compile(r"\S{161,}")


@cache
def _environment() -> Environment:
    # Whatever comes from data is escaped; only our own style is taken as it is.
    return Environment(
        loader=FileSystemLoader(_HERE), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )


def _address(svg: str) -> str:
    return f"data:image/svg+xml;base64,{base64.b64encode(svg.encode()).decode()}"


def as_html(
    report: Report, ground: EvaluationContext, pictures: Mapping[str, ReportPicture], *, on_paper: bool = False
) -> str:
    """The report as one HTML page that needs no other file, no script and no network; ``on_paper``: for the PDF, light only."""
    keys, paper = [key for key, _ in report.sections], ""
    drawn = diagrams_of(report, keys)
    diagrams: dict[str, str] = dict.fromkeys(("recall", "reliability", "confusion", "training"), "")
    diagrams |= {name: _address(svg if on_paper else with_both_themes(svg)) for name, svg in drawn.items()}
    if on_paper:
        # The typeface stands beside the program; the pages of a PDF take in what they use of it.
        faces = "".join(
            f'@font-face {{ font-family: Inter; font-weight: {weight}; src: url("{(FONTS / f"Inter-{name}.otf").as_uri()}"); }}'
            for name, weight in (("Regular", 400), ("Medium", 500), ("SemiBold", 600))
        )
        paper = faces + (_HERE / "paper.css").read_text(encoding="utf-8")
    width = min(200, side_for(sum(1 + bool(one.heat) for one in pictures.values())))
    css = _environment().from_string((_HERE / "report.css").read_text(encoding="utf-8")).render(width=width)
    worst = [one for one in report.classes if one.drawn[0] is not None]
    worst = sorted(worst, key=lambda one: one.drawn[0] or 0.0)[:3]
    total, record = ground.snapshot.figures.total, ground.snapshot.record
    return (
        _environment()
        .get_template("report.html.j2")
        .render(
            report=_printable(report),
            sections=report.sections,
            keys=keys,
            css=Markup(css + paper),
            diagrams=diagrams,
            pictures=pictures,
            recipe=recipe_of(ground),
            total=count(total),
            recall_alt=printable("Recall by class. Lowest: " + ", ".join(f"{one.name} {one.recall}" for one in worst)),
            reliability_alt="Reliability diagram: "
            + "; ".join(
                f"confidence {one.confidence:.2f}, accuracy {one.accuracy.value:.2f}, {one.count} images"
                for one in report.reliability
                if one.confidence is not None and one.accuracy.value is not None
            ),
            most_drawn=MOST_CLASSES,
            drawn_classes=f" The {MOST_CLASSES} classes with the lowest recall."
            if len(record.classes) > MOST_CLASSES
            else "",
            images_total=count(report.images_total),
            list_name=f"…-{LIST}",
            confusion_alt="Confusion matrix. Its most common mistakes are in the table below",
        )
        + "\n"
    )


def _printable(value: Any) -> Any:
    """The same with texts that any UTF-8 file can hold, whatever the names in them."""
    if isinstance(value, str):
        # A word that fills pages takes minutes to be laid out; it stands whole in the JSON beside.
        shown = _LONG_WORD.sub(lambda found: f"{found[0][:100]}…{found[0][-40:]}", printable(value))
        return shown.replace("\0", "\\x00")
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        return tuple(_printable(one) for one in value)
    if isinstance(value, list):
        return [_printable(one) for one in value]
    if hasattr(value, "__dataclass_fields__"):
        made = object.__new__(type(value))
        for name in value.__dataclass_fields__:
            object.__setattr__(made, name, _printable(getattr(value, name)))
        return made
    return value
