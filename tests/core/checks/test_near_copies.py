"""Near copies: planted ones of every kind are found, other pictures of the same kind are not; alignments that are known."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageEnhance
from scipy import ndimage

from mivrat.core.base.job import Progress, StopSignal, stopped_by
from mivrat.core.checks import copies as copies_module
from mivrat.core.checks.catalogue import run_checks
from mivrat.core.checks.copies import FoundCopies, find_near_copies
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.near_copies import SMALL, Proposer, align, positions, small_grey, texture_likeness
from mivrat.core.checks.result import CheckResult
from mivrat.core.checks.survey import Surveyed, survey_files
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.demo.study import demo_inputs
from tests.support.fitted import striped_picture

Turn = Image.Transpose


def cropped(picture: Image.Image, share: float, seed: int) -> Image.Image:
    rng = random.Random(seed)
    width, height = (round(side * (1 - share)) for side in picture.size)
    left, top = rng.randint(0, picture.width - width), rng.randint(0, picture.height - height)
    return picture.crop((left, top, left + width, top + height))


KINDS: dict[str, Callable[[Image.Image, int], Image.Image]] = {
    "mirrored": lambda one, k: one.transpose(Turn.FLIP_LEFT_RIGHT),
    "rotated": lambda one, k: one.transpose((Turn.ROTATE_90, Turn.ROTATE_180, Turn.ROTATE_270)[k % 3]),
    "brightened": lambda one, k: ImageEnhance.Brightness(one).enhance(1.3),
    "grey": lambda one, k: one.convert("L"),
    "cropped by 5 %": lambda one, k: cropped(one, 0.05, k),
    "cropped by 10 %": lambda one, k: cropped(one, 0.1, k),
    "cropped and resized": lambda one, k: cropped(one, 0.08, k).resize(one.size, Image.Resampling.BICUBIC),
    "mirrored and cropped": lambda one, k: cropped(one.transpose(Turn.TRANSPOSE), 0.07, k),
    "smaller": lambda one, k: one.resize((96, 96), Image.Resampling.BICUBIC),
}


def a_set(folder: Path, pictures: Sequence[Image.Image], quality: int = 92) -> ImageSet:
    folder.mkdir()
    for i, picture in enumerate(pictures):
        picture.save(folder / f"{i:03}.jpg", quality=quality)
    return ImageSet(folder.name, folder, [ImageItem(f"{i:03}.jpg", i % 2) for i in range(len(pictures))])


def surveyed(image_set: ImageSet) -> list[Surveyed]:
    return list(survey_files(image_set.files(), {}))


def pairs_of(first: ImageSet, second: ImageSet | None = None) -> set[tuple[int, int]]:
    mine = surveyed(first)
    theirs = surveyed(second) if second is not None else mine
    (*_, found) = find_near_copies(mine, first, theirs, second or first)
    assert isinstance(found, FoundCopies)
    return {(one.first, one.second) for one in found.copies}


def grains(count: int) -> list[Image.Image]:
    """Drawn grains, many of them of one kind and alike: the hardest other pictures there are."""
    files = demo_inputs().sets["spring-check"].files()
    readable = [file for file in files if file.stat().st_size > 1000]
    return [Image.open(file).convert("RGB") for file in readable[:: len(readable) // count][:count]]


def test_planted_copies_of_every_kind_are_found_and_nothing_else(tmp_path: Path) -> None:
    pictures = grains(30)
    kinds = list(KINDS.values())
    planted = [kinds[k % len(kinds)](pictures[k], k) for k in range(18)]
    own, theirs = a_set(tmp_path / "own", pictures), a_set(tmp_path / "theirs", planted)
    assert pairs_of(own, theirs) == {(k, k) for k in range(18)}
    assert pairs_of(own) == set()
    together = a_set(tmp_path / "together", [*planted, *pictures])
    assert pairs_of(together) == {(k, 18 + k) for k in range(18)}


def test_bright_copies_whose_background_is_lost_are_told_from_others(tmp_path: Path) -> None:
    """Most of a brightened grain's picture is white: what is left is its outline and some texture, and other grains have outlines."""
    files = [one for one in demo_inputs().sets["spring-check"].files() if one.parent.name == "birch"]
    pictures = [Image.open(file).convert("RGB") for file in files[:24]]
    bright = [ImageEnhance.Brightness(one).enhance(1.3) for one in pictures[:12]]
    assert pairs_of(a_set(tmp_path / "own", pictures), a_set(tmp_path / "bright", bright)) == {
        (k, k) for k in range(12)
    }


