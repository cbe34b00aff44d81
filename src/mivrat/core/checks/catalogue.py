"""The list of all checks: what each is called, why it matters, what it needs, and how they are run."""

from __future__ import annotations

from collections.abc import Callable, Collection, Generator, Iterator, Mapping
from dataclasses import dataclass

from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.checks import answer_checks, file_checks, label_checks, service_check
from mivrat.core.checks.copies import find_near_copies
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.order_probe import check_class_order
from mivrat.core.checks.recipe_probe import probe_recipe
from mivrat.core.checks.result import CheckResult
from mivrat.core.checks.survey import ContentFacts, Surveyed, survey_files
from mivrat.core.models.model import ModelKind
from mivrat.core.pictures.image_sets import ImageSet


@dataclass(frozen=True)
class Check:
    """One check. ``slow`` ones are run when asked for; ``surveys`` tells that it needs every file read and decoded."""

    name: str
    title: str
    why: str
    run: Callable[[Inputs], CheckResult] | None = None
    slow: bool = False
    surveys: bool = False


CHECKS: tuple[Check, ...] = (
    Check(
        "labels",
        "Labels",
        "A label that is not in the class list drops out of every figure, without a word in most tools.",
        label_checks.check_labels,
    ),
    Check(
        "class-sizes",
        "Images per class",
        "With few images, one more or less moves a class's figures by points; without any they are undefined.",
        label_checks.check_class_sizes,
    ),
    Check(
        "balance",
        "Balance",
        "Where one class has most of the images, overall accuracy is that class's accuracy.",
        label_checks.check_balance,
    ),
    Check(
        "outputs",
        "Outputs and class list",
        "A class list of another length than the model's output gives every prediction a wrong name.",
        answer_checks.check_outputs,
    ),
    Check(
        "kind",
        "Kind of scores",
        "Logits read as probabilities, or one sigmoid per class read as a softmax, make confidence meaningless.",
        answer_checks.check_kind,
    ),
    Check(
        "failed",
        "NaN and infinity",
        "One NaN spreads through every mean it enters; such answers are counted and left out.",
        answer_checks.check_failed,
    ),
    Check(
        "ties",
        "Ties at the top",
        "Of equal scores the earlier class wins: an accident that favours the top of the class list.",
        answer_checks.check_ties,
    ),
    Check(
        "units",
        "Related images",
        "Images of one slide, patient or burst are not independent; counted as if they were, they make intervals too narrow.",
        answer_checks.check_units,
    ),
    Check(
        "constant",
        "Answers that never change",
        "A model that gives the same answer for every picture does not see the picture at all.",
        answer_checks.check_constant,
    ),
    Check(
        "one-class",
        "One class for everything",
        "A wrong value range or channel order often shows as one class predicted for nearly every picture.",
        answer_checks.check_one_class,
    ),
    Check(
        "skill",
        "Better than one class for everything",
        "A figure that always saying the commonest class reaches as well shows no skill, only how lopsided the labels are.",
        answer_checks.check_skill,
    ),
    Check(
        "class-order",
        "Class order",
        "Folders sorted one way and a model trained another make a good model look bad, or a bad figure look plausible.",
        check_class_order,
    ),
    Check(
        "changed",
        "Files changed since the run",
        "Figures are those of the pictures that were scored; a file replaced since then shows something else.",
        file_checks.check_changed,
    ),
    Check(
        "readable",
        "Readable files",
        "A file that is empty, cut short or no picture is missing from the figures.",
        file_checks.check_readable,
        slow=True,
        surveys=True,
    ),
    Check(
        "shapes",
        "Modes, sizes and proportions",
        "Grey scans, thumbnails and panoramas among photos are often not what the model was made for.",
        file_checks.check_shapes,
        slow=True,
        surveys=True,
    ),
    Check(
        "duplicates",
        "Copies among held-out images",
        "The same picture twice counts twice, and with two labels at least one of them is wrong.",
        file_checks.check_duplicates,
        slow=True,
        surveys=True,
    ),
    Check(
        "training",
        "Copies of training images",
        "On pictures it has been trained with, a model shows memory, not skill.",
        file_checks.check_training,
        slow=True,
        surveys=True,
    ),
    Check(
        "recipe",
        "Recipe",
        "Preprocessing other than at training costs accuracy silently: channels, value range, crop, antialias.",
        slow=True,
    ),
)
OF_SERVICE = Check(
    service_check.NAME,
    "Prediction service",
    "A service may be replaced, or answer otherwise in a hurry, without a word: then figures are of no model in particular.",
    service_check.check_service,
    slow=True,
)
BY_NAME: Mapping[str, Check] = {check.name: check for check in (OF_SERVICE, *CHECKS)}


