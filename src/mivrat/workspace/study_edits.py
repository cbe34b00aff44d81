"""The edits of a whole study that are offered, each with its way back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.base.numbers import percent
from mivrat.core.concluding.criterion_words import in_plain_words
from mivrat.core.concluding.requirements import parse_criterion
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.pictures import subsets
from mivrat.core.pictures.containers import is_there
from mivrat.core.pictures.image_sets import ImageSet, Role, list_images, match_labels
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.pictures.subsets import draw, draw_per_class
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study import image_sets as study_image_sets
from mivrat.core.study import models as study_models
from mivrat.core.study.class_list import load_pairing, save_class_order, save_families, save_pairing
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import (
    add_image_set,
    list_image_sets,
    load_image_set,
    remove_image_set,
    save_role,
    save_unit_column,
)
from mivrat.core.study.models import list_models, move_model
from mivrat.core.study.records import ModelInfo, Removed, RunInfo, SetInfo
from mivrat.core.study.removing import put_back
from mivrat.core.study.runs import list_runs, remove_run
from mivrat.core.study.settings import save_claim, save_criteria, save_temperature, save_threshold
from mivrat.workspace.edits import StudyEdit


def add_run(words: str, path: Path, set_id: int, recipe: Recipe | None, usual: Recipe | None = None) -> StudyEdit:
    """A model on a set, as a run to be scored; without a recipe the ``usual`` one is tried, else one is guessed.

    A table of predictions answers at once.
    """
    made: dict[str, int] = {}

    def do(study: Study) -> int:
        models, runs = {one.id for one in list_models(study)}, {one.id for one in list_runs(study)}
        model = _fitting_model(study, path, recipe, usual)
        evaluation = Evaluation(model, load_image_set(study, set_id), study)
        assert evaluation.run_id is not None
        if not model.kind.can.scores:
            try:
                for _ in evaluation.run():
                    pass
            except InputError:
                if evaluation.run_id not in runs:
                    study_models.remove_model(
                        study, next(one.model_id for one in list_runs(study) if one.id == evaluation.run_id)
                    )
                raise
        made.clear()
        if evaluation.run_id not in runs:
            made["run"] = evaluation.run_id
        info = next(one for one in list_runs(study) if one.id == evaluation.run_id)
        if info.model_id not in models:
            made["model"] = info.model_id
        return evaluation.run_id

    def undo(study: Study) -> None:
        if "run" in made:
            remove_run(study, made["run"])
        if "model" in made:
            study_models.remove_model(study, made["model"])

    return StudyEdit(words, do, undo)


def add_model(path: Path, set_id: int, usual: Recipe | None) -> StudyEdit:
    """A model added with a run on a set; the run shown stays the one shown."""
    run = add_run(f"{path.stem} added", path, set_id, None, usual)

    def do(study: Study) -> None:
        run.do(study)

    return StudyEdit(run.words, do, run.undo)


def _fitting_model(study: Study, path: Path, recipe: Recipe | None, usual: Recipe | None) -> Model:
    if recipe is None and usual is not None:
        try:
            model = load_model(path, study.classes, usual)
            # A service that takes pictures leaves most of a recipe out: then what it takes is told from it alone.
            if model.recipe.model_copy(update={"scores": usual.scores}) == usual or not model.kind.can.scores:
                model.recipe_is_guess = model.kind.can.scores
                return model
        except InputError:
            pass
    return load_model(path, study.classes, recipe)


def _new_set(words: str, make: Callable[[Study], ImageSet]) -> StudyEdit:
    """An image set added, as ``_new_sets`` adds several."""
    return _new_sets(words, lambda study: (make(study),))


def _new_sets(words: str, make: Callable[[Study], Sequence[ImageSet]]) -> StudyEdit:
    """Image sets added; one that the study has already is neither added nor, on the way back, taken away."""
    made: list[int] = []

    def do(study: Study) -> None:
        before = {one.id for one in list_image_sets(study)}
        keys = [add_image_set(study, one) for one in make(study)]
        made[:] = [key for key in keys if key not in before]

    def undo(study: Study) -> None:
        for set_id in made:
            remove_image_set(study, set_id)

    return StudyEdit(words, do, undo)


def add_images(source: Path, role: Role) -> StudyEdit:
    """A folder or table of images as a set; labels that no class goes by are kept, to be paired by hand."""
    return _new_set(
        f"{source.stem} added as {role} images",
        lambda study: match_labels(list_images(source), study.classes, load_pairing(study), role).image_set,
    )


def draw_subset(of: SetInfo, number: int, seed: int, each_class: bool) -> StudyEdit:
    """A random subset as a set of its own: so many images of each class, or so many in all."""
    amount = f"{number} of each class" if each_class else f"{number} images"
    return _new_set(
        f"{amount} drawn from {of.name}",
        lambda study: (draw_per_class if each_class else draw)(load_image_set(study, of.id), number, seed),
    )


def draw_halves(of: SetInfo, seed: int) -> StudyEdit:
    """Two random halves as sets of their own, so that what is found on the one can be confirmed on the other."""
    return _new_sets(
        f"two halves drawn from {of.name}", lambda study: subsets.draw_halves(load_image_set(study, of.id), seed)
    )


def remove_set(which: SetInfo) -> StudyEdit:
    """An image set taken away, with its runs. Doing it raises InputError where no run would be left."""
    return _removal(
        which.name,
        lambda run: run.set_id == which.id,
        ("every run of this study is on this set", "score another set first, then remove it"),
        lambda study: remove_image_set(study, which.id),
    )


def remove_model(which: ModelInfo) -> StudyEdit:
    """A model taken away, with its runs; what it has answered stays. Doing it raises InputError where no run would be left."""
    return _removal(
        which.name,
        lambda run: run.model_id == which.id,
        ("every run of this study is of this model", "score another model first, then remove it"),
        lambda study: study_models.remove_model(study, which.id),
    )


def _removal(
    name: str, goes: Callable[[RunInfo], bool], refusal: tuple[str, str], remove: Callable[[Study], Removed]
) -> StudyEdit:
    """Something taken away with the runs that go with it; refused, in these words (what, how to mend it), where all would."""
    taken: list[Removed] = []

    def do(study: Study) -> None:
        if all(goes(run) for run in list_runs(study)):
            raise InputError(refusal[0], where=name, hint=refusal[1])
        taken[:] = [remove(study)]

    return StudyEdit(f"{name} removed", do, lambda study: put_back(study, taken[0]))


def change_role(which: SetInfo, role: Role) -> StudyEdit:
    """An image set used as another kind of images."""
    return StudyEdit(
        f"{which.name} used as {role} images",
        lambda study: save_role(study, which.id, role),
        lambda study: save_role(study, which.id, which.role),
    )


def rename_model(which: ModelInfo, name: str) -> StudyEdit:
    """A model called something else, in the runs that it makes too."""
    return StudyEdit(
        f"{which.name} renamed {name}",
        lambda study: study_models.rename_model(study, which.id, name),
        lambda study: study_models.rename_model(study, which.id, which.name),
    )


def rename_set(which: SetInfo, name: str) -> StudyEdit:
    """An image set called something else, in the runs on it too."""
    return StudyEdit(
        f"{which.name} renamed {name}",
        lambda study: study_image_sets.rename_set(study, which.id, name),
        lambda study: study_image_sets.rename_set(study, which.id, which.name),
    )


def put_together(which: SetInfo, column: str) -> StudyEdit:
    """The column by which an image set's images belong together; empty: they count as independent."""
    words = f"{which.name}: together by {column}" if column else f"{which.name}: images independent"
    return StudyEdit(
        words,
        lambda study: save_unit_column(study, which.id, column),
        lambda study: save_unit_column(study, which.id, which.unit_column),
    )


