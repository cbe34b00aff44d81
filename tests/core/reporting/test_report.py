"""The report: what it may claim, what it says of its own limits, and names that look like mark-up or formulas."""

from __future__ import annotations

import json
import re
import xml.etree.ElementTree as ET
from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.checks.result import CheckResult
from mivrat.core.concluding.checking import finding_of, measure
from mivrat.core.concluding.criteria import criteria_of
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Draft, FindingClaim, FindingPicture, Measure, Weight
from mivrat.core.reporting.junit import Case, as_junit, cases_of
from mivrat.core.reporting.report.card import as_card, plain
from mivrat.core.reporting.report.content import Report, ReportChoices, ReportInputs, gather
from mivrat.core.reporting.report.data import report_data
from mivrat.core.reporting.report.diagrams import diagrams_of, with_both_themes
from mivrat.core.reporting.report.limits import limits
from mivrat.core.reporting.report.pages import as_html
from mivrat.core.reporting.report.pictures import pictures_of
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.study.reviews import Review, Reviews
from tests.support.grounds import ground

ODD = ["<img src=x onerror=alert(1)>", '=cmd|"/C calc"!A0', "a $x^2$ | {{ 7 * 7 }} & `b`"]
LABELS = [0] * 40 + [1] * 40 + [2] * 20
SAID = [0] * 30 + [1] * 10 + [1] * 40 + [0] * 20
DAY = date(2031, 5, 6)


def told(
    of: EvaluationContext, criteria: Sequence[str] = (), weight: Weight = "blocks", state: str = "holds"
) -> ReportInputs:
    one = FindingClaim("criterion", "top1 >= 0.9")
    (before,) = [event for event in measure(one, of) if isinstance(event, Measure)]
    draft = Draft(ODD[0], f"{ODD[1]}\n{ODD[2]}", one, weight, (FindingPicture(of.names[0], False, ODD[2]),))
    finding = finding_of(draft, before, of)
    checked = Checked(state, "why", before, of.model, of.images)  # type: ignore[arg-type]
    return ReportInputs(
        "study", criteria_of(criteria, of), None, [(finding, checked)], deep=slow_figures(of.snapshot.judged), day=DAY
    )


def made(of: EvaluationContext, **said: object) -> Report:
    return gather(of, told(of, **said), ReportChoices(author=ODD[0], summary=ODD[2]))  # type: ignore[arg-type]


