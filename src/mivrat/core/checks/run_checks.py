"""Checks a run of a study: brings together what the checks look at, and keeps what they find in the study."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import cast

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.checks import service_check
from mivrat.core.checks.catalogue import BY_NAME, CheckProgress, run_checks
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, from_json
from mivrat.core.checks.survey import ContentFacts, facts_from_json
from mivrat.core.heatmaps.pool import model_of
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service.model import ServiceModel
from mivrat.core.pictures.image_sets import ImageSet, Role, paths_of
from mivrat.core.pictures.recipe import canonical
from mivrat.core.study.class_list import load_pairing
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, load_image_set, load_stamps
from mivrat.core.study.kept_checks import (
    load_check_answers,
    load_check_results,
    load_surveys,
    save_check_results,
    save_surveys,
)
from mivrat.core.study.records import RunRecord
from mivrat.core.study.runs import listed_in_run
from mivrat.core.study.soundness import reading

# Checks that look at the model itself; loading it takes longer than all the quick others.
NEEDS_MODEL = frozenset({"outputs", "shapes", "recipe"})


@dataclass(frozen=True)
class KeptResult:
    """What a check found, when (local time, to the second), and how many images had been answered for by then. ``content`` is what
    it found of which model and images: an answer to it holds as long as that is the same."""

    result: CheckResult
    at: str
    answered: int
    content: str = ""


def joined(sets: list[ImageSet]) -> ImageSet | None:
    """Several image sets as one, below the folder they have in common; None without any."""
    if not sets:
        return None
    if len(sets) == 1:
        return sets[0]
    root = Path(os.path.commonpath([one.root for one in sets]))
    items = [
        replace(item, path=os.path.relpath(one.root / item.path, root).replace(os.sep, "/"))
        for one in sets
        for item in one.items
    ]
    return ImageSet(" and ".join(one.name for one in sets), root, items, sets[0].role)


def set_of_role(study: Study, role: Role) -> ImageSet | None:
    """All images that a study uses in one way, as one set."""
    return joined([load_image_set(study, one.id) for one in list_image_sets(study) if one.role == role])


def _other_held_out(study: Study, set_id: int, image_set: ImageSet) -> ImageSet | None:
    """The held-out images of a study's other sets; a file that is in this set too (one was drawn from the other) is no copy."""
    others = joined(
        [load_image_set(study, one.id) for one in list_image_sets(study) if one.role == "held-out" and one.id != set_id]
    )
    if others is None:
        return None
    own = set(image_set.files())
    items = [item for item, file in zip(others.items, others.files(), strict=True) if file not in own]
    return replace(others, items=items) if items else None


def gather(study: Study, record: RunRecord, judged: EvaluatedRun, names: Collection[str], seed: int = 0) -> Inputs:
    """What the checks of these names look at; the model is loaded only where one of them needs it."""
    model, remote, problem = None, None, ""
    if record.kind.can.asked and service_check.NAME in names:
        try:
            remote = cast("ServiceModel", model_of(record))
        except NotAgreed:
            raise
        except InputError as error:
            problem = error.line()
    if record.kind.can.gradients and NEEDS_MODEL & set(names):
        try:
            model = OnnxModel(record.model_path, record.recipe, len(record.classes))
            model.recipe_is_guess = record.recipe_is_guess
        except InputError as error:
            problem = error.line()
    return Inputs(
        record.classes,
        record.image_set,
        model,
        problem,
        judged,
        set_of_role(study, "training") if {"training", "recipe"} & set(names) else None,
        load_stamps(study, record.info.set_id) if "changed" in names else {},
        frozenset(label for label, index in load_pairing(study).items() if index is None),
        seed,
        remote=remote,
        references=set_of_role(study, "reference") if "recipe" in names else None,
        others=_other_held_out(study, record.info.set_id, record.image_set) if "duplicates" in names else None,
    )


def check_run(
    study: Study,
    record: RunRecord,
    judged: EvaluatedRun,
    names: Collection[str],
    seed: int = 0,
    keep: bool = True,
) -> Iterator[CheckProgress | KeptResult]:
    """Run checks on a run, keeping each result before it is told of; what was measured of pictures is kept by content.

    ``keep=False`` is for a study that cannot be written to.
    """
    inputs = gather(study, record, judged, names, seed)
    known, about = _known(study), _Answers(study, record)
    try:
        for event in run_checks(inputs, names, known):
            if isinstance(event, CheckProgress):
                yield event
                continue
            kept = KeptResult(
                event, datetime.now().isoformat(sep=" ", timespec="seconds"), int((judged.state > 0).sum())
            )
            if keep:
                save_check_results(study, record.info.id, {event.name: _to_text(kept)})
            yield about.answered(kept)
    finally:
        if keep:
            save_surveys(study, {content: facts.to_json() for content, facts in inputs.fresh.items()})


def _known(study: Study) -> dict[bytes, ContentFacts]:
    """What was measured of pictures before; what cannot be read of it is measured again."""
    found = {}
    for content, text in load_surveys(study).items():
        with suppress(ValueError):
            found[content] = facts_from_json(text)
    return found


class _Answers:
    """What has been answered to checks, by what they found of which model and images."""

    def __init__(self, study: Study, record: RunRecord) -> None:
        self._record, self._names = record, record.names
        self._known = load_check_answers(study)

    @cached_property
    def _about(self) -> str:
        """What the model, the classes and the images with their labels are."""
        record = self._record
        told = hashlib.sha256(
            "\n".join((record.model_sha256, canonical(record.recipe), *record.classes)).encode(
                "utf-8", "surrogateescape"
            )
        )
        names, labels = paths_of(record.image_set.items), record.image_set.labels.tolist()
        if contents := record.answers.contents:
            names = [contents[i].hex() if i in contents else path for i, path in enumerate(names)]
        images = sorted(f"{name} {label if label >= 0 else None}" for name, label in zip(names, labels, strict=True))
        told.update("\n".join(["", *images]).encode("utf-8", "surrogateescape"))
        return told.hexdigest()

    def _name(self, position: int) -> str:
        name = self._names[position]
        return name.content or name.path

    def answered(self, kept: KeptResult) -> KeptResult:
        """A result with what it is about and what has been answered to just that."""
        result = kept.result
        images = sorted(self._name(i) for i in result.images)
        text = "\n".join((self._about, result.name, result.state, *images))
        content = hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()
        return replace(kept, result=replace(result, answer=self._known.get(content, "")), content=content)


@reading
def kept_results(study: Study, record: RunRecord) -> dict[str, KeptResult]:
    """What the checks of a run found, by the check's name, with what was answered; what cannot be read of it can be found again."""
    found = {}
    run_id, about = record.info.id, _Answers(study, record)
    listed = listed_in_run(study, run_id)
    for name, text in load_check_results(study, run_id).items():
        with suppress(ValueError, KeyError, TypeError, RecursionError):
            data = json.loads(text)
            result = from_json(json.dumps(data["result"]))
            if name in BY_NAME and all(0 <= i < listed for i in result.images):
                found[name] = about.answered(KeptResult(result, str(data["at"]), int(data["answered"])))
    return found


def _to_text(kept: KeptResult) -> str:
    return json.dumps({"at": kept.at, "answered": kept.answered, "result": json.loads(kept.result.to_json())})
