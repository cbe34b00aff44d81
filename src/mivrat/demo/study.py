"""Makes the demonstration study: both models on both image sets, really run on the shipped pictures."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_data_path

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import sha256_of
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import Recipe, read_recipe
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set
from mivrat.core.study.settings import load_setting, save_setting

DATA = Path(__file__).parent / "data"
MODELS = ("grain-net-1", "grain-net-2")
SETS = ("late-summer-field", "spring-check")


@dataclass(frozen=True)
class DemoInputs:
    """What the demonstration is made of."""

    classes: list[str]
    recipe: Recipe
    sets: dict[str, ImageSet]
    training: ImageSet
    references: ImageSet


def demo_inputs() -> DemoInputs:
    """Read the shipped class list, recipe, tables and reference pictures."""
    classes = read_class_list(DATA / "classes.txt")
    references = read_image_set(DATA / "references.csv", classes, "reference")
    sets = {name: read_image_set(DATA / f"{name}.csv", classes) for name in SETS}
    training = read_image_set(DATA / "training-sample.csv", classes, "training")
    return DemoInputs(classes, read_recipe(DATA / "recipe.toml"), sets, training, references)


def demo_study_path() -> Path:
    """Where the demonstration study is kept for this user."""
    return user_data_path("mivrat", appauthor=False) / "demonstration.mivrat"


_MADE_FROM = "demonstration made from"


def _fingerprint() -> str:
    """Tells one copy of the shipped data from another: where it lies, and the models' content."""
    return " ".join([str(DATA.resolve()), *(sha256_of(DATA / f"{name}.onnx")[:16] for name in MODELS)])


def _is_made_from(path: Path, made_from: str) -> bool:
    try:
        study = Study.open(path)
    except InputError:
        return False
    try:
        return load_setting(study, _MADE_FROM) == made_from
    finally:
        study.close()


def make_demo_study(path: Path) -> Iterator[Progress]:
    """Make the study at ``path``, or finish one begun before; yields progress over all runs together."""
    inputs = demo_inputs()
    made_from = _fingerprint()
    if path.exists() and not _is_made_from(path, made_from):
        path.replace(path.with_name(f"{path.stem} (earlier){path.suffix}"))
    study = Study.open(path) if path.exists() else Study.create(path, inputs.classes)
    try:
        save_setting(study, _MADE_FROM, made_from)
        add_image_set(study, inputs.references)
        add_image_set(study, inputs.training)
        total = len(MODELS) * sum(len(one.items) for one in inputs.sets.values())
        done = 0
        for image_set in inputs.sets.values():
            for name in MODELS:
                evaluation = Evaluation(
                    OnnxModel(DATA / f"{name}.onnx", inputs.recipe, len(inputs.classes)), image_set, study
                )
                for progress in evaluation.run():
                    left = (total - done - progress.done) / progress.per_second if progress.per_second else None
                    yield Progress(done + progress.done, total, progress.per_second, left)
                if current_stop().stopped:
                    return
                done += len(image_set.items)
    finally:
        study.close()
