"""Readers of a study: whose decisions are whose after any sequence of names, changes, reviews and merges; what a decision says."""

from __future__ import annotations

import hashlib
from dataclasses import replace
from pathlib import Path
from tempfile import mkdtemp

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.image_names import ImageName
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.study.decisions import Agreed, Decision
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, load_image_names
from mivrat.core.study.readers import (
    change_reader,
    decisions_of,
    merge_decisions,
    merged_readers,
    name_reader,
    readers_here,
    take_reader_away,
)
from mivrat.core.study.removing import put_back
from mivrat.core.study.reviews import Cause, Review, Reviews, load_reviews, present_reader, save_agreed, save_reviews

CLASSES = ["birch", "alder", "hazel"]
IMAGES = 4


def study_of(folder: Path) -> Study:
    """Two sets of unequal size, each picture with its content."""
    study = Study.create(folder / "s.mivrat", CLASSES)
    for name, number in (("large", IMAGES), ("small", 2)):
        items = [ImageItem(f"{name}/{i}.png", i % 3) for i in range(number)]
        set_id = add_image_set(study, ImageSet(name, folder, items))
        with study.writing() as db:
            for i in range(number):
                content = hashlib.sha256(f"{name} {i}".encode()).digest()
                db.execute("UPDATE image SET content = ? WHERE set_id = ? AND position = ?", (content, set_id, i))
    return study


def test_what_a_decision_says() -> None:
    reviews = Reviews((Cause(1, "label is wrong"), Cause(2, "hidden")), classes=CLASSES)
    for review, told in (
        (Review(reviewed=True), ("right", None, [])),
        (Review(dismissed=True), ("right", None, [])),
        (Review(frozenset({2}), "note"), ("unsure", None, ["hidden"])),
        (Review(frozenset({2}), reviewed=True), ("right", None, ["hidden"])),
        (Review(frozenset({1, 2}), reviewed=True), ("wrong", None, ["label is wrong", "hidden"])),
        (Review(reviewed=True, label=2), ("wrong", "hazel", [])),
    ):
        reviews.put({5: review})
        one = reviews.decision(5, ImageName("ab" * 32, "a/\udcff.png"))
        assert one is not None
        assert (one.label_is, one.label, one.causes) == told
        assert (one.content, one.path, one.note) == ("ab" * 32, "a/\\xff.png", review.note)
    assert reviews.decision(4) is None
    # A list without that cause cannot say it.
    assert replace(
        reviews, causes=(Cause(1, "blur"),), by_position={0: Review(frozenset({1}), reviewed=True)}
    ).decision(0) == Decision(content="", path="", label_is="right", causes=["blur"])


@pytest.mark.parametrize(
    ("one", "other", "differ"),
    [
        (("right", None), ("wrong", None), True),
        (("wrong", "hazel"), ("wrong", "birch"), True),
        (("wrong", "hazel"), ("wrong", None), True),
        (("wrong", "hazel"), ("wrong", "hazel"), False),
        (("unsure", None), ("wrong", "hazel"), False),
        (("right", None), ("unsure", None), False),
    ],
)
def test_who_contradicts_whom(one: tuple[str, str | None], other: tuple[str, str | None], differ: bool) -> None:
    a, b = (Decision(content="", path="", label_is=said, label=label) for said, label in (one, other))  # type: ignore[arg-type]
    assert a.differs_from(b) == b.differs_from(a) == differ