def relocate_set(which: SetInfo, root: Path) -> StudyEdit:
    """An image set looked for in another folder, which has to hold at least one of its images. Doing it raises InputError
    where it holds none."""

    def do(study: Study) -> None:
        items = load_image_set(study, which.id).items
        if not any(is_there(root / item.path) for item in items):
            raise InputError(
                f"holds none of the images of {which.name} (the first would be {items[0].path})",
                where=root,
                hint="choose the folder that takes the place of the one before",
            )
        study_image_sets.relocate_set(study, which.id, root)

    return StudyEdit(
        f"{which.name} found in {root.name}",
        do,
        lambda study: study_image_sets.relocate_set(study, which.id, which.root),
    )


def relocate_model(which: ModelInfo, path: Path) -> StudyEdit:
    """A model file looked for elsewhere; it has to be the same file."""
    return StudyEdit(
        f"{which.name} found in {path.parent.name}",
        lambda study: study_models.relocate_model(study, which.id, path),
        lambda study: move_model(study, which.id, which.path),
    )


def pair_labels(words: str, now: Mapping[str, int | None], before: Mapping[str, int | None]) -> StudyEdit:
    """Labels paired with classes by hand, or put aside as standing for no class."""
    return StudyEdit(words, lambda study: save_pairing(study, now), lambda study: save_pairing(study, before))


