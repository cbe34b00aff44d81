"""Transplant tests: the regions of some images pasted onto others, to see whether they are enough for an answer."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import numpy as np

from mivrat.core.answers.judging import units_in
from mivrat.core.answers.remote_scoring import remote_of
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.base.numbers import percent
from mivrat.core.figures.covered import CoverResult
from mivrat.core.figures.transplanted import TransplantResult, transplant_result
from mivrat.core.heatmaps.maps import MapMaker
from mivrat.core.pictures.decode import Pixels, UnreadablePicture
from mivrat.core.pictures.image_names import ImageNames, image_name
from mivrat.core.pictures.image_sets import ImageSet, column_of
from mivrat.core.pictures.prepare import to_tensor
from mivrat.core.region_masking.cover_test import labels_of, result_of
from mivrat.core.region_masking.one_image import ANSWERS, Covered, Region, cover_one, prepared, seeded
from mivrat.core.region_masking.pasting import Piece, pasted, piece_of
from mivrat.core.region_masking.region_plan import RegionPlan, region_from_kept, region_of

# Without a number chosen, pieces of so many donors go onto so many receivers.
DONORS, RECEIVERS = 50, 200


@dataclass(frozen=True)
class TransplantPlan:
    """Everything that doing a transplant test again takes: whose ``region`` (positions in the set) is pasted onto which images; the class
    that is counted (``predicted``: what the model calls each donor, or a class name); where the piece's middle goes (across and down, as
    shares; None: where it was), and with which edge. The selections say in words what the images are."""

    donors: tuple[int, ...]
    receivers: tuple[int, ...]
    region: RegionPlan
    target: str = "predicted"
    at: tuple[float, float] | None = None
    soft: bool = False
    seed: int = 0
    donors_are: str = ""
    receivers_are: str = ""

    def as_text(self, names: ImageNames) -> str:
        """As a study keeps it, the images by name."""
        told = {**self.how(), "region": self.region.as_kept(names)}
        images = {key: [names[i] for i in some] for key, some in (("from", self.donors), ("onto", self.receivers))}
        return json.dumps({**told, **images})

    def how(self) -> dict[str, Any]:
        """What is done, without the images themselves."""
        return {
            "donors": self.donors_are,
            "receivers": self.receivers_are,
            "region": self.region.as_json(),
            "target": self.target,
            "at": list(self.at) if self.at is not None else None,
            "edge": "soft" if self.soft else "hard",
            "seed": self.seed,
        }

    def in_words(self) -> str:
        place = (
            "at the same place"
            if self.at is None
            else f"at {percent(self.at[0], 0)} across, {percent(self.at[1], 0)} down"
        )
        return f"{self.region.in_words()}, pasted {place} with a {'soft' if self.soft else 'hard'} edge"


def transplant_from_text(text: str, names: ImageNames) -> TransplantPlan:
    """A plan as ``as_text`` gives it, for the images of a list; those it does not hold are left out. InputError where it is no plan, or
    none of its images are there."""
    try:
        data = json.loads(text)
        region = region_from_kept(data["region"], names)
        donors, receivers = (names.positions(map(image_name, data[key])) for key in ("from", "onto"))
        at = data["at"]
        place = None if at is None else (float(at[0]), float(at[1]))
        if data["edge"] not in ("soft", "hard") or (place is not None and not np.isfinite(place).all()):
            raise ValueError("no such place or edge")
        plan = TransplantPlan(
            donors,
            receivers,
            region,
            str(data["target"]),
            place,
            data["edge"] == "soft",
            int(data["seed"]),
            str(data["donors"]),
            str(data["receivers"]),
        )
    except (KeyError, IndexError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as error:
        raise InputError(
            "a kept transplant test cannot be read", where="study", hint="remove it and repeat it"
        ) from error
    if (data["from"] and not donors) or (data["onto"] and not receivers):
        raise InputError(
            "a kept transplant test is of images that the set does not list", where="study", hint="repeat it"
        )
    return plan


@dataclass(frozen=True)
class Transplanted:
    """One receiver's answers as it is, with the piece and with the control: predictions and p of the ``target``; ``donor`` gave the piece,
    ``area`` is its share of the image. ``problem`` tells why nothing was pasted, or why it does not count."""

    image: int
    donor: int
    target: int
    predicted: tuple[int, ...]
    p: tuple[float, ...]
    area: float
    problem: str = ""

    @property
    def became(self) -> tuple[bool, bool]:
        """Whether its answer became the target: under the piece, under the control."""
        return self.predicted[1] == self.target, self.predicted[2] == self.target


@dataclass(frozen=True)
class TransplantTest:
    """A plan and what came of it: of each donor with its region hidden (``need``), of each receiver with a piece pasted (``enough``).
    ``overlapping`` donors have a control that lies partly in the piece, for want of room."""

    plan: TransplantPlan
    donors: tuple[Covered, ...]
    found: tuple[Transplanted, ...]
    need: CoverResult
    enough: TransplantResult
    overlapping: int = 0

    @property
    def left_out(self) -> int:
        """Receivers that do not count."""
        return sum(bool(one.problem) for one in self.found)

    @property
    def donors_left_out(self) -> int:
        """Donors without a piece."""
        return sum(bool(one.problem) for one in self.donors)

    @property
    def mean_area(self) -> float | None:
        areas = [one.area for one in self.found if not one.problem]
        return float(np.mean(areas)) if areas else None


def drawn_by_content(contents: Mapping[int, bytes], most: int, seed: int = 0) -> tuple[int, ...]:
    """So many images at most, a random sample that their content and the seed tell, whatever their names and order."""
    rank = {image: hashlib.sha256(f"{seed} ".encode() + content).digest() for image, content in contents.items()}
    return tuple(sorted(sorted(contents, key=lambda image: (rank[image], image))[:most]))


@dataclass(frozen=True)
class _Donor:
    image: int
    target: int
    piece: Piece
    digest: bytes


def _left_out(image: int, problem: str) -> Transplanted:
    return Transplanted(image, -1, -1, (-1,) * 3, (np.nan,) * 3, 0.0, problem)


def paste_one(
    maker: MapMaker,
    image: int,
    pixels: Pixels,
    donor: tuple[int, int, Piece],
    at: tuple[float, float] | None,
    soft: bool,
) -> tuple[Transplanted, tuple[Pixels, ...]]:
    """Paste a donor's piece (its position, the class counted, the piece) onto one prepared image: the answers, and the image as it is, with
    the piece, and with the control."""
    recipe = maker.model.recipe
    source, target, piece = donor
    if problem := maker.model.misfit(to_tensor(pixels, recipe).shape):
        return _left_out(image, problem), ()
    made = pasted(pixels, piece, at, soft)
    if made is None:
        return _left_out(image, "the piece would be outside it"), ()
    three = (pixels, *made)
    p, scores = maker.ranked(np.stack([to_tensor(one, recipe) for one in three]))
    called = tuple(int(row.argmax()) for row in scores)
    answers = Transplanted(
        image, source, target, called, tuple(float(row[target]) for row in p), float(piece.mask.mean())
    )
    return answers, three


class _Deal:
    """Says whose piece an image gets: in an order drawn by what it is (by its unit, where it has one) the first donor that may give it."""

    def __init__(
        self, donors: Sequence[_Donor], labels: Mapping[int, int], units: Mapping[int, str], seed: int
    ) -> None:
        self._donors, self._labels, self._units, self._seed = donors, labels, units, seed

    def donor_for(self, image: int, pixels: Pixels) -> _Donor | None:
        """None where every donor is the image itself, or shows the class it is labelled."""
        unit = self._units.get(image, "")
        own = unit.encode() if unit else hashlib.sha256(np.ascontiguousarray(pixels).tobytes()).digest()
        key = f"{self._seed} ".encode() + own
        for one in sorted(self._donors, key=lambda one: hashlib.sha256(key + one.digest).digest()):
            if one.image != image and one.target != self._labels.get(image, -1):
                return one
        return None


def run_transplant(
    classes: Sequence[str], image_set: ImageSet, plan: TransplantPlan, maker: MapMaker, heat: MapMaker
) -> Iterator[Progress | TransplantTest]:
    """Cut the pieces out of the donors and paste them, yielding progress and in the end the test; of a stopped one what was done, if any
    receiver was. InputError where no donor has a piece."""
    target = None if plan.target == "predicted" else classes.index(plan.target)
    labels = labels_of(image_set)
    column = image_set.unit_column
    units = dict(enumerate(column_of(image_set.items, column))) if column else {}
    region = region_of(plan.region, heat, maker.model.recipe.picture.mode, own=target is None)
    meter = Meter(len(plan.donors) + len(plan.receivers))
    remote = remote_of(maker.model)
    if remote is not None:
        remote.may_send(meter.total, ANSWERS * meter.total)
    yield meter.at(0)
    covered, pieces, found = list[Covered](), list[_Donor](), list[Transplanted]()
    with suppress(Stopped):
        for image in plan.donors:
            answers, donor = _read_donor(maker, image_set, image, region, target, plan.seed)
            covered.append(answers)
            pieces += [donor] if donor is not None else []
            yield meter.at(len(covered))
            if current_stop().stopped:
                return
        if not pieces:
            why = f": {next(one.problem for one in covered)}" if covered else ""
            raise InputError(
                f"no donor has a piece to paste{why}", where="donors", hint="choose another region or other donors"
            )
        deal = _Deal(pieces, labels, units, plan.seed)
        for image in plan.receivers:
            found.append(_receive(maker, image_set, image, deal, plan, classes))
            yield meter.at(len(covered) + len(found))
            if current_stop().stopped:
                break
    if found:
        need = result_of(covered, labels, units_in(image_set))
        overlapping = sum(one.piece.overlap() > 0 for one in pieces)
        yield TransplantTest(plan, tuple(covered), tuple(found), need, _result(found, image_set), overlapping)


def _read_donor(
    maker: MapMaker, image_set: ImageSet, image: int, region: Region, target: int | None, seed: int
) -> tuple[Covered, _Donor | None]:
    """What a donor's region does when it is hidden, and the piece; None where it has none."""
    try:
        pixels = prepared(image_set.file(image), maker.model.recipe)
    except UnreadablePicture as error:
        return Covered(image, -1, (-1,) * 3, (np.nan,) * 3, 0.0, problem=str(error)), None
    hidden = cover_one(maker, image, pixels, region, "blur", target, seed)
    answers, mask = hidden.answers, hidden.mask
    if answers.problem or mask is None:
        return answers, None
    if not mask.any() or mask.all():
        why = "the region is the whole image" if mask.all() else "it has no such region"
        return Covered(image, -1, (-1,) * 3, (np.nan,) * 3, answers.area, problem=why), None
    digest = hashlib.sha256(np.ascontiguousarray(pixels).tobytes()).digest()
    return answers, _Donor(image, answers.target, piece_of(pixels, mask, seeded(seed, pixels, "piece")), digest)


