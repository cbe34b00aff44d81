"""Subsets, families, and recipes being edited."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivrat.core.base.errors import InputError
from mivrat.core.figures.families import family_accuracy, family_matrix
from mivrat.core.pictures.families import read_families
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe, Resize
from mivrat.core.pictures.recipe_draft import RecipeDraft
from mivrat.core.pictures.subsets import draw, draw_halves, draw_per_class, other_half
from mivrat.core.pictures.value_ranges import VALUE_RANGES
from tests.support.sets import CLASSES


def test_subsets_are_equal_sized_seeded_and_said() -> None:
    labels = [0] * 30 + [1] * 4 + [2] * 20 + [None] * 6
    whole = ImageSet("whole", Path("/x"), [ImageItem(f"{i}.png", k) for i, k in enumerate(labels)])
    drawn = draw_per_class(whole, 5, seed=7)
    assert [[one.label for one in drawn.items].count(k) for k in (0, 1, 2, None)] == [5, 4, 5, 0]
    assert drawn.items == draw_per_class(whole, 5, seed=7).items != draw_per_class(whole, 5, seed=8).items
    assert drawn.drawn == "5 per class, seed 7; 1 class has fewer, of 60 in whole"
    some = draw(whole, 12, seed=7)
    assert len({one.path for one in some.items}) == 12
    assert some.drawn == "12 images, seed 7, of 60 in whole"
    assert len(draw(whole, 100, seed=1).items) == 60
    for wrong in (lambda: draw(whole, 0, 1), lambda: draw_per_class(whole, 0, 1)):
        with pytest.raises(InputError, match="at least one image"):
            wrong()
    # Every image has the same chance: 400 draws of 12 of 60 hit each about 80 times.
    hits = np.zeros(60)
    for seed in range(400):
        hits[[int(one.path[:-4]) for one in draw(whole, 12, seed).items]] += 1
    assert 45 < hits.min() <= hits.max() < 120


@given(
    st.lists(st.tuples(st.sampled_from([None, 0, 1, 2]), st.integers(0, 9)), min_size=2, max_size=60),
    st.booleans(),
    st.integers(0, 99),
)
def test_halves_are_equal_share_nothing_and_keep_units_whole(
    listed: list[tuple[int | None, int]], in_units: bool, seed: int
) -> None:
    items = [
        ImageItem(f"{i}.png", label, columns={"slide": f"s{slide}" if slide else ""})
        for i, (label, slide) in enumerate(listed)
    ]
    whole = ImageSet("whole", Path("/x"), items, unit_column="slide" if in_units else "")
    if in_units and len({one.columns["slide"] for one in items}) == 1 and items[0].columns["slide"]:
        with pytest.raises(InputError, match="at least two"):
            draw_halves(whole, seed)
        return
    first, second = draw_halves(whole, seed)
    assert draw_halves(whole, seed) == (first, second)
    assert sorted(one.path for half in (first, second) for one in half.items) == sorted(one.path for one in items)
    assert first.drawn == f"half 1 of 2, seed {seed}, of {len(items)} in whole"
    assert (other_half(first.drawn), other_half(second.drawn)) == (second.drawn, first.drawn)
    if in_units:
        slides = [{one.columns["slide"] for one in half.items} - {""} for half in (first, second)]
        assert not slides[0] & slides[1]
    else:
        for label in (None, 0, 1, 2):
            counts = [sum(one.label == label for one in half.items) for half in (first, second)]
            assert abs(counts[0] - counts[1]) <= 1
        assert abs(len(first.items) - len(second.items)) <= 1


def test_what_is_not_a_half_has_no_other_half() -> None:
    for drawn in ("", "12 images, seed 7, of 60 in whole", "half 3 of 2, seed 0", "a half 1 of 2, seed 0"):
        assert other_half(drawn) == ""
    alone = ImageSet("alone", Path("/x"), [ImageItem("a.png", 0)])
    with pytest.raises(InputError, match="at least two"):
        draw_halves(alone, 0)


@given(st.lists(st.lists(st.integers(0, 9), min_size=4, max_size=4), min_size=4, max_size=4))
def test_family_accuracy_by_loops(counts: list[list[int]]) -> None:
    matrix, families = np.array(counts), {0: "a", 1: "b", 3: "a"}
    alike = {(0, 0), (0, 3), (3, 0), (3, 3), (1, 1), (2, 2)}
    found = family_accuracy(matrix, families)
    assert found.hits == sum(counts[i][j] for i, j in alike)
    assert found.total == matrix.sum()
    names, grouped = family_matrix(matrix, families)
    assert names == ["a", "b", "class 2"]
    assert grouped.sum() == matrix.sum()


def test_family_tables(tmp_path: Path) -> None:
    path = tmp_path / "families.csv"
    path.write_text("class,family,note\nBirch,trees,x\nalder,trees,\nhazel,,\n", encoding="utf-8")
    assert read_families(path, CLASSES) == {0: "trees", 1: "trees"}
    for text, what in (
        ("class,group\nbirch,a\n", "no column 'family'"),
        ("class,family\noak,a\n", "'oak' is not in the class list"),
        ("class,family\nbirch,a\nbirch,b\n", "into two families"),
    ):
        path.write_text(text, encoding="utf-8")
        with pytest.raises(InputError, match=what):
            read_families(path, CLASSES)


def test_a_draft_is_valid_at_every_step_and_can_be_taken_back() -> None:
    draft = RecipeDraft(Recipe(resize=Resize(rule="stretch", size=32)))
    first = draft.recipe
    draft.set_values(VALUE_RANGES["per-channel mean and deviation of common photos"])
    draft.set_mode("BGR")
    assert draft.recipe.values.mean == [0.406, 0.456, 0.485]  # blue first, as the channels
    draft.set_values(VALUE_RANGES["per-channel means subtracted from 0 to 255"])
    assert draft.recipe.values.mean == [103.939, 116.779, 123.68]
    draft.set_mode("L")
    assert draft.recipe.values.mean == pytest.approx([(103.939 + 116.779 + 123.68) / 3])
    draft.edit("crop", size=(20, 24))
    before = draft.recipe
    for part, entries in (("crop", {"size": (0, 5)}), ("values", {"std": [0.0]}), ("resize", {"size": None})):
        with pytest.raises(InputError, match=part):
            draft.edit(part, **entries)
    assert draft.recipe is before
    draft.edit("crop", size=None)
    assert draft.recipe.crop is None
    for _ in range(6):
        draft.undo()
    assert (draft.recipe, draft.can_undo, draft.can_redo) == (first, False, True)
    for _ in range(5):
        draft.redo()
    assert draft.recipe == before
    draft.edit("picture", exif_rotate=False)
    assert not draft.can_redo
