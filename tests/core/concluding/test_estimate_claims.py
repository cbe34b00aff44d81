"""Findings that rest on labels of images drawn by chance: exact with all labels, unbiased for the next model, refused elsewhere."""

from __future__ import annotations

import json

import numpy as np
import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.concluding.checking import check_finding, finding_of, measure
from mivrat.core.concluding.estimate_claims import estimate_claim
from mivrat.core.concluding.findings import Checked, Draft, FindingClaim, Measure, as_text, from_text
from mivrat.core.concluding.labelling import draw_labels, wanted_figure
from tests.support.grounds import CLASSES, ground

RNG = np.random.default_rng(5)
TRUTH = RNG.integers(0, 3, 300).tolist()
FIRST = [k if RNG.random() < 0.8 else int(RNG.integers(0, 3)) for k in TRUTH]
NEXT = [k if RNG.random() < 0.6 else int(RNG.integers(0, 3)) for k in TRUTH]
NONE: list[int | None] = [None] * 300
ONE, OTHER = ground(NONE, FIRST), ground(NONE, NEXT, model="two")


def claim(figure: str, labels: int, seed: int = 0, limit: float | None = None) -> FindingClaim:
    record, judged = ONE.snapshot.record, ONE.snapshot.judged
    found = draw_labels(record, judged, wanted_figure(figure, CLASSES), labels=labels, seed=seed)
    given = {place: TRUTH[i] for place, i in enumerate(found.listed.tolist())}
    return estimate_claim(found, given, record.names, CLASSES, limit)


def measured(one: FindingClaim, where: object = ONE) -> Measure:
    (found,) = [event for event in measure(one, where) if isinstance(event, Measure)]  # type: ignore[arg-type]
    return found


@pytest.mark.parametrize(("where", "said"), [(ONE, FIRST), (OTHER, NEXT)])
def test_all_labels_give_the_figure_itself(where: object, said: list[int]) -> None:
    right = [a == b for a, b in zip(TRUTH, said, strict=True)]
    assert measured(claim("top1", 300), where).value == pytest.approx(np.mean(right))
    of_class = [a for a, k in zip(right, TRUTH, strict=True) if k == 1]
    assert measured(claim('recall["ragweed"]', 300), where).value == pytest.approx(np.mean(of_class))


def test_some_labels_tell_of_the_next_model_too() -> None:
    truth = float(np.mean([a == b for a, b in zip(TRUTH, NEXT, strict=True)]))
    found = [measured(claim("top1", 60, seed), OTHER) for seed in range(120)]
    values = [one.value for one in found if one.value is not None]
    assert np.mean(values) == pytest.approx(truth, abs=0.02)
    inside = [one.low is not None and one.high is not None and one.low <= truth <= one.high for one in found]
    assert np.mean(inside) >= 0.9


def test_a_finding_keeps_it_and_a_limit_is_met_or_missed() -> None:
    whole = claim("top1", 300, limit=0.8)
    finding = finding_of(Draft("t", "s", whole), measured(whole), ONE)
    assert from_text(finding.id, as_text(finding)) == finding
    (after,) = [event for event in check_finding(finding, OTHER) if isinstance(event, Checked)]
    assert (after.state, after.why) == ("worse", "met before, missed now")
    (same,) = [event for event in check_finding(finding, ONE) if isinstance(event, Checked)]
    assert same.state == "holds"
    assert "estimated from 300 labels" in finding.before.words


def test_what_cannot_be_asked_says_why() -> None:
    elsewhere = ground(NONE, FIRST, images="other")
    assert measured(claim("top1", 60), elsewhere).problem.startswith("60 of the 60 labelled images are not in this set")
    broken = FindingClaim("estimate", claim("top1", 60).text, labels=claim("top1", 60).labels[1:])
    assert "not one of an estimate" in measured(broken).problem
    one = json.loads(claim("top1", 60).text)
    for wrong in (len(one["strata"]), -1):
        told = json.dumps({**one, "stratum": [*one["stratum"][:-1], wrong]})
        broken = FindingClaim("estimate", told, labels=claim("top1", 60).labels)
        assert "not one of an estimate" in measured(broken).problem
    with pytest.raises(InputError, match="of other images under another model"):
        claim('precision["ragweed"]', 60)