def _receive(
    maker: MapMaker, image_set: ImageSet, image: int, deal: _Deal, plan: TransplantPlan, classes: Sequence[str]
) -> Transplanted:
    try:
        pixels = prepared(image_set.file(image), maker.model.recipe)
    except UnreadablePicture as error:
        return _left_out(image, str(error))
    donor = deal.donor_for(image, pixels)
    if donor is None:
        return _left_out(image, "every donor is called what this image is labelled, or is this image")
    answers, _ = paste_one(maker, image, pixels, (donor.image, donor.target, donor.piece), plan.at, plan.soft)
    if not answers.problem and answers.predicted[0] == answers.target:
        return _left_out(image, f"is called {classes[answers.target]} already")
    return answers


def _result(found: Sequence[Transplanted], image_set: ImageSet) -> TransplantResult:
    read = [one for one in found if not one.problem]
    became = np.array([one.became for one in read], bool).reshape(-1, 2)
    p = np.array([one.p for one in read], float).reshape(-1, 3)
    units = units_in(image_set)
    donors, images = (np.array([getattr(one, name) for one in read], np.int64) for name in ("donor", "image"))
    return transplant_result(
        became[:, 0],
        became[:, 1],
        p[:, 1] - p[:, 0],
        p[:, 2] - p[:, 0],
        donors,
        units.number[donors] if units is not None else None,
        units.of(images) if units is not None else None,
    )
