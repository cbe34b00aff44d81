"""The limits of a report, written from the study's own facts: what was guessed, left out, small, doubted, or not looked at."""

from __future__ import annotations

from collections.abc import Sequence

from mivrat.core.base.text import count, images, in_sentence, plural
from mivrat.core.checks.catalogue import BY_NAME, checks_of
from mivrat.core.checks.result import CheckResult
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.figures.uncertainty import FEW, FEW_UNITS

# A class with fewer images than this has intervals too wide to say much.
SMALL = 30


def limits(
    ground: EvaluationContext, checks: Sequence[CheckResult] = (), suspected: int | None = None, compared: bool = False
) -> list[str]:
    """The limits, the gravest first."""
    snapshot = ground.snapshot
    record, counts, figures = snapshot.record, snapshot.counts, snapshot.figures
    found: list[str] = []
    for one in checks:
        if one.state == "stop" and one.name in BY_NAME:
            answered = f" It was looked into and answered: {one.answer}" if one.answer else ""
            found.append(
                f"A check says that something must be corrected first ({BY_NAME[one.name].title}): {one.sentence}{answered}"
            )
    if record.kind.can.asked:
        found.append(
            "The model is a prediction service: what is known of it are its answers. Nobody can see from here whether it is still "
            "the same model behind the address, or what else it does with a picture before it answers."
        )
    if record.recipe_is_guess:
        found.append(
            "The preprocessing is a guess: if the model was trained with another one, every figure here is of a model fed wrongly."
        )
    if record.answers.kind_source == "guess" and record.kind.can.scores:
        found.append(f"That the scores are {snapshot.judged.kind} was guessed from their values.")
    left = [
        f"{images(n)} {what}"
        for n, what in (
            (counts.unreadable, "could not be read"),
            (counts.failed, "failed"),
            (counts.pending, "have not been scored"),
            (counts.unlabelled, "have no label"),
        )
        if n
    ]
    if left:
        found.append(f"Left out of all figures: {'; '.join(left)}.")
    if figures.total < FEW:
        found.append(
            f"Only {images(figures.total)} were judged: at this N intervals are wide, and some figures have none."
        )
    found += _classes(ground)
    found += _doubts(ground, suspected)
    column = record.image_set.unit_column
    if not column:
        found.append(
            "Images were taken as independent of one another. If several are of one slide, patient, place or burst, the true intervals are wider."
        )
    elif (units := figures.top_k[1].units) is not None and units < FEW_UNITS:
        found.append(f"Intervals are over only {plural(units, 'unit')} of {column}: too few to say much about others.")
    if record.image_set.drawn:
        found.append(f"The images are a subset: {record.image_set.drawn}.")
    asked = {one.name for one in checks if one.state != "open"}
    missing = [one.title for one in checks_of(record.kind) if one.name not in asked]
    if missing:
        found.append(f"Not checked, or nothing could be said: {in_sentence(missing, 12)}.")
    for one in checks:
        if one.state == "look" and one.name in BY_NAME:
            found.append(f"A check that needs a look ({BY_NAME[one.name].title}): {one.sentence}")
    if record.threshold is not None:
        found.append(
            f"The second class is called from a probability of {record.threshold:.3f} on; a threshold chosen on these images flatters them."
        )
    if record.temperature is not None:
        found.append(
            f"A temperature of {record.temperature:.2f} is adopted for showing scores; the figures here are without it."
        )
    if compared:
        found.append(
            "A comparison is about these images. A model chosen because it was best here looks better than it is."
        )
    if len(record.classes) > 1:
        found.append("One interval in twenty misses the true value by chance alone; of many classes, some do.")
    found.append(
        "A heatmap shows where the evidence of an answer lies, not why. Only what a cover test has changed is shown to matter."
    )
    found.append("All figures are of these images. Other places, cameras, seasons or uses may differ.")
    return found


def _classes(ground: EvaluationContext) -> list[str]:
    figures, classes = ground.snapshot.figures, ground.classes
    none = [classes[k] for k, one in enumerate(figures.classes) if not one.support]
    small = [f"{classes[k]} ({one.support})" for k, one in enumerate(figures.classes) if 0 < one.support < SMALL]
    found = []
    if none:
        found.append(
            f"{plural(len(none), 'class has', 'classes have')} no labelled image here, so nothing is known of how well {'it is' if len(none) == 1 else 'they are'} recognised: {in_sentence(none)}."
        )
    if small:
        found.append(
            f"{plural(len(small), 'class has', 'classes have')} fewer than {SMALL} images, so one image moves {'its' if len(small) == 1 else 'their'} figures by several points: {in_sentence(small)}."
        )
    return found


def _by_chance(ground: EvaluationContext) -> str:
    """How many labels would be suspect without a wrong one among them, in words."""
    expected = ground.snapshot.judged.expected_suspects()
    return "" if expected is None else f" ({expected:.0f} would be if none were wrong)"


def _doubts(ground: EvaluationContext, suspected: int | None) -> list[str]:
    proposed = sum(one.label is not None for one in ground.reviews.by_position.values())
    found = []
    if proposed:
        found.append(
            f"For {images(proposed)} another label has been proposed; the figures here are by the labels as they were given."
        )
    if suspected:
        found.append(
            f"{images(suspected)} {'has a label' if suspected == 1 else 'have labels'} that the answers make suspect{_by_chance(ground)}; wrong labels count as mistakes here."
        )
    reviewed, wrong = ground.reviews.mask(len(ground.snapshot.judged.labels), "reviewed"), ground.snapshot.judged.wrong
    total, seen = int(wrong.sum()), int((wrong & reviewed).sum())
    if total and seen < total:
        found.append(
            f"Of {count(total)} mistakes {count(seen) if seen else 'none'} {'has' if seen == 1 or not seen else 'have'} been looked at by a person."
        )
    return found
