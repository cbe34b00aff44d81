"""What a study holds at a glance; models, sets and runs taken away and put back; folders that have to be asked for."""

from __future__ import annotations

from pathlib import Path

import pytest

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, list_images, match_labels
from mivrat.core.pictures.recipe import Values
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.contents import read_contents
from mivrat.core.study.places import places_to_ask_about
from mivrat.core.study.study import Study
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


@pytest.fixture
def study(tmp_path: Path) -> Study:
    """Two sets, of which one holds labels that no class goes by; one model, scored on the first set."""
    made = Study.create(tmp_path / "s.mivrat", CLASSES)
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    first = match_labels(list_images(write_set(tmp_path / "a", 3)), CLASSES).image_set
    second = match_labels(list_images(write_set(tmp_path / "b", 2, classes=["birch", "oak"])), CLASSES).image_set
    for _ in Evaluation(model, first, made).run():
        pass
    Evaluation(model, second, made)
    return made


def test_contents_count_what_is_there(study: Study, tmp_path: Path) -> None:
    found = read_contents(study)
    assert [(one.info.image_set, one.answered, one.listed) for one in found.runs] == [("a", 9, 9), ("b", 0, 4)]
    assert found.unmatched == {"oak": 2}
    assert found.per_class[found.sets[1].id] == {0: 2}
    assert (found.missing, found.claims, found.criteria) == (frozenset(), {}, {})
    assert found.run_of(found.models[0].id, found.sets[1].id) == found.runs[1]
    assert found.run_of(found.models[0].id, 99) is None
    (tmp_path / "m.onnx").unlink()
    study.set_claim(1, 0.9)
    study.set_criteria(1, ["top1 >= 0.9"])
    study.set_threshold(1, 0.25)
    found = read_contents(study)
    assert found.missing == {tmp_path / "m.onnx"}
    assert (found.claims, found.criteria, study.threshold(1)) == ({1: 0.9}, {1: ("top1 >= 0.9",)}, 0.25)
    assert (study.claim(2), study.criteria(2), study.threshold(2)) == (None, (), None)  # another model's are its own
    study.set_claim(1, None)
    study.set_threshold(1, None)
    assert (study.claim(1), study.threshold(1)) == (None, None)


def test_models_of_one_name_are_told_apart(study: Study, tmp_path: Path) -> None:
    first = study.models()[0]
    assert read_contents(study).model_name(first.id) == "m"
    shifted = first.recipe.model_copy(update={"values": Values(scale=1 / 255, mean=[0.5], std=[0.5])})
    study.add_model(OnnxModel(tmp_path / "m.onnx", shifted, 3))
    named = first.recipe.model_copy(update={"tensor": first.recipe.tensor.model_copy(update={"output": "scores"})})
    fewer = first.recipe.model_copy(update={"resize": first.recipe.resize.model_copy(update={"antialias": False})})
    assert named != fewer
    study.add_model(OnnxModel(tmp_path / "m.onnx", fewer, 3))
    found = read_contents(study)
    names = [found.model_name(one.id) for one in found.models]
    assert len(set(names)) == 3
    assert all(name.startswith("m (12 px") for name in names)
    assert names[0].endswith(", 1)")
    assert names[2].endswith(", 2)")
    assert found.model_name(77) == ""


def test_what_is_taken_away_comes_back_whole(study: Study) -> None:
    def all_of_it() -> list[tuple[object, ...]]:
        tables = ("model", "image_set", "image", "run", "check_result", "answer")
        return [tuple(row) for table in tables for row in study._db.execute(f"SELECT * FROM {table} ORDER BY 1, 2")]

    study.keep_check_results(1, {"labels": "{}"})
    before, sets, model = all_of_it(), study.image_sets(), study.models()[0]
    record = study.load_run(1)
    for remove in (
        lambda: study.remove_image_set(sets[0].id), lambda: study.remove_model(model.id), lambda: study.remove_run(1),
    ):  # fmt: skip
        removed = remove()
        assert all_of_it() != before
        assert 1 not in [run.id for run in study.runs()]
        study.restore(removed)
        study.restore(removed)  # twice does no harm
        assert all_of_it() == before
    assert (study.load_run(1).answers.rows == record.answers.rows).all()
    study.remove_model(model.id)
    assert study.models() == []
    again = study.add_model(OnnxModel(model.path, model.recipe, 3))
    assert again == model.id
    assert study.answered(model.id, sets[0].id) == 9


def test_references_are_the_first_pictures_of_their_sets(study: Study, tmp_path: Path) -> None:
    atlas = [ImageItem("x.png", 1, {}, "alder"), ImageItem("y.png", 1, {}, "alder"), ImageItem("z.png", None)]
    study.add_image_set(ImageSet("atlas", tmp_path / "atlas", atlas, "reference"))
    study.add_image_set(
        ImageSet("more", tmp_path, [ImageItem("w.png", 0, {}, "birch"), ImageItem("v.png", 1)], "reference")
    )
    assert study.references() == {1: tmp_path / "atlas" / "x.png", 0: tmp_path / "w.png"}


def test_only_folders_outside_are_asked_about(tmp_path: Path) -> None:
    home, far, farther = tmp_path / "home", tmp_path / "far", tmp_path / "far away"
    for folder in (home, far, farther):
        folder.mkdir()
    (home / "link").symlink_to(far)
    places = [home, home / "deep" / "down", home / "link", far / "set", farther]
    assert places_to_ask_about(home / "s.mivrat", places, []) == [home / "link", far / "set", farther]
    assert places_to_ask_about(home / "s.mivrat", places, [far]) == [farther]
    assert places_to_ask_about(home / "s.mivrat", places, [tmp_path]) == []
