"""Findings: what was found of a model, how much it weighs, the pictures that show it, and a claim that can be checked again."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Annotated, Any, Literal, get_args

from pydantic import Field, with_config

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_names import ImageName, image_name
from mivrat.core.study.soundness import KEPT, json_of

Weight = Literal["blocks", "matters", "note"]
WEIGHTS: tuple[Weight, ...] = ("blocks", "matters", "note")
ClaimKind = Literal["criterion", "share", "cover", "difference", "labels", "strain", "estimate"]
Conditions = tuple[Mapping[str, Any], ...]


@dataclass(frozen=True)
class FindingClaim:
    """What is claimed, so that it can be asked of any run.

    ``criterion`` and ``difference``: ``text`` is a requirement. ``share``: of the images that ``conditions`` tell (see
    ``shares``). ``cover``: ``text`` is the plan of a cover test, ``conditions`` say which images it is of where the very ones are
    not there. ``estimate``: ``text`` says of which figure and how the images were drawn, as ``estimate_claims`` has it, and ``labels`` are
    the images with the labels they were given. ``strain``: ``text`` is a level of a distortion, as ``strain_claims`` has it. ``labels``: ``labels`` are images with their label and the one it should be.
    """

    kind: ClaimKind
    text: str = ""
    conditions: Conditions = ()
    labels: tuple[tuple[ImageName, str, str], ...] = ()

    @property
    def content(self) -> str:
        """What is claimed, as a hash."""
        return hashlib.sha256(json.dumps(_claim_data(self), sort_keys=True).encode()).hexdigest()


# A number of images or looks; none is so large that single steps are lost in it.
Count = Annotated[int, Field(ge=0, le=1 << 53)]


@with_config(KEPT)
@dataclass(frozen=True)
class Beside:
    """A figure that stands beside another one: what it is of, and its value with its interval."""

    name: str
    value: float | None
    low: float | None = None
    high: float | None = None
    hits: Count | None = None
    total: Count | None = None


@with_config(KEPT)
@dataclass(frozen=True)
class Measure:
    """What a claim comes to under a run. ``words`` say what it is of; of a share ``hits`` of ``total`` images; ``points`` where the
    value is a difference. ``bad`` is 1 where more is worse, -1 where less is. ``beside`` is what it is judged against: the
    same area hidden elsewhere, the other images, nothing; ``limit`` that of a criterion, which is ``met`` or not (None: cannot
    tell)."""

    words: str
    value: float | None
    low: float | None = None
    high: float | None = None
    hits: Count | None = None
    total: Count | None = None
    bad: int = 1
    percent: bool = True
    points: bool = False
    beside: Beside | None = None
    p: float | None = None
    limit: float | None = None
    met: bool | None = None
    # Why it could not be asked.
    problem: str = ""


@with_config(KEPT)
@dataclass(frozen=True)
class FindingOrigin:
    """What a finding was found on: model and images by content and by name, how that run did as a whole (balanced accuracy with its
    interval), the day, the version of the program, and the seed."""

    model: str
    model_name: str
    recipe: str
    images: str
    images_name: str
    evaluated: Count
    day: str
    version: str
    seed: int = 0
    top1: float | None = None
    balanced: float | None = None
    balanced_low: float | None = None
    balanced_high: float | None = None
    model_sha256: str = ""
    # Of how many findings alike it was the most striking, when it was chosen.
    looks: Count = 1


@dataclass(frozen=True)
class FindingPicture:
    """A picture chosen for a finding: the image by content and path, whether its heatmap goes with it, and a caption."""

    image: ImageName
    heat: bool = False
    caption: str = ""


@dataclass(frozen=True)
class Finding:
    """A finding. ``before`` is what its claim came to where it was found, ``confirmed`` what it came to on the other half of the
    images, which nobody had looked at when it was chosen; one put ``aside`` is neither checked nor reported."""

    id: int
    title: str
    sentence: str
    weight: Weight
    claim: FindingClaim
    made: FindingOrigin
    before: Measure
    pictures: tuple[FindingPicture, ...] = ()
    aside: bool = False
    confirmed: Measure | None = None

    @property
    def basis(self) -> tuple[Measure, FindingOrigin]:
        """The figures that later ones are compared with: on the other half nothing was chosen, so they count as one look."""
        if self.confirmed is None or self.confirmed.value is None:
            return self.before, self.made
        return self.confirmed, replace(self.made, looks=1)


def met_at_least(low: float | None, high: float | None, limit: float | None) -> bool | None:
    """Whether a figure is at least so much: met where its whole interval is not below the limit, missed where the whole interval is, else, or
    without a limit, not told."""
    if limit is None or low is None or high is None:
        return None
    return True if low >= limit else False if high < limit else None


def new_finding_id() -> int:
    """An id that no finding has: the time in nanoseconds."""
    return time.time_ns()


def _claim_data(claim: FindingClaim) -> dict[str, Any]:
    return {
        "kind": claim.kind,
        "text": claim.text,
        "conditions": [dict(one) for one in claim.conditions],
        "labels": [[list(image), label, should] for image, label, should in claim.labels],
    }


def measure_data(measure: Measure) -> dict[str, Any]:
    """A measure as JSON's kinds of values; what it does not have is left out."""
    return {key: value for key, value in asdict(measure).items() if value is not None or key == "value"}


