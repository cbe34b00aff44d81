"""How far maps can be relied on: counted step by step, stopped, and put in words."""

from __future__ import annotations

from mivrat.core.base.job import Progress, StopSignal, stopped_by
from mivrat.core.heatmaps.reliance import Reliance, examine_reliance
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.heatmaps.shuffled import DEPTHS
from tests.support.small_run import Ran


def test_trust_is_examined_step_by_step(ran: Ran) -> None:
    (broken,) = ran.record.answers.reasons
    images = [0, broken, 20, 30]
    *steps, last = examine_reliance(ran.record, ran.judged, MapSetup("signed", of=1), images, ran.maker)
    assert isinstance(last, Reliance)
    assert last.finished
    assert last.unreadable == 1
    assert last.images == (0, 20, 30)
    assert len(last.faithful) == 3 - last.zero
    assert len(last.shuffles) == 9
    assert len(last.agreements) == 6
    better, total, p = last.better_than_random("insertion")
    assert total == len(last.faithful)
    assert 0 <= better <= total
    assert 0 < p <= 1
    assert all(last.alike(depth) is not None for depth in DEPTHS)
    assert any("cover test" in one or "do not support" in one for one in last.sentences())
    assert [p.done for p in steps if isinstance(p, Progress)] == list(range(2 * 3 + 9 + 1))
    assert not Reliance(MapSetup(), ()).sentences()
    stop = StopSignal()
    stop.stop()
    with stopped_by(stop):
        found = list(examine_reliance(ran.record, ran.judged, MapSetup(), images, ran.maker, 0))
    assert not any(isinstance(one, Reliance) for one in found)