class Seen(HTMLParser):
    """What a reader of the page gets: elements and their words."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.kinds: set[str] = set()
        self.words = ""
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.kinds.add(tag)
        self.words += " ".join(f" {value}" for name, value in attrs if name == "alt")

    def handle_data(self, data: str) -> None:
        self.words += data


def page_of(report: Report, of: EvaluationContext) -> str:
    shown = [one for one in pictures_of(report, of) if isinstance(one, dict)]
    return as_html(report, of, shown[-1] if shown else {})


def test_names_like_mark_up_and_formulas_are_shown_as_they_are() -> None:
    of = ground(LABELS, SAID, classes=ODD, columns={ODD[0]: ["x"] * 50 + [ODD[1]] * 50}, model=ODD[2], images=ODD[0])
    report = made(of, criteria=[f"recall[{json.dumps(ODD[1])}] >= 0.9"])
    page = page_of(report, of)
    assert "onerror=alert(1)>" not in page.replace("&gt;", "")
    seen = Seen(page)
    assert not seen.kinds & {"script", "iframe", "object", "link"}
    for name in ODD:
        assert name in seen.words
    assert "49" not in seen.words.replace("{{ 7 * 7 }}", "")[:200]
    card = as_card(report)
    assert not re.search(r"(?<!\\)<img", card)
    assert re.search(r"\\\|", card)
    parsed = json.loads(json.dumps(report_data(report, of, told(of)), allow_nan=False))
    assert ODD[0] in json.dumps(parsed)
    for svg in diagrams_of(report, ["summary", "classes", "confusions", "calibration"]).values():
        ET.fromstring(with_both_themes(svg))
        assert "onerror" not in svg


@given(
    st.lists(st.tuples(st.text(), st.sampled_from(["passed", "failed", "skipped"]), st.text()), max_size=4), st.text()
)
def test_any_name_makes_well_formed_junit(some: list[tuple[str, str, str]], name: str) -> None:
    cases = [Case("finding", one, state, text) for one, state, text in some]  # type: ignore[arg-type]
    root = ET.fromstring(as_junit(name, cases))
    assert int(root.attrib["tests"]) == len(list(root.iter("testcase"))) == len(cases)
    assert int(root.attrib["failures"]) == len(list(root.iter("failure")))
    assert int(root.attrib["skipped"]) == len(list(root.iter("skipped")))


@pytest.mark.parametrize(
    ("criteria", "weight", "state", "verdict"),
    [
        ((), "note", "holds", ("", "No criteria were set")),
        (("top1 >= 0.5",), "matters", "holds", ("fine", "Accepted")),
        (("top1 >= 0.5", "top1 >= 0.9"), "note", "gone", ("stop", "Not accepted: 1 of 2 criteria missed")),
        (("top1 >= 0.72",), "note", "holds", ("look", "Inconclusive: 1")),
        (("top1 >= 0.5",), "blocks", "holds", ("stop", "Not accepted")),
        (("top1 >= 0.5",), "blocks", "inconclusive", ("stop", "Not accepted")),
        (("top1 >= 0.5",), "blocks", "gone", ("fine", "Accepted")),
    ],
)
def test_the_verdict(criteria: Sequence[str], weight: Weight, state: str, verdict: tuple[str, str]) -> None:
    of = ground(LABELS, SAID)
    report = made(of, criteria=criteria, weight=weight, state=state)
    assert report.verdict_state == verdict[0]
    assert report.verdict.startswith(verdict[1])
    failing = [
        one
        for one in cases_of([c.outcome for c in criteria_of(criteria, of)], told(of, criteria, weight, state).findings)
        if one.state == "failed"
    ]
    assert bool(failing) == (report.verdict_state == "stop")  # a build server is told the same


def test_a_card_reads_well_as_plain_text() -> None:
    """Only what Markdown takes for mark-up is escaped; taken away again, the text is as it was."""
    for text in ("83.0 % (79.0 – 86.3), N = 399", "p = 0.01; up to −3!", "a_b and recipe.toml - of 3 + 4", "C#"):
        assert plain(text) == text
    assert [plain(text) for text in ("# head", "- item", "12. item", "_a_ *b* <i>", "a|b")] == [
        r"\# head",
        r"\- item",
        r"12\. item",
        r"\_a\_ \*b\* \<i\>",
        r"a\|b",
    ]


@given(st.text(st.characters(codec="ascii", exclude_categories=["Cc"])))
def test_escaping_a_card_loses_nothing(text: str) -> None:
    assert re.sub(r"\\([^A-Za-z0-9\s])", r"\1", plain(text)) == " ".join(text.split())


def test_limits_are_the_studys_own_facts() -> None:
    labels: list[int | None] = [*LABELS[:-2], None, None]
    reviews = Reviews((), {0: Review(label=2), 30: Review(reviewed=True)})
    of = ground(labels, SAID, classes=["a", "b", "c", "never"], reviews=reviews)
    of.snapshot.record.recipe_is_guess = True
    checks = [CheckResult("readable", "stop", "3 files are no pictures"), CheckResult("labels", "look", "some are odd")]
    found = " ".join(limits(of, checks, suspected=4, compared=True))
    for part in (
        "3 files are no pictures",
        "some are odd",
        "preprocessing is a guess",
        "2 images have no label",
        "nothing is known",
        "never",
        "fewer than 30 images",
        "c (18)",
        "For 1 image another label",
        "4 images have labels",
        "Of 28 mistakes 1 has",
        "independent of one another",
        "chosen because it was best",
    ):
        assert part in found, part
    plain = ground([0] * 200 + [1] * 200, [0] * 200 + [1] * 200, classes=["a", "b"])
    said = " ".join(limits(plain))
    for part in ("preprocessing is a guess", "no label", "fewer than", "mistakes", "another label", "was best here"):
        assert part not in said, part


def test_a_thousand_classes_stay_readable() -> None:
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 1000, 3000)
    called = np.where(rng.random(3000) < 0.7, labels, rng.integers(0, 1000, 3000))
    of = ground(
        labels.tolist(), called.tolist(), classes=[f"class {k} with a name that is rather long" for k in range(1000)]
    )
    report = made(of)
    page = page_of(report, of)
    assert "All 1000 classes, the one with the lowest recall first." in page
    assert sorted(one.name for one in report.classes) == sorted(of.classes)
    known = [one.drawn[0] for one in report.classes if one.drawn[0] is not None]
    assert known == sorted(known)
    assert len(page) < 1_500_000


def test_sections_are_those_wanted_in_their_order_and_empty_ones_are_left_out(tmp_path: Path) -> None:
    of = ground(LABELS, SAID)
    report = gather(of, told(of), ReportChoices(("limits", "classes", "comparison", "summary")))
    assert [key for key, _ in report.sections] == ["limits", "classes", "summary"]
    ids = re.findall(r'<section id="(\w+)"', page_of(report, of))
    assert ids == ["limits", "classes", "summary"]
    later = gather(
        of, replace(told(of), day=date(2032, 1, 1)), ReportChoices(("limits", "classes", "comparison", "summary"))
    )
    assert page_of(later, of).replace("2032-01-01", "2031-05-06") == page_of(report, of)