def test_three_readers_here_and_elsewhere_and_what_they_agree_on(tmp_path: Path) -> None:
    with study_of(tmp_path) as study:
        save_reviews(study, 1, {0: Review(label=1, reviewed=True), 1: Review(reviewed=True)})
        with pytest.raises(InputError, match="have no reader yet"):
            change_reader(study, "B")
        name_reader(study, " A ")
        change_reader(study, "B")
        save_reviews(study, 1, {0: Review(label=2, reviewed=True), 2: Review(reviewed=True)})
        save_reviews(study, 2, {1: Review(reviewed=True)})
        names = load_image_names(study, 1)
        given = [(names[i], Decision(content=names[i].content, path=names[i].path, label_is="wrong")) for i in (1, 3)]
        merge_decisions(study, 1, "C", given)
        found = load_reviews(study, 1)
        assert (found.reader, sorted(found.by_position), sorted(found.others)) == ("B", [0, 2], ["A", "C"])
        assert {who: sorted(some) for who, some in found.others.items()} == {"A": [0, 1], "C": [1, 3]}
        assert list(found.decisions_of(0)) == ["B", "A"]
        assert found.conflicts() == [0, 1]
        assert found.mask(IMAGES, "readers differ").tolist() == [True, True, False, False]
        assert (readers_here(study), merged_readers(study)) == (["A", "B"], ["C"])
        assert [(one.label, one.path) for one in decisions_of(study, "A")] == [
            ("alder", "large/0.png"),
            (None, "large/1.png"),
        ]
        assert [one.path for one in decisions_of(study, "B")] == ["large/0.png", "large/2.png", "small/1.png"]
        assert decisions_of(study, "C")
        assert decisions_of(study, "nobody") == []
        for name, why in (("A", "has reviewed in this study"), ("C", "were merged"), ("\n", "is not a name")):
            with pytest.raises(InputError, match=why):
                name_reader(study, name)
        with pytest.raises(InputError, match="were merged"):
            change_reader(study, "C")
        save_agreed(study, 1, {0: Agreed(label_is="wrong", label="alder", readers=["A", "B"])})
        found = load_reviews(study, 1)
        assert (found.conflicts(), found.proposed()) == ([1], {0: 1})
        assert found.mask(IMAGES, "agreed on").tolist() == [True, False, False, False]
        save_agreed(study, 1, {0: Agreed(label_is="right", readers=["A", "B"])})
        assert load_reviews(study, 1).proposed() == {}
        save_agreed(study, 1, {0: None})
        assert load_reviews(study, 1).proposed() == {0: 2}
        assert load_reviews(study, 2).others == {}
        # Another picture under the name: what was decided of the one before is kept, and not told of this one.
        with study.writing() as db:
            db.execute("UPDATE image SET content = ? WHERE set_id = 1 AND position = 1", (b"x" * 32,))
        found = load_reviews(study, 1)
        assert {who: sorted(some) for who, some in found.others.items()} == {"A": [0], "C": [3]}


class Readers(RuleBasedStateMachine):
    """The study against a plain dictionary of who said what."""

    def __init__(self) -> None:
        super().__init__()
        self.study = study_of(Path(mkdtemp()))
        self.said: dict[str, dict[tuple[int, int], int]] = {}
        self.elsewhere: dict[str, dict[int, str]] = {}
        self.present = ""

    @rule(name=st.sampled_from("ABC"))
    def name(self, name: str) -> None:
        taken = name != self.present and (bool(self.said.get(name)) or name in self.elsewhere)
        if taken:
            with pytest.raises(InputError):
                name_reader(self.study, name)
            return
        name_reader(self.study, name)
        self.said[name] = self.said.pop(self.present, {})
        self.present = name

    @rule(name=st.sampled_from("ABC"))
    def change(self, name: str) -> None:
        if name in self.elsewhere or (not self.present and self.said.get("")):
            with pytest.raises(InputError):
                change_reader(self.study, name)
            return
        change_reader(self.study, name)
        self.present = name

    @rule(where=st.sampled_from([(1, 0), (1, 3), (2, 1)]), label=st.integers(0, 2))
    def review(self, where: tuple[int, int], label: int) -> None:
        save_reviews(self.study, where[0], {where[1]: Review(label=label, reviewed=True)})
        self.said.setdefault(self.present, {})[where] = label

    @rule(where=st.sampled_from([(1, 0), (1, 3), (2, 1)]))
    def forget(self, where: tuple[int, int]) -> None:
        save_reviews(self.study, where[0], {where[1]: Review()})
        self.said.get(self.present, {}).pop(where, None)

    @rule(image=st.integers(0, 3), label=st.sampled_from(CLASSES), twice=st.booleans())
    def merge(self, image: int, label: str, twice: bool) -> None:
        name = load_image_names(self.study, 1)[image]
        given = Decision(content=name.content, path=name.path, label_is="wrong", label=label)
        for _ in range(1 + twice):
            merge_decisions(self.study, 1, "M", [(name, given)])
        self.elsewhere.setdefault("M", {})[image] = label

    @rule()
    def take_away_and_put_back(self) -> None:
        put_back(self.study, take_reader_away(self.study, "M"))

    @invariant()
    def everybody_said_what_they_said(self) -> None:
        assert present_reader(self.study) == self.present
        for set_id in (1, 2):
            found = load_reviews(self.study, set_id)
            mine = {i: one.label for i, one in found.by_position.items()}
            assert mine == {i: k for (s, i), k in self.said.get(self.present, {}).items() if s == set_id}
            others = {who: {i: one.label for i, one in some.items()} for who, some in found.others.items()}
            wanted = {
                who: {i: CLASSES[k] for (s, i), k in some.items() if s == set_id}
                for who, some in self.said.items()
                if who != self.present
            }
            wanted |= {who: dict(some) for who, some in self.elsewhere.items() if set_id == 1}
            assert others == {who: some for who, some in wanted.items() if some}

    def teardown(self) -> None:
        self.study.close()


TestReaders = Readers.TestCase
TestReaders.settings = settings(max_examples=20, stateful_step_count=14, deadline=None)
