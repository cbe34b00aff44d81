"""A level that is expected in the field is asked again of any run: against counting by hand, and from what the study knows."""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Stopped, StopSignal, stopped_by
from mivrat.core.concluding.checking import check_finding, finding_of, measure
from mivrat.core.concluding.findings import Checked, Draft, FindingClaim, Measure, as_text, from_text
from mivrat.core.concluding.of_study import ground_of, read_snapshot
from mivrat.core.concluding.strain_claims import measure_of_strain, read_strain_claim, strain_claim
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.pictures.decode import UnreadablePicture, read_file
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.straining.strained import decoded_photo, distorted, received
from mivrat.core.straining.sweep import StrainPlan, Sweep
from mivrat.core.study.kept_strains import keep_strains
from tests.support.small_run import Ran

DARK = Distortion("brightness", -2.0)


def by_hand(ran: Ran, strain: Distortion) -> tuple[int, int]:
    """Right answers, and labelled images with an answer, one picture at a time."""
    right = total = 0
    for i, file in enumerate(ran.record.image_set.files()):
        try:
            read = read_file(file)
            photo = decoded_photo(read, ran.model.recipe)
        except UnreadablePicture:
            continue
        tensor = received(distorted(photo, strain, ran.model.recipe, read.stamp.content, 0), ran.model.recipe)
        right += int(ran.model.scores(tensor[None])[0].argmax()) == ran.judged.labels[i]
        total += 1
    return right, total


def test_the_claim_counts_what_a_loop_counts_and_the_study_is_asked_first(ran: Ran, tmp_path: Path) -> None:
    run_id = ran.record.info.id
    snapshot = read_snapshot(ran.study.path, run_id)
    ground = ground_of(ran.study.path, snapshot, MakerPool())
    claim = strain_claim(DARK, 0.9)
    *progress, found = measure(claim, ground)
    assert progress
    assert isinstance(found, Measure)
    assert (found.hits, found.total) == by_hand(ran, DARK)
    assert found.met is False
    assert found.beside is not None
    assert found.beside.hits == int(ran.judged.right[ran.judged.evaluated].sum())
    assert found.words == "accuracy at brightness −2 stops"
    finding = finding_of(Draft("dark", "", claim), found, ground)
    assert from_text(finding.id, as_text(finding)) == finding
    (checked,) = [one for one in check_finding(finding, ground) if isinstance(one, Checked)]
    assert checked.state == "holds"
    # Once the study has the answers no model is loaded: one that is gone is not missed.
    plan = StrainPlan(tuple(np.flatnonzero(snapshot.judged.predicted >= 0).tolist()), (DARK,))
    rows: list[tuple[bytes, str, int, float]] = []
    sweep = Sweep(
        snapshot.judged, snapshot.record.image_set, ran.model, plan, snapshot.record.answers.contents, None, rows.extend
    )
    for _ in sweep.run():
        pass
    keep_strains(ran.study, snapshot.record.info.model_id, rows)
    gone = replace(
        ground, snapshot=replace(snapshot, record=replace(snapshot.record, model_path=tmp_path / "gone.onnx"))
    )
    (again,) = measure(claim, gone)
    assert again == found
    stop = StopSignal()
    stop.stop()
    with stopped_by(stop), suppress(Stopped):
        assert not [one for one in measure(strain_claim(Distortion("blur", 1.0)), ground) if isinstance(one, Measure)]
    level = sweep.figures().levels[0]
    for limit, met in (
        (None, None),
        (0.0, True),
        (1.0, False),
        (level.accuracy.value, None),
        (level.accuracy.low, True),
        (level.accuracy.high, None),
    ):
        assert measure_of_strain(level, sweep.figures().untouched, limit).met is met


@pytest.mark.parametrize(
    "text",
    [
        "no",
        "{}",
        json.dumps({"strain": "blur:1,2", "limit": None, "seed": 0}),
        json.dumps({"strain": "blur:0", "limit": None, "seed": 0}),
        json.dumps({"strain": "fog:1", "limit": None, "seed": 0}),
        json.dumps({"strain": "blur:1", "limit": 2, "seed": 0}),
        json.dumps({"strain": "blur:1", "limit": "much", "seed": 0}),
    ],
)
def test_what_is_no_such_claim_is_said(text: str, ran: Ran) -> None:
    claim = FindingClaim("strain", text)
    with pytest.raises(InputError):
        read_strain_claim(claim)
    ground = ground_of(ran.study.path, read_snapshot(ran.study.path, ran.record.info.id), MakerPool())
    (found,) = [one for one in measure(claim, ground) if isinstance(one, Measure)]
    assert found.problem


def test_a_claim_is_read_as_it_was_written() -> None:
    for strain in (
        DARK,
        Distortion("mark", 0.1, (("colour", "ff0000"),)),
        Distortion("motion", 4.0, (("angle", "30"),)),
    ):
        for limit in (None, 0.8):
            assert read_strain_claim(strain_claim(strain, limit, 7)) == (strain, limit, 7)
