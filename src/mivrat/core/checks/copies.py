"""Finds the near copies among surveyed images: of one set, or of two; with progress, and stoppable."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.base.text import plural
from mivrat.core.checks.near_copies import MOST_CROPPED, MOST_PAIRS, Confirmer, Proposer
from mivrat.core.checks.survey import Surveyed, near_pairs
from mivrat.core.pictures.image_sets import ImageSet

# Fingerprints may differ in so many bits for a pair to be compared; so many pairs are compared, those most alike first.
NEAR_BITS, MOST_COMPARED = 6, 5000


@dataclass(frozen=True)
class NearCopy:
    """Two images (positions in their sets) that are near copies, and how alike their textures are, at most 1."""

    first: int
    second: int
    likeness: float


@dataclass(frozen=True)
class FoundCopies:
    """The near copies that were found, and which kinds were searched for, in words."""

    copies: tuple[NearCopy, ...]
    kinds: str


def find_near_copies(
    first: Sequence[Surveyed],
    images: ImageSet,
    second: Sequence[Surveyed],
    others: ImageSet,
) -> Iterator[Progress | FoundCopies]:
    """Find the near copies between two surveyed sets, or within one (given twice: then each pair once).

    Exact copies are left out. Yields progress and in the end what was found; nothing more where it was stopped.
    """
    same = first is second
    mine, theirs = ([one for one in some if one.facts.small] for some in (first, second))
    number = len(mine) * (len(mine) - 1) // 2 if same else len(mine) * len(theirs)
    if not mine or not theirs:
        yield FoundCopies((), _kinds(number, 0))
        return
    proposer = Proposer([one.facts.small for one in mine], [one.facts.small for one in theirs])
    pairs = _by_fingerprint(mine, theirs)
    if number <= MOST_PAIRS:
        for step in proposer.pairs(same, cropped=number <= MOST_CROPPED):
            if current_stop().stopped:
                return
            if isinstance(step, Progress):
                yield step
            else:
                pairs.update(step)
    if same:
        pairs = {(min(pair), max(pair)) for pair in pairs if pair[0] != pair[1]}
    wanted = compared = [(i, j) for i, j in pairs if _content(mine[i]) != _content(theirs[j])]
    if len(wanted) > MOST_COMPARED:
        compared = sorted(wanted, key=lambda pair: (-proposer.likeness(*pair), pair))[:MOST_COMPARED]
    compared = sorted(compared)  # pictures of one row after another, so that one that was read serves several pairs
    confirmer = Confirmer(
        proposer, [images.file(one.index) for one in mine], [others.file(one.index) for one in theirs]
    )
    meter, found = Meter(len(compared)), list[NearCopy]()
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for first_one in range(0, len(compared), 16):
            if current_stop().stopped:
                return
            some = compared[first_one : first_one + 16]
            for (i, j), likeness in zip(some, pool.map(lambda pair: confirmer.copy_likeness(*pair), some), strict=True):
                if likeness:
                    found.append(NearCopy(mine[i].index, theirs[j].index, likeness))
            yield meter.at(first_one + len(some))
    yield FoundCopies(tuple(found), _kinds(number, len(wanted)))


def _content(one: Surveyed) -> bytes | None:
    return one.stamp.content if one.stamp is not None else None


def _by_fingerprint(mine: Sequence[Surveyed], theirs: Sequence[Surveyed]) -> set[tuple[int, int]]:
    left, right, distance = near_pairs(_words(mine), _words(theirs), NEAR_BITS)
    likeliest = np.argsort(distance, kind="stable")[: 4 * MOST_COMPARED]
    return set(zip(left[likeliest].tolist(), right[likeliest].tolist(), strict=True))


def _words(surveyed: Sequence[Surveyed]) -> NDArray[np.uint64]:
    return np.array([one.facts.fingerprint for one in surveyed], np.uint64)


def _any_of(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} or {names[-1]}"


def _kinds(pairs: int, proposed: int) -> str:
    """Which near copies are found among so many pairs of pictures, in words."""
    kinds = ["resized", "recompressed", "brightened", "in grey", "mirrored", "rotated by quarter turns"]
    if pairs > MOST_PAIRS:
        told = "resized, recompressed or slightly brightened; there are too many images to search for other kinds"
    elif pairs > MOST_CROPPED:
        told = f"{_any_of(kinds)}; there are too many images to search for cropped copies"
    else:
        told = _any_of([*kinds, "cropped by up to 10 %"])
    if proposed > MOST_COMPARED:
        told += f"; only the likeliest {MOST_COMPARED} of {plural(proposed, 'similar pair')} were compared"
    return told
