"""The changes to a study that the window offers, each with its way back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from mivrat.core.base.errors import InputError
from mivrat.core.models.kinds import load_model
from mivrat.core.models.model import Model
from mivrat.core.pictures.image_sets import ImageSet, Role, list_images, match_labels
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.pictures.subsets import draw, draw_per_class
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.records import ModelInfo, Removed, SetInfo
from mivrat.core.study.study import Study
from mivrat.ui.decisions import Decision


def add_run(words: str, path: Path, set_id: int, recipe: Recipe | None, usual: Recipe | None = None) -> Decision:
    """A model on a set, as a run to be scored; without a recipe the ``usual`` one is tried, else one is guessed.

    A table of predictions answers at once.
    """
    made: dict[str, int] = {}

    def do(study: Study) -> int:
        models, runs = {one.id for one in study.models()}, {one.id for one in study.runs()}
        model = _fitting_model(study, path, recipe, usual)
        evaluation = Evaluation(model, study.load_image_set(set_id), study)
        assert evaluation.run_id is not None
        if not model.kind.can.scores:
            try:
                for _ in evaluation.run():
                    pass
            except InputError:
                if evaluation.run_id not in runs:
                    study.remove_model(next(one.model_id for one in study.runs() if one.id == evaluation.run_id))
                raise
        made.clear()
        if evaluation.run_id not in runs:
            made["run"] = evaluation.run_id
        info = next(one for one in study.runs() if one.id == evaluation.run_id)
        if info.model_id not in models:
            made["model"] = info.model_id
        return evaluation.run_id

    def undo(study: Study) -> None:
        if "run" in made:
            study.remove_run(made["run"])
        if "model" in made:
            study.remove_model(made["model"])

    return Decision(words, do, undo)


def _fitting_model(study: Study, path: Path, recipe: Recipe | None, usual: Recipe | None) -> Model:
    if recipe is None and usual is not None:
        try:
            model = load_model(path, study.classes, usual)
            model.recipe_is_guess = model.kind.can.scores
            return model
        except InputError:
            pass
    return load_model(path, study.classes, recipe)


def _new_set(words: str, make: Callable[[Study], ImageSet]) -> Decision:
    """An image set added; one that the study has already is neither added nor, on the way back, taken away."""
    made: list[int] = []

    def do(study: Study) -> None:
        before = {one.id for one in study.image_sets()}
        set_id = study.add_image_set(make(study))
        made[:] = [] if set_id in before else [set_id]

    def undo(study: Study) -> None:
        for set_id in made:
            study.remove_image_set(set_id)

    return Decision(words, do, undo)


def add_images(source: Path, role: Role) -> Decision:
    """A folder or table of images as a set; labels that no class goes by are kept, to be paired by hand."""
    return _new_set(
        f"{source.stem} added as {role} images",
        lambda study: match_labels(list_images(source), study.classes, study.pairing(), role).image_set,
    )


def draw_subset(of: SetInfo, number: int, seed: int, each_class: bool) -> Decision:
    """A random subset as a set of its own: so many images of each class, or so many in all."""
    amount = f"{number} of each class" if each_class else f"{number} images"
    return _new_set(
        f"{amount} drawn from {of.name}",
        lambda study: (draw_per_class if each_class else draw)(study.load_image_set(of.id), number, seed),
    )


def remove_set(which: SetInfo) -> Decision:
    """An image set taken away, with its runs."""
    taken: list[Removed] = []

    def do(study: Study) -> None:
        if all(run.set_id == which.id for run in study.runs()):
            raise InputError(
                "every run of this study is on this set",
                where=which.name,
                mend="score another set first, then remove it",
            )
        taken[:] = [study.remove_image_set(which.id)]

    return Decision(f"{which.name} removed", do, lambda study: study.restore(taken[0]))


def remove_model(which: ModelInfo) -> Decision:
    """A model taken away, with its runs; what it has answered stays."""
    taken: list[Removed] = []

    def do(study: Study) -> None:
        if all(run.model_id == which.id for run in study.runs()):
            raise InputError(
                "every run of this study is of this model",
                where=which.name,
                mend="score another model first, then remove it",
            )
        taken[:] = [study.remove_model(which.id)]

    return Decision(f"{which.name} removed", do, lambda study: study.restore(taken[0]))


def change_role(which: SetInfo, role: Role) -> Decision:
    """An image set used as another kind of images."""
    return Decision(
        f"{which.name} used as {role} images",
        lambda study: study.set_role(which.id, role),
        lambda study: study.set_role(which.id, which.role),
    )


def put_together(which: SetInfo, column: str) -> Decision:
    """The column by which an image set's images belong together; empty: they count as independent."""
    words = f"{which.name}: together by {column}" if column else f"{which.name}: images independent"
    return Decision(
        words,
        lambda study: study.set_together(which.id, column),
        lambda study: study.set_together(which.id, which.together),
    )