def measure_from(data: Mapping[str, Any]) -> Measure:
    """A measure as ``measure_data`` gives it. Raises ValueError where it is none."""
    return json_of(json.dumps(data), Measure)


def as_text(finding: Finding) -> str:
    """A finding as a study keeps it."""
    return json.dumps(
        {
            "title": finding.title,
            "sentence": finding.sentence,
            "weight": finding.weight,
            "aside": finding.aside,
            "claim": _claim_data(finding.claim),
            "made": asdict(finding.made),
            "before": measure_data(finding.before),
            "confirmed": measure_data(finding.confirmed) if finding.confirmed is not None else None,
            "pictures": [[list(one.image), one.heat, one.caption] for one in finding.pictures],
        },
        ensure_ascii=False,
    )


def from_text(finding_id: int, text: str) -> Finding:
    """A finding as ``as_text`` gives it; InputError where it is none."""
    try:
        data = json.loads(text)
        claim = data["claim"]
        if claim["kind"] not in get_args(ClaimKind) or data["weight"] not in WEIGHTS:
            raise ValueError("no such kind")
        labels = tuple((image_name(image), str(label), str(should)) for image, label, should in claim["labels"])
        return Finding(
            finding_id,
            str(data["title"]),
            str(data["sentence"]),
            data["weight"],
            FindingClaim(claim["kind"], str(claim["text"]), tuple(dict(one) for one in claim["conditions"]), labels),
            json_of(json.dumps(data["made"]), FindingOrigin),
            measure_from(data["before"]),
            tuple(
                FindingPicture(image_name(image), bool(heat), str(caption)) for image, heat, caption in data["pictures"]
            ),
            bool(data["aside"]),
            measure_from(data["confirmed"]) if data.get("confirmed") is not None else None,
        )
    except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as error:
        raise InputError("a finding cannot be read", where="study", hint="remove it and add it again") from error


FindingState = Literal["gone", "weaker", "holds", "worse", "inconclusive"]


@with_config(KEPT)
@dataclass(frozen=True)
class Checked:
    """What has become of a finding under a run: its state, why, and what its claim comes to there."""

    state: FindingState
    why: str
    after: Measure
    model: str = ""
    images: str = ""


def checked_text(checked: Checked) -> str:
    """A check as a study keeps it."""
    return json.dumps(
        {**asdict(replace(checked, after=Measure("", None))), "after": measure_data(checked.after)}, ensure_ascii=False
    )


def checked_from(text: str) -> Checked | None:
    """A check as ``checked_text`` gives it; None where it is none."""
    try:
        # Earlier versions saved the verdict in other words.
        return json_of(text.replace('"state": "cannot tell"', '"state": "inconclusive"', 1), Checked)
    except (ValueError, RecursionError):
        return None


@dataclass(frozen=True)
class Draft:
    """A finding that is about to be made: what can be told of it from what is on screen."""

    title: str
    sentence: str
    claim: FindingClaim
    weight: Weight = "matters"
    pictures: tuple[FindingPicture, ...] = field(default=())
    looks: int = 1
    # What it came to on images that were not looked at when it was chosen, where that is known already.
    confirmed: Measure | None = None
