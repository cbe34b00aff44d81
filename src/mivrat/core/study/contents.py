"""What a study holds, at a glance: models, image sets, how far their runs are, and what does not fit yet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mivrat.core.pictures.containers import root_is_there
from mivrat.core.study.class_list import class_sizes, load_families, load_pairing, unmatched_labels
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets
from mivrat.core.study.kept_answers import count_answered
from mivrat.core.study.models import list_models
from mivrat.core.study.names import model_names
from mivrat.core.study.records import ModelInfo, RunInfo, SetInfo
from mivrat.core.study.runs import list_runs
from mivrat.core.study.settings import load_claim, load_criteria
from mivrat.core.study.soundness import reading


@dataclass(frozen=True)
class RunState:
    """How far a run is: images answered for, of those listed."""

    info: RunInfo
    answered: int
    listed: int


@dataclass(frozen=True)
class Contents:
    """Everything the Prepare step shows.

    ``missing`` are the files and folders named in the study that are not there; ``unmatched`` the labels no class goes
    by, with their number of images; ``per_class`` the images of each class by set; ``claims`` the top-1 accuracy claimed for a
    model, ``criteria`` what its figures have to meet, both by model.
    """

    classes: list[str]
    models: list[ModelInfo]
    sets: list[SetInfo]
    runs: list[RunState]
    families: dict[int, str]
    pairing: dict[str, int | None]
    unmatched: dict[str, int]
    missing: frozenset[Path]
    per_class: dict[int, Counter[int]] = field(default_factory=dict)
    claims: Mapping[int, float] = field(default_factory=dict)
    criteria: Mapping[int, tuple[str, ...]] = field(default_factory=dict)
    model_names: Mapping[int, str] = field(default_factory=dict)

    def model_name(self, model_id: int) -> str:
        """A model's name, told apart from others of that name. Empty for a model added since."""
        return self.model_names.get(model_id, "")

    def run_of(self, model_id: int, set_id: int) -> RunState | None:
        """The run of a model on a set, where there is one."""
        return next((one for one in self.runs if (one.info.model_id, one.info.set_id) == (model_id, set_id)), None)


@reading
def read_contents(study: Study) -> Contents:
    """Gather the contents of a study (counts its answers: call it in a worker)."""
    models, sets = list_models(study), list_image_sets(study)
    size = {one.id: one.images for one in sets}
    runs = [
        RunState(run, count_answered(study, run.model_id, run.set_id), size[run.set_id]) for run in list_runs(study)
    ]
    missing = [one.path for one in models if not one.path.is_file()] + [
        one.root for one in sets if not root_is_there(one.root)
    ]
    return Contents(
        study.classes,
        models,
        sets,
        runs,
        load_families(study),
        load_pairing(study),
        unmatched_labels(study),
        frozenset(missing),
        class_sizes(study),
        {one.id: claim for one in models if (claim := load_claim(study, one.id)) is not None},
        {one.id: found for one in models if (found := load_criteria(study, one.id))},
        model_names(study),
    )
