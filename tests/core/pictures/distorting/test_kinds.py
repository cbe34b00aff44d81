"""Every kind on any picture: untouched at 0, told by content and seed, of the same size; and how kinds are spelled."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.distorting.kinds import (
    BY_KEY,
    KINDS,
    Distortion,
    Kind,
    kind_in_words,
    level_in_words,
    sweep_from_text,
)
from mivrat.core.pictures.distorting.names import NAMES


@pytest.mark.parametrize("kind", KINDS, ids=lambda one: one.key)
@given(
    height=st.integers(1, 40),
    width=st.integers(1, 40),
    channels=st.sampled_from([1, 3]),
    scale=st.sampled_from([0.3, 1.0, 2.7]),
    where=st.integers(0, 8),
)
@settings(max_examples=12, deadline=None)
def test_any_picture_at_any_level(kind: Kind, height: int, width: int, channels: int, scale: float, where: int) -> None:
    photo = np.random.default_rng(where).integers(0, 256, (height, width, channels), dtype=np.uint8)
    kept = photo.copy()
    levels = (*kind.levels, kind.low, kind.high)
    level = levels[where % len(levels)]
    content = bytes([where]) * 32
    found = Distortion(kind.key, level).apply(photo, scale, content, 3)
    assert (found.shape, found.dtype) == (photo.shape, np.uint8)
    assert (photo == kept).all()
    assert (Distortion(kind.key, level).apply(photo, scale, content, 3) == found).all()
    assert Distortion(kind.key, 0).apply(photo, scale, content, 3) is photo


def test_what_is_left_to_chance_is_told_by_content_and_seed() -> None:
    photo = np.random.default_rng(0).integers(0, 256, (30, 30, 3), dtype=np.uint8)
    one, other = b"a" * 32, b"b" * 32
    for key, level in (
        ("noise", 0.1),
        ("shot", 0.2),
        ("faulty", 0.1),
        ("uneven", 2),
        ("motion", 6),
        ("shift", 0.2),
        ("cover", 0.3),
    ):
        made = [Distortion(key, level).apply(photo, 1, c, s).tobytes() for c, s in ((one, 0), (other, 0), (one, 1))]
        assert len(set(made)) == 3, key
    # What is said is not left to chance.
    said = [Distortion("motion", 6, (("angle", "30"),)).apply(photo, 1, c, 0).tobytes() for c in (one, other)]
    assert said[0] == said[1]
    # Levels of a kind differ in strength alone: the same grains are brighter.
    even = np.full((30, 30, 3), 128, np.uint8)
    weak, strong = (Distortion("noise", level).apply(even, 1, one, 0).astype(float) - 128 for level in (0.05, 0.1))
    assert np.corrcoef(weak.ravel(), strong.ravel())[0, 1] > 0.99


def test_a_level_means_the_same_on_a_photo_of_any_size() -> None:
    """Out of focus by two pixels of the prepared image: the larger photo, brought down to it, looks alike."""
    small = np.kron(np.random.default_rng(4).integers(60, 200, (8, 8, 1), dtype=np.uint8), np.ones((6, 6, 1), np.uint8))
    large = np.kron(small, np.ones((4, 4, 1), np.uint8))
    one = Distortion("blur", 2).apply(small, 1, b"", 0).astype(float)
    other = Distortion("blur", 2).apply(large, 4, b"", 0).astype(float)
    assert np.abs(other.reshape(48, 4, 48, 4, 1).mean(axis=(1, 3)) - one).mean() < 2


def test_kinds_are_spelled_as_they_are_read() -> None:
    assert [one.level for one in sweep_from_text("jpeg:20,0,90")] == [0, 90, 20]
    assert [one.level for one in sweep_from_text("blur")] == list(BY_KEY["blur"].levels)
    (one,) = sweep_from_text("mark@colour=6A2CC8;x=0.5:0.1")
    assert one.spelled == "mark@colour=6a2cc8;x=0.5:0.1"
    assert sweep_from_text(one.spelled) == [one]
    for kind in KINDS:
        assert all(kind.low <= level <= kind.high for level in kind.levels)
        assert [one.spelled for one in sweep_from_text(kind.key)] == [
            one.spelled for level in kind.levels for one in sweep_from_text(f"{kind.key}:{level:g}")
        ]


def test_the_document_names_every_kind_as_it_is() -> None:
    lines = (Path(__file__).resolve().parents[4] / "docs" / "strain.md").read_text().splitlines()
    told = {line.split("`")[1]: [cell.strip() for cell in line.split("|")] for line in lines if line.startswith("| `")}
    assert list(told) == [kind.key for kind in KINDS] == list(NAMES)
    for kind in KINDS:
        levels = ", ".join(f"{one:g}" for one in kind.levels)
        assert told[kind.key][2:6] == [kind.unit, kind.meaning, levels, f"{kind.low:g} to {kind.high:g}"]


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("fog:1", "'fog' is not a kind of distortion"),
        ("blur:", ""),
        ("blur:a", "is not a list of levels"),
        ("blur:1,,2", "is not a list of levels"),
        ("blur:51", "51 is out of range"),
        ("blur:nan", "nan is out of range"),
        ("jpeg:50.5", "50.5 is out of range"),
        ("blur:1,1", "names a level twice"),
        ("blur@angle=3:1", "'angle' cannot be said of blur"),
        ("motion@angle=up:1", "'up' is not what angle takes"),
        ("mark@x=2:0.1", "'2' is not what x takes"),
        ("mark@colour=red:0.1", "'red' is not what colour takes"),
    ],
)
def test_what_is_no_kind_is_said_in_a_line(text: str, what: str) -> None:
    if not what:
        assert sweep_from_text(text)
        return
    with pytest.raises(InputError) as found:
        sweep_from_text(text)
    assert what in found.value.what
    assert found.value.hint


def test_two_kinds_make_a_grid_and_the_second_is_done_after_the_first() -> None:
    found = sweep_from_text("blur:1,2+noise:0,0.1")
    assert [one.spelled for one in found] == ["blur:1", "blur:2", "blur@with=noise 0.1:1", "blur@with=noise 0.1:2"]
    photo = np.random.default_rng(0).integers(0, 256, (20, 30, 3), dtype=np.uint8)
    content = b"c" * 32
    blurred = Distortion("blur", 2.0).apply(photo, 1.5, content, 4)
    assert (found[3].apply(photo, 1.5, content, 4) == Distortion("noise", 0.1).apply(blurred, 1.5, content, 4)).all()
    assert found[3].apply(photo, 1.5, content, 5).tolist() != found[3].apply(photo, 1.5, content, 4).tolist()
    for one in (*found, *sweep_from_text("motion@angle=30:2+cover:0.3"), *sweep_from_text("jpeg+mark:0.2")):
        assert sweep_from_text(one.spelled) == [one]
    assert level_in_words(found[3]) == "out of focus 2 px, then noise 0.1"
    assert kind_in_words("blur", found[3].given) == "Out of focus, then noise 0.1"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("blur:1+blur:2", "a kind with itself"),
        ("blur:1+noise:0.1+jpeg:5", "two kinds can be combined"),
        ("blur:1+mark@x=0.1:0.1", "two kinds can be combined"),
        ("blur@with=noise:1", "not a list of levels"),
        ("blur@with=fog 1:1", "not a kind"),
        ("blur@with=noise 7:1", "out of range"),
        ("blur@with=blur 1:1", "a kind with itself"),
        ("blur:1+", "not a kind"),
        ("+blur", "not a kind"),
    ],
)
def test_what_cannot_be_combined_says_why(text: str, told: str) -> None:
    with pytest.raises(InputError) as caught:
        sweep_from_text(text)
    assert told in caught.value.line()
