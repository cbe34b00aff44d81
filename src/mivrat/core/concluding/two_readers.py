"""Reviews of several readers: merged by image content, how far they agree, and where they do not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.numbers import decimal, span
from mivrat.core.base.text import clipped, unescaped
from mivrat.core.figures.agreement import Agreement, agreement_of_several, agreement_of_two
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.study.decisions import LONGEST_NAME, Decision, ReviewFile, file_as_text
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, load_image_names
from mivrat.core.study.readers import decisions_of, merge_decisions, readers_here
from mivrat.core.study.reviews import Reviews

HERE = "this study"
# What each reader has decided, by reader and the image's place in its set.
Decided = Mapping[str, Mapping[int, Decision]]


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

    def who(self, most: int = LONGEST_NAME) -> str:
        """The readers in words, a name with at most so many letters."""
        if len(self.readers) != 2:
            return f"all {len(self.readers)} readers"
        return " and ".join(clipped(one, most) for one in self.readers)

    @property
    def kappa(self) -> str:
        """Kappa with its interval; empty where there is none."""
        found = self.found
        if found.kappa is None:
            return ""
        ends = span(found.low, found.high, 1, 2)
        return decimal(found.kappa, 2) + (f" ({ends})" if ends else "")


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


def merge(study: Study, given: ReviewFile) -> Merged:
    """Take a reader's decisions in, for every image of the study with the same content. InputError where none is of its images, or they are
    of someone who reviews in this study."""
    if given.reader in readers_here(study):
        raise InputError(
            f"these are the decisions of {given.reader}, who reviews in this study",
            where=study.path,
            hint="merge another reader's",
        )
    taken: set[tuple[str, str]] = set()
    for info in list_image_sets(study):
        names = load_image_names(study, info.id)
        found = []
        for one in given.decisions:
            # Without its content nobody knows whether it is the same picture.
            i = names.position(ImageName(one.content, unescaped(one.path))) if one.content else None
            if i is not None and names[i].content == one.content:
                found.append((names[i], one))
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


def write_reviews(study: Study, reader: str, target: Path) -> tuple[int, int]:
    """Write what a reader of this study has decided; how many decisions were written, and how many were not, of images whose content is
    not known yet. InputError where it cannot be written."""
    some = decisions_of(study, reader)
    told = [one for one in some if one.content]
    write_whole(target, file_as_text(reader, told))
    return len(told), len(some) - len(told)


def decided(reviews: Reviews) -> Decided:
    """What each reader has decided of a set's images, the present one first."""
    return {reviews.reader or HERE: reviews.decisions(), **reviews.others}


def agreements(decided: Decided) -> list[QuestionAgreement]:
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
