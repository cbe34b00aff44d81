"""Targets of all images at once against those of each."""

from __future__ import annotations

import numpy as np

from mivrat.core.heatmaps.setup import MapSetup, Whose
from tests.support.small_run import Ran


def test_targets_of_all_images_at_once_are_those_of_each(ran: Ran) -> None:
    wishes: list[Whose] = ["predicted", "labelled", "runner-up", "other", 0, 2]
    for of in wishes:
        for against in (None, *wishes):
            setup = MapSetup(of=of, against=against)
            each = [setup.target(ran.judged, i) is not None for i in range(42)]
            found = setup.possible(ran.judged)
            if "runner-up" in (of, against) or "other" in (of, against):
                assert (found | ~np.array(each)).all()  # which class the second is it does not know
            else:
                assert found.tolist() == each
    usual = MapSetup(of="predicted", against="other")
    assert usual.possible(ran.judged).tolist() == [usual.target(ran.judged, i) is not None for i in range(42)]
