"""Regions and cover tests that a study keeps, also when their run goes and comes back."""

from __future__ import annotations

from mivrat.core.region_masking.regions import Shape
from mivrat.core.study.kept_evidence import (
    EVERY,
    KeptTest,
    load_regions,
    load_tests,
    new_test_id,
    remove_test,
    save_regions,
    save_test,
)
from mivrat.core.study.removing import put_back
from mivrat.core.study.runs import remove_run
from tests.support.small_run import Ran


def test_regions_and_tests_are_kept_and_go_with_their_run(ran: Ran) -> None:
    study, set_id, run_id = ran.study, ran.record.info.set_id, ran.record.info.id
    shapes = [Shape("rectangle", ((0, 0), (0.5, 0.5))).as_json()]
    save_regions(study, set_id, {EVERY: shapes, 3: shapes, 4: shapes})
    save_regions(study, set_id, {3: []})
    assert load_regions(study, set_id) == {EVERY: shapes, 4: shapes}
    test = KeptTest(4, run_id, "2026-01-02", "a 'dot'", "{}", "{}")
    save_test(study, test)
    removed = remove_run(study, run_id)
    assert load_tests(study) == ()
    put_back(study, removed)
    assert load_tests(study) == (test,)
    other = KeptTest(new_test_id(), run_id, "2026-01-03", "another", "{}", "{}")
    save_test(study, other)  # by one who has not read the list
    assert load_tests(study) == (test, other)
    remove_test(study, test.id)
    assert load_tests(study) == (other,)