def relocate_set(which: SetInfo, root: Path) -> Decision:
    """An image set looked for in another folder, which has to hold at least one of its images."""

    def do(study: Study) -> None:
        items = study.load_image_set(which.id).items
        if not any((root / item.path).exists() for item in items):
            raise InputError(
                f"holds none of the images of {which.name} (the first would be {items[0].path})",
                where=root,
                mend="choose the folder that takes the place of the one before",
            )
        study.relocate(which.id, root)

    return Decision(f"{which.name} found in {root.name}", do, lambda study: study.relocate(which.id, which.root))


def relocate_model(which: ModelInfo, path: Path) -> Decision:
    """A model file looked for elsewhere; it has to be the same file."""
    return Decision(
        f"{which.name} found in {path.parent.name}",
        lambda study: study.relocate_model(which.id, path),
        lambda study: study.move_model(which.id, which.path),
    )


def pair_labels(words: str, now: Mapping[str, int | None], before: Mapping[str, int | None]) -> Decision:
    """Labels paired with classes by hand, or put aside as standing for no class."""
    return Decision(words, lambda study: study.set_pairing(now), lambda study: study.set_pairing(before))


def put_in_families(words: str, now: Mapping[int, str], before: Mapping[int, str]) -> Decision:
    """Classes put into families."""
    return Decision(words, lambda study: study.set_families(now), lambda study: study.set_families(before))


def claim_accuracy(model_id: int, now: float | None, before: float | None) -> Decision:
    """The top-1 accuracy that was claimed for a model at training time."""
    what = "claim removed" if now is None else f"{100 * now:g} % claimed"
    return Decision(what, lambda study: study.set_claim(model_id, now), lambda study: study.set_claim(model_id, before))


def set_threshold(model_id: int, now: float | None, before: float | None) -> Decision:
    """Of two classes, the probability from which on the second one is called; every figure follows."""
    what = "no threshold" if now is None else f"threshold {now:.3f}"
    return Decision(
        what, lambda study: study.set_threshold(model_id, now), lambda study: study.set_threshold(model_id, before)
    )


def set_temperature(model_id: int, now: float | None, before: float | None) -> Decision:
    """The temperature a model's ranked scores are shown with; no figure changes by it."""
    what = "no temperature" if now is None else f"temperature {now:.2f}"
    return Decision(
        what, lambda study: study.set_temperature(model_id, now), lambda study: study.set_temperature(model_id, before)
    )


def set_criteria(model_id: int, words: str, now: Sequence[str], before: Sequence[str]) -> Decision:
    """What a model's figures have to meet."""
    return Decision(
        words, lambda study: study.set_criteria(model_id, now), lambda study: study.set_criteria(model_id, before)
    )


def both(words: str, first: Decision, second: Decision) -> Decision:
    """Two decisions as one."""

    def do(study: Study) -> int | None:
        first.do(study)
        return second.do(study)

    def undo(study: Study) -> None:
        second.undo(study)
        first.undo(study)

    return Decision(words, do, undo)


def put_in_order(names: Sequence[str], before: Sequence[str]) -> Decision:
    """The model's outputs named by the same classes in another order."""
    return Decision(
        "class order changed", lambda study: study.set_class_order(names), lambda study: study.set_class_order(before)
    )