def checks_of(kind: ModelKind) -> tuple[Check, ...]:
    """The checks there are for a kind of model."""
    return (OF_SERVICE, *CHECKS) if kind.can.asked else CHECKS


@dataclass(frozen=True)
class CheckProgress:
    """Progress of a run of checks: what is being done, and how far it is."""

    what: str
    progress: Progress


def run_checks(
    inputs: Inputs,
    names: Collection[str],
    known: Mapping[bytes, ContentFacts] | None = None,
) -> Iterator[CheckProgress | CheckResult]:
    """Run checks in the catalogue's order, yielding progress and results; ends early when stopped.

    ``known`` are facts of contents surveyed before; what is surveyed now stays in ``inputs``.
    """
    wanted = [check for check in BY_NAME.values() if check.name in names]
    for check in wanted:
        if current_stop().stopped:
            return
        if check.surveys:
            yield from _survey_all(inputs, check.name, known or {})
            if current_stop().stopped:
                return
        if check.run is not None:
            yield check.run(inputs)
            continue
        for event in probe_recipe(inputs):
            yield CheckProgress("Trying recipes", event) if isinstance(event, Progress) else event


def _survey_all(inputs: Inputs, name: str, known: Mapping[bytes, ContentFacts]) -> Iterator[CheckProgress]:
    """Survey the files that a check needs, and find the near copies among them; what is complete stays in ``inputs``."""
    if inputs.survey is None:
        inputs.survey = yield from _surveyed("Reading the images", inputs, inputs.image_set, known)
    here = inputs.survey
    if name == "training" and inputs.training is not None:
        if inputs.training_survey is None:
            inputs.training_survey = yield from _surveyed("Reading the training images", inputs, inputs.training, known)
        if here is not None and inputs.training_survey is not None:
            yield from _near_copies(inputs, "training", here, inputs.training_survey, inputs.training)
    if name == "duplicates" and here is not None:
        yield from _near_copies(inputs, "within", here, here, inputs.image_set)
        if inputs.others is not None:
            if inputs.others_survey is None:
                inputs.others_survey = yield from _surveyed(
                    "Reading the other held-out images", inputs, inputs.others, known
                )
            if inputs.others_survey is not None:
                yield from _near_copies(inputs, "others", here, inputs.others_survey, inputs.others)


def _near_copies(
    inputs: Inputs,
    name: str,
    here: list[Surveyed],
    there: list[Surveyed],
    others: ImageSet,
) -> Iterator[CheckProgress]:
    if name not in inputs.near:
        for step in find_near_copies(here, inputs.image_set, there, others):
            if isinstance(step, Progress):
                yield CheckProgress("Searching for near copies", step)
            else:
                inputs.near[name] = step


def _surveyed(
    what: str, inputs: Inputs, image_set: ImageSet, known: Mapping[bytes, ContentFacts]
) -> Generator[CheckProgress, None, list[Surveyed] | None]:
    """Survey a set; None where that was stopped."""
    found: list[Surveyed] = []
    meter, files = Meter(len(image_set.items)), image_set.files()
    for one in survey_files(files, known):
        found.append(one)
        if one.stamp is not None and known.get(one.stamp.content) != one.facts:
            inputs.fresh[one.stamp.content] = one.facts
        if len(found) % 16 == 0 or len(found) == len(files):
            yield CheckProgress(what, meter.at(len(found)))
    return found if len(found) == len(files) else None
