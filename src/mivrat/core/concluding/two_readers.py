"""Reviews of several readers: merged by image content, how far they agree, and where they do not."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from mivrat.core.base.errors import InputError
from mivrat.core.figures.agreement import Agreement, agreement_of_several, agreement_of_two
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, load_image_names
from mivrat.core.study.readers import (
    Decision,
    ReviewFile,
    merge_decisions,
    merged_decisions,
    own_decisions,
    own_reader,
)

HERE = "this study"


@dataclass(frozen=True)
class Merged:
    """What came of merging a file: whose it is, how many of its decisions are of images of this study, and of how many it has."""

    reader: str
    taken: int
    given: int


@dataclass(frozen=True)
class QuestionAgreement:
    """One question put to two or more readers, and how far they agree on it; of images that all of them have decided."""

    question: str
    readers: tuple[str, ...]
    found: Agreement


def read_reviews(source: Path) -> ReviewFile:
    """A reader's decisions from a file. InputError where it is not one."""
    try:
        return ReviewFile.model_validate_json(source.read_bytes())
    except OSError as error:
        raise InputError(
            f"cannot be read ({error.strerror})", where=source, hint="name a file that review export wrote"
        ) from error
    except ValidationError as error:
        first = error.errors()[0]
        place = "/".join(str(one) for one in first["loc"]) or "the whole"
        raise InputError(
            f"is not a file of reviews ({place}: {first['msg']})",
            where=source,
            hint="name a file that review export wrote, as it was",
        ) from error


def _names(study: Study, set_id: int) -> tuple[dict[int, ImageName], Callable[[ImageName], int | None]]:
    names = load_image_names(study, set_id)
    return {i: names[i] for i in range(len(names))}, names.position


def merge(study: Study, given: ReviewFile) -> Merged:
    """Take a reader's decisions in, for every image of the study with the same content. InputError where none is of its images, or they are
    the study's own reader's."""
    if given.reader == own_reader(study):
        raise InputError(
            f"these are the decisions of {given.reader}, who reviews in this study",
            where=study.path,
            hint="merge another reader's",
        )
    taken: set[tuple[str, str]] = set()
    for info in list_image_sets(study):
        at, position = _names(study, info.id)
        found = []
        for one in given.decisions:
            # Without its content nobody knows whether it is the same picture.
            i = position(ImageName(one.content, one.path)) if one.content else None
            if i is not None and at[i].content == one.content:
                found.append((at[i], one))
                taken.add((one.content, one.path))
        if found:
            merge_decisions(study, info.id, given.reader, found)
    if given.decisions and not taken:
        raise InputError(
            f"none of {given.reader}'s {len(given.decisions)} decisions is of an image of this study",
            where=study.path,
            hint="merge it into the study of the same images, after they were scored there",
        )
    return Merged(given.reader, len(taken), len(given.decisions))


def all_decisions(study: Study, set_id: int) -> dict[str, dict[ImageName, Decision]]:
    """What each reader has decided of a set's images, the study's own first."""
    at, _ = _names(study, set_id)
    own = {ImageName(one.content, one.path): one for one in own_decisions(study, set_id, at)}
    return {own_reader(study) or HERE: own, **merged_decisions(study, set_id)}


def agreements(decided: Mapping[str, Mapping[ImageName, Decision]]) -> list[QuestionAgreement]:
    """For each two readers, and for all where there are more: whether the label is right (unsure left out), the label proposed where both say
    it is wrong, and each cause by itself."""
    found: list[QuestionAgreement] = []
    for one, other in combinations(decided, 2):
        a, b = decided[one], decided[other]
        both = sorted(a.keys() & b.keys())
        sure = [i for i in both if "unsure" not in (a[i].label_is, b[i].label_is)]
        found.append(_of_two("label is right or wrong", (one, other), [(a[i].label_is, b[i].label_is) for i in sure]))
        wrong = [i for i in sure if a[i].label_is == b[i].label_is == "wrong"]
        found.append(
            _of_two("proposed label", (one, other), [(a[i].label or "none", b[i].label or "none") for i in wrong])
        )
        causes = sorted({cause for i in both for cause in (*a[i].causes, *b[i].causes)})
        for cause in causes:
            pairs = [(str(cause in a[i].causes), str(cause in b[i].causes)) for i in both]
            found.append(_of_two(f"cause: {cause}", (one, other), pairs))
    if len(decided) > 2:
        everyone = set.intersection(*(set(one) for one in decided.values()))
        sure = sorted(i for i in everyone if all(one[i].label_is != "unsure" for one in decided.values()))
        counts = np.array(
            [[sum(one[i].label_is == said for one in decided.values()) for said in ("right", "wrong")] for i in sure],
            np.int64,
        ).reshape(-1, 2)
        found.append(QuestionAgreement("label is right or wrong", tuple(decided), agreement_of_several(counts)))
    return found


def _of_two(question: str, readers: tuple[str, str], pairs: Sequence[tuple[str, str]]) -> QuestionAgreement:
    return QuestionAgreement(question, readers, agreement_of_two([a for a, _ in pairs], [b for _, b in pairs]))


def conflicts(decided: Mapping[str, Mapping[ImageName, Decision]]) -> list[ImageName]:
    """The images of which two readers say different things about the label."""
    found = set()
    for one, other in combinations(decided.values(), 2):
        for image in one.keys() & other.keys():
            a, b = one[image], other[image]
            sure = "unsure" not in (a.label_is, b.label_is)
            if sure and (a.label_is, a.label) != (b.label_is, b.label):
                found.add(image)
    return sorted(found)
