"""Reviews that go from study to study by content: merged once or twice, out of order, from another set, altered; and agreement."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from mivrat import cli
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, remove_image_set
from mivrat.core.study.removing import put_back
from mivrat.core.study.reviews import Review, load_reviews, present_reader, save_reviews
from tests.support.studies import scored_study


def ran(*words: object) -> int:
    return cli._code_of(["review", *map(str, words)])


@pytest.fixture
def two(tmp_path: Path) -> tuple[Path, Path]:
    """One study of 36 images, reviewed by two."""
    first = scored_study(tmp_path / "one", 3, {"set": [12, 12, 12]}, 1)
    shutil.copytree(tmp_path / "one", tmp_path / "two")
    second = tmp_path / "two" / "s.mivrat"
    for path, wrong in ((first, range(6)), (second, range(3, 9))):
        with Study.open(path) as study:
            changes = {i: Review(reviewed=True) for i in range(30)}
            changes |= {i: Review(frozenset({2}), "odd", True, 2) for i in wrong}
            save_reviews(study, 1, changes)
    return first, second


def content_of(path: Path) -> bytes:
    with Study.open(path, again=True) as study:
        return repr(study.rows("SELECT * FROM reader_review ORDER BY 1, 2, 3, 4")).encode()


def test_two_readers_agree_as_counted_by_hand(
    two: tuple[Path, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    first, second = two
    for path, name in zip(two, ("Reader A", "Leser „B“ ✓"), strict=True):
        assert ran("export", path, "--reader", name, "--out", tmp_path / f"{name[0]}.json") == 0
    told = json.loads((tmp_path / "L.json").read_text())
    assert (told["format"], told["reader"], len(told["decisions"])) == ("mivrat-review/1", "Leser „B“ ✓", 30)
    capsys.readouterr()
    assert ran("merge", first, tmp_path / "L.json", "--out", tmp_path / "agreement.json") == 0
    out = capsys.readouterr().out
    assert "30 of 30 decisions are of images of this study" in out
    (found,) = json.loads((tmp_path / "agreement.json").read_text())["sets"]
    by_question: dict[str, Any] = {one["question"]: one for one in found["agreement"]}
    label = by_question["label is right or wrong"]
    # Of 30 images 3 are wrong for both, 3 for one, 3 for the other.
    assert (label["images"], label["agree"]["value"]) == (30, 24 / 30)
    chance = (6 / 30) ** 2 + (24 / 30) ** 2
    assert label["kappa"]["value"] == pytest.approx((0.8 - chance) / (1 - chance))
    assert by_question["proposed label"]["images"] == 3
    assert by_question["cause: two objects"]["images"] == 30
    assert len(found["conflicts"]) == 6
    # Twice changes nothing; what was decided here stays as it was.
    before = content_of(first)
    assert ran("merge", first, tmp_path / "L.json") == 0
    assert content_of(first) == before
    with Study.open(first) as study:
        assert present_reader(study) == "Reader A"
        removed = remove_image_set(study, list_image_sets(study)[0].id)
        assert load_reviews(study, 1).others == {}
        put_back(study, removed)
        assert len(load_reviews(study, 1).others["Leser „B“ ✓"]) == 30
    # The other way round it comes to the same.
    assert ran("merge", second, tmp_path / "R.json", "--out", tmp_path / "back.json") == 0
    (back,) = json.loads((tmp_path / "back.json").read_text())["sets"]
    assert back["agreement"][0]["kappa"] == label["kappa"]


def test_what_cannot_be_merged(two: tuple[Path, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    first, second = two
    assert ran("export", first, "--out", tmp_path / "a.json") == 2
    assert "this study has no reader yet" in capsys.readouterr().err
    assert ran("export", second, "--reader", "B", "--out", tmp_path / "b.json") == 0
    assert ran("merge", second, tmp_path / "b.json") == 2
    assert "who reviews in this study" in capsys.readouterr().err
    assert ran("export", first, "--reader", "\n", "--out", tmp_path / "a.json") == 2
    whole = json.loads((tmp_path / "b.json").read_text())
    # From another set: not one content of it is here.
    strange = {**whole, "decisions": [{**one, "content": "0" * 64} for one in whole["decisions"]]}
    # Altered: another kind of answer, and a key that nobody knows.
    altered = {**whole, "decisions": [{**whole["decisions"][0], "label_is": "perhaps"}]}
    for name, data, words in (
        ("strange", strange, "none of B's 30 decisions is of an image of this study"),
        ("altered", altered, "is not a file of reviews (decisions/0/label_is"),
        ("more", {**whole, "extra": 1}, "is not a file of reviews"),
    ):
        (tmp_path / f"{name}.json").write_text(json.dumps(data))
        assert ran("merge", first, tmp_path / f"{name}.json") == 2
        assert words in capsys.readouterr().err
    assert ran("merge", first, tmp_path / "nowhere.json") == 2
    # Only some of its images are here, and one picture under two paths of the list is found by its content.
    moved = {**whole, "decisions": [{**whole["decisions"][0], "path": "elsewhere.png"}, *strange["decisions"][1:]]}
    (tmp_path / "moved.json").write_text(json.dumps(moved))
    assert ran("merge", first, tmp_path / "moved.json") == 0
    assert "1 of 30 decisions" in capsys.readouterr().out
    assert ran("export", first, "--reader", "B", "--out", tmp_path / "a.json") == 2
    assert "were merged into this study" in capsys.readouterr().err
    assert ran("agreement", first) == 0