def test_copies_of_coarse_grainy_and_wide_pictures(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    pictures = []
    for k in range(12):
        coarse = rng.integers(20, 220, (3 + k % 4, 4 + k % 3, 3), dtype=np.uint8)
        smooth = Image.fromarray(coarse).resize((300, 180 + 10 * k), Image.Resampling.BICUBIC)
        grainy = np.clip(np.asarray(smooth, float) + rng.normal(0, 6, np.asarray(smooth).shape), 0, 255)
        pictures.append(Image.fromarray(grainy.astype(np.uint8)))
    kinds = list(KINDS.values())
    planted = [kinds[k % len(kinds)](pictures[k], k) for k in range(9)]
    assert pairs_of(a_set(tmp_path / "a", pictures), a_set(tmp_path / "b", planted, 60)) == {(k, k) for k in range(9)}


def test_small_regular_and_flat_pictures_of_one_kind_are_no_copies_of_each_other(tmp_path: Path) -> None:
    small = [one.resize((40, 40), Image.Resampling.BOX) for one in grains(24)]
    assert pairs_of(a_set(tmp_path / "own", small, 95)) == set()
    rng = np.random.default_rng(2)
    striped = [
        Image.fromarray(striped_picture("moss level", rng)) for _ in range(20)
    ]  # each looks like any other, moved by a stripe
    assert pairs_of(a_set(tmp_path / "striped", striped)) == set()
    flat = [Image.new("RGB", (40, 40), (k, k, k)) for k in (90, 91, 92)]
    assert pairs_of(a_set(tmp_path / "flat", flat)) == set()


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 2**32), st.floats(0.92, 1.0), st.floats(-0.03, 0.03), st.floats(-0.03, 0.03), st.floats(0.6, 1.4))
def test_a_known_lie_is_recovered(seed: int, scale: float, down: float, across: float, gain: float) -> None:
    """A picture of waves is sampled where it is known exactly, so that nothing is shared with the way the module samples."""
    rng = np.random.default_rng(seed)
    waves = [(*rng.uniform(-3, 3, 2), rng.uniform(0, 6), rng.uniform(5, 12)) for _ in range(9)]
    n = 64
    line = (np.arange(n) + 0.5) / n - 0.5

    def seen(by: float, y: float, x: float) -> np.ndarray:
        rows, columns = np.meshgrid(y + by * line, x + by * line, indexing="ij")
        return sum(
            (size * np.sin(2 * np.pi * (a * rows + b * columns) + at) for a, b, at, size in waves), np.zeros((n, n))
        )

    moving = (128 + seen(1.0, 0.0, 0.0)).astype(np.float32)
    fixed = (128 + gain * seen(scale, down, across)).astype(np.float32)
    found = align(fixed, moving, np.array([1.0, 1.0, 0.0, 0.0]), 30)
    assert found is not None
    np.testing.assert_allclose(found, [scale, scale, down, across], atol=0.004)


def test_texture_by_the_definition_and_where_none_is_left() -> None:
    rng = np.random.default_rng(0)
    shared, usable = rng.normal(128, 20, (48, 48)).astype(np.float32), np.ones((48, 48), bool)
    assert texture_likeness(shared, 0.5 * shared + 30, usable) == pytest.approx(1, abs=0.01)
    assert texture_likeness(shared, 255 - shared, usable) == pytest.approx(-1, abs=0.01)
    assert abs(texture_likeness(shared, rng.normal(128, 20, (48, 48)).astype(np.float32), usable)) < 0.15
    # Shading in common, without a texture in common, is nothing.
    shade = 20 * np.cos(np.add.outer(np.linspace(0, 2 * np.pi, 48), np.linspace(0, np.pi, 48)))
    one, other = ((shade + rng.normal(0, 6, shade.shape)).astype(np.float32) for _ in range(2))
    assert np.corrcoef(one.ravel(), other.ravel())[0, 1] > 0.8
    assert abs(texture_likeness(one, other, usable)) < 0.25
    assert texture_likeness(shared, shared, ndimage.binary_dilation(np.eye(48) > 1)) == 0


