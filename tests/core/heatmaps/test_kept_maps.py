"""Maps of a selection: stopped, kept, gone on with, and known however they were asked for."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.heatmaps.kept_maps import KeptMaps
from mivrat.core.heatmaps.maps import Target
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.prepare import prepare_file
from tests.support.small_run import Ran


def test_maps_of_a_selection_are_stopped_kept_and_gone_on_with(ran: Ran, tmp_path: Path) -> None:
    setup, everything, stop = MapSetup("signed", of="predicted"), list(range(42)), StopSignal()
    kept = KeptMaps(ran.record, ran.judged, setup, ran.contents, BlobCache(tmp_path / "c"))
    with stopped_by(stop):
        for progress in kept.run(ran.maker, everything):
            if progress.done > 1:
                stop.stop()
    done = len(kept.maps)
    assert 0 < done < 41
    again = KeptMaps(ran.record, ran.judged, setup, ran.contents, BlobCache(tmp_path / "c"))
    assert len(again.maps) == done
    steps = list(again.run(ran.maker, everything))
    assert steps[0].done > done - 2
    assert steps[-1].done == 42
    assert again.pending(everything) == []
    assert sorted(again.maps) == [i for i in everything if i not in ran.record.answers.reasons]
    for i in (0, 20, 41):
        tensor = prepare_file(ran.record.image_set.file(i), ran.record.recipe)
        expected = ran.maker.laid_maps(
            tensor[None], [Target(int(ran.judged.predicted[i]))], [ran.maker.layer(None)], "signed"
        )
        np.testing.assert_allclose(again.maps[i], expected[0][0], rtol=1e-4, atol=1e-7)
    # Another question of the same images: only where called and labelled differ is there an answer.
    rather = MapSetup("signed", of="labelled", against="predicted")
    wrong = np.flatnonzero(ran.judged.wrong).tolist()
    assert (
        KeptMaps(ran.record, ran.judged, rather, ran.contents, BlobCache(tmp_path / "c")).pending(everything) == wrong
    )
    # What is known for a class is known however it was asked for.
    named = KeptMaps(ran.record, ran.judged, MapSetup("signed", of=1), ran.contents, BlobCache(tmp_path / "c"))
    assert sorted(named.maps) == np.flatnonzero(ran.judged.predicted == 1).tolist()
    slow = KeptMaps(ran.record, ran.judged, MapSetup("masks"), ran.contents, BlobCache(tmp_path / "c"))
    with stopped_by(stop):
        assert [one.done for one in slow.run(ran.maker, everything[:2])] == [0]  # stopped before the first