def put_in_families(words: str, now: Mapping[int, str], before: Mapping[int, str]) -> StudyEdit:
    """Classes put into families."""
    return StudyEdit(words, lambda study: save_families(study, now), lambda study: save_families(study, before))


def claim_accuracy(model_id: int, now: float | None, before: float | None) -> StudyEdit:
    """The top-1 accuracy that was claimed for a model at training time."""
    what = "claim removed" if now is None else f"{percent(now, None)} claimed"
    return StudyEdit(
        what,
        lambda study: save_claim(study, model_id, now),
        lambda study: save_claim(study, model_id, before),
        of_run=False,
    )


def set_threshold(model_id: int, now: float | None, before: float | None) -> StudyEdit:
    """Of two classes, the probability from which on the second one is called; every figure follows."""
    what = "no threshold" if now is None else f"threshold {now:.3f}"
    return StudyEdit(
        what, lambda study: save_threshold(study, model_id, now), lambda study: save_threshold(study, model_id, before)
    )


def set_temperature(model_id: int, now: float | None, before: float | None) -> StudyEdit:
    """The temperature a model's ranked scores are shown with; no figure changes by it."""
    what = "no temperature" if now is None else f"temperature {now:.2f}"
    return StudyEdit(
        what,
        lambda study: save_temperature(study, model_id, now),
        lambda study: save_temperature(study, model_id, before),
    )


def set_criteria(model_id: int, words: str, now: Sequence[str], before: Sequence[str]) -> StudyEdit:
    """What a model's figures have to meet."""
    return StudyEdit(
        words,
        lambda study: save_criteria(study, model_id, now),
        lambda study: save_criteria(study, model_id, before),
        of_run=False,
    )


def add_criterion(model_id: int, text: str, classes: Sequence[str], before: Sequence[str]) -> StudyEdit:
    """One more criterion, which is none of those ``before``."""
    told = in_plain_words(parse_criterion(text, classes), classes)
    return set_criteria(model_id, f"criterion added: {told}", [*before, text], before)


def both(words: str, first: StudyEdit, second: StudyEdit) -> StudyEdit:
    """Two edits as one."""

    def do(study: Study) -> int | None:
        first.do(study)
        return second.do(study)

    def undo(study: Study) -> None:
        second.undo(study)
        first.undo(study)

    return StudyEdit(words, do, undo)


def confirm_recipe(model_id: int, name: str) -> StudyEdit:
    """A model's recipe said to be the one it was trained with: it is a guess no longer."""
    return StudyEdit(
        f"recipe of {name} confirmed",
        lambda study: study_models.save_guess(study, model_id, False),
        lambda study: study_models.save_guess(study, model_id, True),
    )


def put_in_order(names: Sequence[str], before: Sequence[str]) -> StudyEdit:
    """The model's outputs named by the same classes in another order."""
    return StudyEdit(
        "class order changed",
        lambda study: save_class_order(study, names),
        lambda study: save_class_order(study, before),
    )