def test_eight_positions_are_those_of_the_square() -> None:
    square = np.arange(9, dtype=np.float32).reshape(3, 3)
    found = {one.tobytes() for one in positions(square)}
    assert len(found) == 8
    assert {one.tobytes() for turned in positions(square) for one in positions(turned)} == found


def test_a_search_is_stopped_says_how_far_it_is_and_what_it_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    own = a_set(tmp_path / "own", grains(20))
    mine, stop = surveyed(own), StopSignal()
    steps = []
    with stopped_by(stop):
        for step in find_near_copies(mine, own, mine, own):
            steps.append(step)
            stop.stop()
    assert [type(one) for one in steps] == [Progress]
    # Among many images fewer kinds are searched for, and that is said.
    told = {}
    for most, name in ((190, "all"), (189, "crops")):
        monkeypatch.setattr(copies_module, "MOST_CROPPED", most)
        (*_, found) = find_near_copies(mine, own, mine, own)
        assert isinstance(found, FoundCopies)
        told[name] = found.kinds
    assert "cropped by up to 10 %" in told["all"]
    assert "there are too many images to search for cropped copies" in told["crops"]
    monkeypatch.setattr(copies_module, "MOST_PAIRS", 189)
    monkeypatch.setattr(copies_module, "MOST_COMPARED", 1)
    plain = a_set(tmp_path / "plain", [one.resize((110, 110)) for one in grains(20)])
    (*_, found) = find_near_copies(mine, own, surveyed(plain), plain)
    assert isinstance(found, FoundCopies)
    assert "too many images to search for other kinds; only the likeliest 1 of" in found.kinds
    assert len(found.copies) == 1


def test_the_small_picture_is_grey_and_facts_without_it_are_taken_again(tmp_path: Path) -> None:
    own = a_set(tmp_path / "own", grains(2))
    first = surveyed(own)
    assert first[0].facts.small == small_grey(Image.open(own.file(0)).convert("L"))
    old = {one.stamp.content: replace(one.facts, small="") for one in first if one.stamp is not None}
    assert list(survey_files(own.files(), old)) == first
    assert Proposer([first[0].facts.small] * 2, [first[1].facts.small]).likeness(0, 0) <= 1
    assert len(first[0].facts.small) == SMALL * SMALL * 4 // 3


def test_checks_tell_of_copies_within_between_and_in_training(tmp_path: Path) -> None:
    pictures = grains(16)
    turned = [one.transpose(Turn.ROTATE_90) for one in pictures]
    own = a_set(tmp_path / "own", [*pictures[:8], turned[0]])  # 0 and 8: other labels would be 0 and 0
    own.items[8] = replace(own.items[8], label=1)
    other, training = (
        a_set(tmp_path / "other", turned[2:4]),
        a_set(tmp_path / "training", [*turned[5:7], *pictures[9:]]),
    )
    inputs = Inputs(["a", "b"], own, training=training, others=other)
    steps = list(run_checks(inputs, ["duplicates", "training"]))
    within, leaked = (one for one in steps if isinstance(one, CheckResult))
    assert within.state == "stop"  # labels of a pair differ
    assert within.images == (0, 8, 2, 3)
    assert (within.figures["near"], within.figures["near_with_different_labels"]) == (1, 1)
    assert within.figures["in_other_held_out_sets"] == 2
    assert "2 images are also in other" in within.sentence
    assert set(leaked.images) == {5, 6}
    assert (leaked.figures["exact"], leaked.figures["near"]) == (0, 2)
    assert "rotated by quarter turns" in leaked.sentence
    alone = [
        one
        for one in run_checks(Inputs(["a", "b"], replace(own, items=own.items[:8])), ["duplicates"])
        if isinstance(one, CheckResult)
    ]
    assert (alone[0].state, alone[0].images) == ("fine", ())
    assert "in_other_held_out_sets" not in alone[0].figures
