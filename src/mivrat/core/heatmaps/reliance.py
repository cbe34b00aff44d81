"""Whether the maps of some images can be trusted: deletion and insertion, the weight-shuffle check, agreement of methods."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.base.job import Meter, Progress, Stopped, current_stop
from mivrat.core.figures.significance import even_split
from mivrat.core.heatmaps.faithfulness import DRAWS, Faithfulness, faithfulness
from mivrat.core.heatmaps.kept_maps import maps_of_setup
from mivrat.core.heatmaps.maps import HeatmapMaker, Map, MapMaker, Target
from mivrat.core.heatmaps.methods import Method
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.heatmaps.shuffled import ALIKE, DEPTHS, Shuffle, overlap_of_hottest, rank_correlation, shuffle_check
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.study.records import RunRecord

# The methods whose maps are compared with each other.
COMPARED: tuple[Method, ...] = ("gradient", "elementwise", "signed", "occlusion")
LEVEL = 0.05


@dataclass(frozen=True)
class MethodAgreement:
    """Of two methods: the median rank correlation of their maps, and how far their hottest tenths are the same places."""

    one: Method
    other: Method
    correlation: float
    overlap: float


@dataclass(frozen=True)
class Reliance:
    """What has been found so far about the maps of ``images`` under a setup; ``zero`` of them are all zero."""

    setup: MapSetup
    images: tuple[int, ...]
    zero: int = 0
    faithful: tuple[Faithfulness, ...] = ()
    shuffles: tuple[Shuffle, ...] = ()
    agreements: tuple[MethodAgreement, ...] = ()
    finished: bool = False
    unreadable: int = 0

    def better_than_random(self, which: str) -> tuple[int, int, float]:
        """Of how many images the area is on the right side of the mean random order's, of how many in all, and the exact
        probability of so uneven a split (sign test). ``which`` is deletion (less is better) or insertion (more is)."""
        better = worse = 0
        for one in self.faithful:
            mine = getattr(one, f"{which}_area")
            random = float(getattr(one, f"random_{which}_areas").mean())
            gain = random - mine if which == "deletion" else mine - random
            better, worse = better + (gain > 0), worse + (gain < 0)
        return better, len(self.faithful), even_split(better, worse)

    def place_among_random(self, which: str) -> int:
        """Of one image: how many of the random orders it beats."""
        one = self.faithful[0]
        mine, random = getattr(one, f"{which}_area"), getattr(one, f"random_{which}_areas")
        return int((random > mine).sum() if which == "deletion" else (random < mine).sum())

    def beats_random(self, which: str) -> bool:
        """Whether the maps are better than random orders: for one image than all of them, for several by the sign test."""
        if not self.faithful:
            return False
        if len(self.faithful) == 1:
            return self.place_among_random(which) == DRAWS
        better, total, p = self.better_than_random(which)
        return p < LEVEL and 2 * better > total

    def alike(self, depth: str) -> float | None:
        """How alike maps stay with weights shuffled so far: the median size of the rank correlation over draws and images."""
        values = [np.abs(one.alike) for one in self.shuffles if one.depth == depth]
        known = np.concatenate(values) if values else np.zeros(0)
        known = known[~np.isnan(known)]
        return float(np.median(known)) if len(known) else None

    @property
    def changes_from(self) -> str | None:
        """The first depth of shuffling from which the maps are others, None where they never are."""
        for depth in DEPTHS:
            alike = self.alike(depth)
            if alike is not None and alike < ALIKE:
                return depth
        return None

    def sentences(self) -> list[str]:
        """What this supports, in plain words."""
        found, many = [], len(self.faithful) > 1
        about = f"the {len(self.faithful)} maps" if many else "the map"
        if self.zero:
            found.append(f"{self.zero} of {len(self.images)} maps are all zero and say nothing.")
        if self.faithful:
            sides = [which for which in ("deletion", "insertion") if self.beats_random(which)]
            do, are = ("call", "they are") if many else ("calls", "it is")
            if len(sides) == 2:
                found.append(
                    f"What {about} {do} hot is what the answer depends on: the probability falls sooner when it is removed first, and rises "
                    "sooner when it is restored first, than in random orders."
                )
            elif sides:
                found.append(
                    f"What {about} {do} hot matters by {sides[0]}, but not by the other curve: read with care."
                )
            else:
                found.append(
                    f"What {about} {do} hot matters no more than places drawn at random: {are} no evidence of "
                    "what the answer depends on."
                )
        if self.shuffles and self.alike(DEPTHS[-1]) is not None:
            depth = self.changes_from
            if depth is None:
                found.append(
                    "The maps stay alike even with all weights shuffled: they show the image, not what the model "
                    "has learned."
                )
            elif depth == DEPTHS[0]:
                found.append(
                    "The maps change as soon as the last layer's weights are shuffled: they depend on what the "
                    "model has learned."
                )
            else:
                found.append(
                    f"The maps hardly change until {depth} is shuffled: what tells the classes apart shows little "
                    "in them."
                )
        if self.finished and self.faithful:
            hot = all(self.beats_random(which) for which in ("deletion", "insertion"))
            unshuffled = "" if self.shuffles else ". This is from answers alone: no weights could be shuffled"
            sound = hot and (self.changes_from is not None or not self.shuffles)
            found.append(
                f"That supports saying where the evidence lies{unshuffled}. That it is the cause, only a cover test can show."
                if sound
                else "They do not support saying where the evidence lies; try another method or layer."
            )
        return found


def examine_reliance(
    record: RunRecord,
    judged: EvaluatedRun,
    setup: MapSetup,
    images: Sequence[int],
    maker: MapMaker,
    seed: int = 0,
) -> Iterator[Progress | Reliance]:
    """Examine the maps of some images, yielding progress and what is known so far; ends early when stopped.

    ``images`` are positions in the image set. Raises InputError where the model cannot be read.
    """
    tensors, targets, used, unreadable = [], [], [], 0
    for image in images:
        target = setup.target(judged, image)
        if target is None:
            continue
        try:
            tensors.append(prepare_file(record.image_set.file(image), record.recipe))
        except UnreadablePicture:
            unreadable += 1
            continue
        targets.append(target)
        used.append(image)
    pairs = [(a, b) for i, a in enumerate(COMPARED) for b in COMPARED[i + 1 :]]
    # What lies inside the model can be shuffled, and other methods tried, only where something is known of it.
    inside = isinstance(maker, HeatmapMaker)
    meter, done = Meter((2 * len(used) + len(DEPTHS) * 3) if inside else len(used)), 0
    trust = Reliance(setup, tuple(used), unreadable=unreadable)
    yield meter.at(0)
    try:
        heats = [maps_of_setup(maker, t[None], [k], setup, seed)[0] for t, k in zip(tensors, targets, strict=True)]
        trust = replace(trust, zero=sum(not h.any() for h in heats))
        for tensor, target, heat in zip(tensors, targets, heats, strict=True):
            if heat.any():
                answer = partial(maker.answers, target)
                one = faithfulness(tensor, heat, answer, maker.channels_last, seed)
                trust = replace(trust, faithful=(*trust.faithful, one))
            done += 1
            yield meter.at(done)
            yield trust
        for shuffle in _shuffles(maker, setup, tensors, targets, seed) if isinstance(maker, HeatmapMaker) else ():
            trust, done = replace(trust, shuffles=(*trust.shuffles, shuffle)), done + 1
            yield meter.at(done)
            yield trust
            if current_stop().stopped:
                return
        compared: dict[tuple[Method, Method], list[tuple[float, float]]] = {pair: [] for pair in pairs}
        for tensor, target in zip(tensors, targets, strict=True) if inside else ():
            maps = _by_each_method(maker, setup, tensor, target, seed)
            for pair in pairs:
                first, second = (maps[m] for m in pair)
                compared[pair].append((rank_correlation(first, second), overlap_of_hottest(first, second)))
            done += 1
            trust = replace(trust, agreements=_agreements(compared))
            yield meter.at(done)
            yield trust
    except Stopped:
        return
    yield replace(trust, finished=True)


def _shuffles(
    maker: HeatmapMaker, setup: MapSetup, tensors: Sequence[NDArray[np.generic]], targets: Sequence[Target], seed: int
) -> Iterator[Shuffle]:
    def maps(one: HeatmapMaker, batch: NDArray[np.generic], some: Sequence[Target]) -> list[Map]:
        return maps_of_setup(one, batch, some, setup, seed)

    if len({t.shape for t in tensors}) == 1:
        yield from shuffle_check(maker, np.stack(tensors), targets, maps, seed)
        return
    for group in zip(  # pictures of other sizes do not share a batch
        *(shuffle_check(maker, t[None], [k], maps, seed) for t, k in zip(tensors, targets, strict=True)), strict=True
    ):
        yield Shuffle(group[0].depth, group[0].draw, np.concatenate([one.alike for one in group]))


def _by_each_method(
    maker: MapMaker, setup: MapSetup, tensor: NDArray[np.generic], target: Target, seed: int
) -> dict[Method, Map]:
    found = {}
    for method in COMPARED:
        layers = () if method == "occlusion" else setup.layers
        found[method] = maps_of_setup(
            maker, tensor[None], [target], replace(setup, method=method, layers=layers), seed
        )[0]
    return found


def _agreements(compared: dict[tuple[Method, Method], list[tuple[float, float]]]) -> tuple[MethodAgreement, ...]:
    found = []
    for (one, other), values in compared.items():
        both = np.array(values)
        known = [column[~np.isnan(column)] for column in both.T]
        medians = [float(np.median(column)) if len(column) else float("nan") for column in known]
        found.append(MethodAgreement(one, other, medians[0], medians[1]))
    return tuple(found)
