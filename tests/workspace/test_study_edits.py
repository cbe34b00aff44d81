"""Edits of a study's settings: what they are called, what they do, and that taking them back leaves no trace."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from mivrat.core.study.class_list import load_families, load_pairing
from mivrat.core.study.file import Study
from mivrat.core.study.models import list_models
from mivrat.core.study.settings import load_claim, load_criteria, load_temperature, load_threshold
from mivrat.workspace import study_edits
from tests.support.studies import scored_study


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return scored_study(tmp_path_factory.mktemp("edits") / "a", 2, {"one": [2, 2]}, 1)


@pytest.mark.parametrize(
    ("make", "now", "before", "read", "words"),
    [
        (study_edits.claim_accuracy, 0.95, None, load_claim, ("95 % claimed", "claim removed")),
        (study_edits.set_threshold, 0.25, None, load_threshold, ("threshold 0.250", "no threshold")),
        (study_edits.set_temperature, 1.5, None, load_temperature, ("temperature 1.50", "no temperature")),
    ],
)
def test_a_number_of_a_model_is_set_and_taken_back(
    study: Path, make: Callable[..., study_edits.StudyEdit], now: Any, before: Any, read: Any, words: tuple[str, str]
) -> None:
    assert (make(1, now, before).words, make(1, before, now).words) == words
    with Study.open(study) as kept:
        edit = make(1, now, before)
        edit.do(kept)
        assert read(kept, 1) == now
        edit.undo(kept)
        assert read(kept, 1) == before
        make(1, now, before).do(kept)
        make(1, None, now).do(kept)
        assert read(kept, 1) is None


def test_lists_are_set_together_and_taken_back_in_reverse(study: Path) -> None:
    with Study.open(study) as kept:
        criteria = study_edits.set_criteria(1, "criteria", ["top1 >= 0.5"], ())
        families = study_edits.put_in_families("families", {0: "wood"}, {})
        pairing = study_edits.pair_labels("a pairing", {"odd": 1}, {"odd": None})
        edit = study_edits.both("both", study_edits.both("two", criteria, families), pairing)
        assert (edit.words, criteria.of_run, edit.of_run) == ("both", False, True)
        edit.do(kept)
        assert (load_criteria(kept, 1), load_families(kept), load_pairing(kept)["odd"]) == (
            ("top1 >= 0.5",),
            {0: "wood"},
            1,
        )
        edit.undo(kept)
        assert (load_criteria(kept, 1), load_families(kept), load_pairing(kept).get("odd")) == ((), {}, None)
        (model,) = list_models(kept)
        renamed = study_edits.rename_model(model, "another")
        renamed.do(kept)
        assert [one.name for one in list_models(kept)] == ["another"]
        renamed.undo(kept)
        assert [one.name for one in list_models(kept)] == [model.name]
