"""What a study holds at a glance; models, sets and runs taken away and put back; folders that have to be asked for."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from mivrat.core.base.errors import InputError
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, list_images, match_labels
from mivrat.core.pictures.recipe import Values
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.contents import read_contents
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, list_image_sets, load_references, remove_image_set
from mivrat.core.study.kept_answers import count_answered
from mivrat.core.study.kept_checks import save_check_results
from mivrat.core.study.models import add_model, list_models, remove_model
from mivrat.core.study.places import places_to_ask_about
from mivrat.core.study.removing import put_back
from mivrat.core.study.runs import list_runs, load_run, remove_run
from mivrat.core.study.settings import (
    load_claim,
    load_criteria,
    load_temperature,
    load_threshold,
    save_claim,
    save_criteria,
    save_setting,
    save_threshold,
)
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
    save_claim(study, 1, 0.9)
    save_criteria(study, 1, ["top1 >= 0.9"])
    save_threshold(study, 1, 0.25)
    found = read_contents(study)
    assert found.missing == {tmp_path / "m.onnx"}
    assert (found.claims, found.criteria, load_threshold(study, 1)) == ({1: 0.9}, {1: ("top1 >= 0.9",)}, 0.25)
    assert (load_claim(study, 2), load_criteria(study, 2), load_threshold(study, 2)) == (
        None,
        (),
        None,
    )  # another model's are its own
    save_claim(study, 1, None)
    save_threshold(study, 1, None)
    assert (load_claim(study, 1), load_threshold(study, 1)) == (None, None)


def test_models_of_one_name_are_told_apart(study: Study, tmp_path: Path) -> None:
    first = list_models(study)[0]
    assert read_contents(study).model_name(first.id) == "m"
    shifted = first.recipe.model_copy(update={"values": Values(scale=1 / 255, mean=[0.5], std=[0.5])})
    add_model(study, OnnxModel(tmp_path / "m.onnx", shifted, 3))
    named = first.recipe.model_copy(update={"tensor": first.recipe.tensor.model_copy(update={"output": "scores"})})
    fewer = first.recipe.model_copy(update={"resize": first.recipe.resize.model_copy(update={"antialias": False})})
    assert named != fewer
    add_model(study, OnnxModel(tmp_path / "m.onnx", fewer, 3))
    found = read_contents(study)
    names = [found.model_name(one.id) for one in found.models]
    assert len(set(names)) == 3
    assert all(name.startswith("m (12 px") for name in names)
    assert names[0].endswith(") (1)")
    assert names[2].endswith(") (2)")
    assert found.model_name(77) == ""


def test_what_is_taken_away_comes_back_whole(study: Study) -> None:
    def all_of_it() -> list[tuple[object, ...]]:
        tables = ("model", "image_set", "image", "run", "check_result", "answer")
        return [tuple(row) for table in tables for row in study.db.execute(f"SELECT * FROM {table} ORDER BY 1, 2")]

    save_check_results(study, 1, {"labels": "{}"})
    before, sets, model = all_of_it(), list_image_sets(study), list_models(study)[0]
    record = load_run(study, 1)
    for remove in (
        lambda: remove_image_set(study, sets[0].id),
        lambda: remove_model(study, model.id),
        lambda: remove_run(study, 1),
    ):
        removed = remove()
        assert all_of_it() != before
        assert 1 not in [run.id for run in list_runs(study)]
        put_back(study, removed)
        put_back(study, removed)  # twice does no harm
        assert all_of_it() == before
    assert (load_run(study, 1).answers.rows == record.answers.rows).all()
    remove_model(study, model.id)
    assert list_models(study) == []
    again = add_model(study, OnnxModel(model.path, model.recipe, 3))
    assert again == model.id
    assert count_answered(study, model.id, sets[0].id) == 9


def test_references_are_the_first_pictures_of_their_sets(study: Study, tmp_path: Path) -> None:
    atlas = [ImageItem("x.png", 1, {}, "alder"), ImageItem("y.png", 1, {}, "alder"), ImageItem("z.png", None)]
    add_image_set(study, ImageSet("atlas", tmp_path / "atlas", atlas, "reference"))
    add_image_set(
        study, ImageSet("more", tmp_path, [ImageItem("w.png", 0, {}, "birch"), ImageItem("v.png", 1)], "reference")
    )
    assert load_references(study) == {1: tmp_path / "atlas" / "x.png", 0: tmp_path / "w.png"}


def test_only_folders_outside_are_asked_about(tmp_path: Path) -> None:
    home, far, farther = tmp_path / "home", tmp_path / "far", tmp_path / "far away"
    for folder in (home, far, farther):
        folder.mkdir()
    (home / "link").symlink_to(far)
    places = [home, home / "deep" / "down", home / "link", far / "set", farther]
    assert places_to_ask_about(home / "s.mivrat", places, []) == [home / "link", far / "set", farther]
    assert places_to_ask_about(home / "s.mivrat", places, [far]) == [farther]
    assert places_to_ask_about(home / "s.mivrat", places, [tmp_path]) == []


@pytest.mark.parametrize(
    "text", ["NaN", "Infinity", "1e999", "-0.1", "1.5", '"x"', "[1]", "true", "9" * 400, "{}", "0.5x"]
)
@pytest.mark.parametrize(
    ("key", "load"), [("claim", load_claim), ("threshold", load_threshold), ("temperature", load_temperature)]
)
def test_a_number_that_a_study_cannot_hold_is_said_to_be_damage(
    study: Study, key: str, load: Callable[[Study, int], float | None], text: str
) -> None:
    save_setting(study, f"{key} of model 1", text)
    if (key, text) == ("temperature", "1.5"):
        assert load(study, 1) == 1.5
        return
    with pytest.raises(InputError, match="damaged"):
        load(study, 1)
