"""Checks of a model's answers: do they fit the class list, what kind are they, and are they those of a working model."""

from __future__ import annotations

import numpy as np

from mivrat.core.answers.answers import FAILED
from mivrat.core.base.numbers import percent
from mivrat.core.base.text import in_sentence, plural
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, CheckState
from mivrat.core.figures.significance import beyond_commonest
from mivrat.core.figures.uncertainty import LEAST_UNITS
from mivrat.core.figures.units import alike_within, units_of
from mivrat.core.models.scores import column_count_fits

# What looks like units: so many images each on average, answers so alike within them.
LEAST_SIZE, MOST_SIZE, LEAST_ALIKE = 1.5, 60, 0.1
# Or has at least so many values, and answers so alike that the design effect is above this.
MANY_UNITS, LEAST_EFFECT = 20, 1.25
NOT_SCORED = "No image has been scored yet."


def check_outputs(inputs: Inputs) -> CheckResult:
    """The number of scores per image against the number of classes."""
    if inputs.model is None and inputs.model_problem:
        return CheckResult("outputs", "stop", f"The model cannot be used: {inputs.model_problem}")
    if inputs.model is None:
        return CheckResult("outputs", "open", "Not checked: no model file is available.")
    model, classes = inputs.model, len(inputs.classes)
    figures = {"columns": model.columns, "classes": classes, "output": model.output.name}
    if not column_count_fits(model.columns, classes):
        sentence = (
            f"The model gives {model.columns} scores per image, the class list names {classes} classes: no prediction "
            "can be named. Use the class list this model was trained with."
        )
        return CheckResult("outputs", "stop", sentence, figures)
    if model.columns == 1:
        sentence = f"One score per image: read as the probability of the second class, {inputs.classes[1]}."
        return CheckResult("outputs", "look", sentence, figures)
    note = f" {model.remarks[-1]}." if any("several outputs" in remark for remark in model.remarks) else ""
    return CheckResult(
        "outputs",
        "look" if note else "fine",
        f"The model gives {model.columns} scores per image, the class list names {classes} classes.{note}",
        figures,
    )


def check_units(inputs: Inputs) -> CheckResult:
    """Whether a further column looks like one that says which images belong together."""
    judged, items = inputs.judged, inputs.image_set.items
    if inputs.image_set.unit_column:
        units = len(set(judged.units.number.tolist())) if judged is not None and judged.units is not None else 0
        sentence = f"Intervals and tests are over {units} units of the column {inputs.image_set.unit_column}."
        return CheckResult("units", "fine", sentence, {"column": inputs.image_set.unit_column, "units": units})
    if judged is None or not judged.evaluated.any():
        return CheckResult("units", "open", NOT_SCORED)
    use = np.flatnonzero(judged.evaluated)
    found: list[tuple[float, str, int]] = []
    # What is alike because it is of one class is no sign of a unit: each answer is taken beside its class's mean.
    labels = judged.labels[use]
    right = judged.right[use].astype(float)
    sure = judged.own[use] if not np.isnan(judged.own[use]).any() else right
    beside = [one - (np.bincount(labels, one) / np.maximum(1, np.bincount(labels)))[labels] for one in (right, sure)]
    for column in items[0].columns if items else ():
        values = [items[int(i)].columns.get(column, "") for i in use]
        units = len(set(values))
        if not units or not all(values) or len(use) / units < LEAST_SIZE or units < LEAST_UNITS:
            continue
        number = units_of(values, column).number
        correlation, p = max((alike_within(one, number) for one in beside), key=lambda one: (-one[1], one[0]))
        # Few images each and very alike; or so many units that their likeness, however slight, widens every interval.
        few = len(use) / units <= MOST_SIZE and correlation > LEAST_ALIKE
        many = units >= MANY_UNITS and 1 + (len(use) / units - 1) * correlation > LEAST_EFFECT
        if p < 0.001 and (few or many):
            found.append((correlation, column, units))
    if not found:
        return CheckResult("units", "fine", "No column looks like a unit of related images.")
    correlation, column, units = max(found)
    sentence = (
        f"The column {column} looks like units of related images: {units} values, about {len(use) / units:.0f} "
        f"images each, and answers within one are alike (intraclass correlation {correlation:.2f}). If these images are of one "
        "slide, patient or burst, say so under Prepare, Inputs (--together): intervals are too narrow otherwise."
    )
    figures = {"column": column, "units": units, "correlation": correlation}
    return CheckResult("units", "look", sentence, figures)


def check_kind(inputs: Inputs) -> CheckResult:
    """What kind of scores the answers are read as."""
    judged = inputs.judged
    if judged is None or not len(inputs.answered):
        return CheckResult("kind", "open", NOT_SCORED)
    if not judged.has_scores:
        sentence = "The answers tell predictions and no scores: figures that need a score of every class are left out."
        return CheckResult("kind", "look", sentence, {"kind": "prediction"})
    rows = judged.rows[inputs.answered]
    low, high = float(rows.min()), float(rows.max())
    sums = rows.sum(axis=1, dtype=np.float64)
    figures = {"kind": judged.kind, "lowest": low, "highest": high, "mean_sum": float(sums.mean())}
    text = f"Scores from {low:.3g} to {high:.3g}, read as {judged.kind}"
    if judged.kind == "logits" and rows.shape[1] > 1 and low >= 0 and high <= 1:
        sentence = (
            f"{text}, though all lie between 0 and 1 and each image's add up to {sums.mean():.3g}: one sigmoid per class? "
            "Confidence and all that rests on it cannot be trusted."
        )
        return CheckResult("kind", "look", sentence, figures)
    return CheckResult("kind", "fine", f"{text}.", figures)


def check_failed(inputs: Inputs) -> CheckResult:
    """Rows of scores with NaN or infinity."""
    if inputs.judged is None or not len(inputs.judged.state[inputs.judged.state > 0]):
        return CheckResult("failed", "open", NOT_SCORED)
    failed = np.flatnonzero(inputs.judged.state == FAILED)
    asked = len(inputs.answered) + len(failed)
    figures = {"scored": asked, "failed": len(failed)}
    if not len(failed):
        return CheckResult("failed", "fine", f"No NaN and no infinity in {plural(asked, 'answer')}.", figures)
    state: CheckState = "stop" if len(failed) > 0.01 * asked else "look"
    sentence = f"{plural(len(failed), 'answer')} of {asked} hold NaN or infinity and are left out of every figure."
    return CheckResult("failed", state, sentence, figures, tuple(failed.tolist()))


def check_ties(inputs: Inputs) -> CheckResult:
    """Images whose highest score stands twice: which class is predicted is then an accident of order."""
    judged, answered = inputs.judged, inputs.answered
    if judged is None or not len(answered) or not judged.has_scores:
        return CheckResult("ties", "open", NOT_SCORED)
    tied = answered[judged.tied[answered]]
    figures = {"scored": len(answered), "tied": len(tied)}
    if not len(tied):
        return CheckResult("ties", "fine", f"Each of {plural(len(answered), 'answer')} has one highest score.", figures)
    sentence = (
        f"{plural(len(tied), 'answer')} of {len(answered)} have their highest score more than once; the class earlier "
        "in the list is taken."
    )
    state: CheckState = "stop" if len(tied) > 0.1 * len(answered) else "look"
    return CheckResult("ties", state, sentence, figures, tuple(tied.tolist()))


def check_constant(inputs: Inputs) -> CheckResult:
    """Answers that do not depend on the picture."""
    judged, answered = inputs.judged, inputs.answered
    if judged is None or len(answered) < 2 or not judged.has_scores:
        return CheckResult("constant", "open", NOT_SCORED if len(answered) < 2 else "Only predictions are known.")
    rows = judged.rows[answered].astype(np.float64)
    spread, scale = float(rows.std(axis=0).max()), float(np.abs(rows).max()) or 1.0
    figures = {"scored": len(answered), "largest_deviation": spread}
    if spread <= 1e-5 * scale:
        sentence = f"All {len(answered)} answers are the same for every picture. The input may not reach the model."
        return CheckResult("constant", "stop", sentence, figures)
    return CheckResult("constant", "fine", "Answers differ from picture to picture.", figures)


def check_skill(inputs: Inputs) -> CheckResult:
    """Whether the answers are right more often than always saying the commonest class would be."""
    judged = inputs.judged
    use = np.flatnonzero(judged.evaluated) if judged is not None else np.zeros(0, np.int64)
    if judged is None or len(use) < 20:
        return CheckResult("skill", "open", "Fewer than 20 labelled images are scored.")
    counts = np.bincount(judged.labels[use], minlength=len(inputs.classes))
    top, hits = int(counts.argmax()), int(judged.right[use].sum())
    share, p = beyond_commonest(judged.right[use], judged.labels[use])
    figures = {"accuracy": hits / len(use), "commonest_class": inputs.classes[top], "commonest_share": share, "p": p}
    text = (
        f"Top-1 accuracy {percent(hits / len(use))}, N = {len(use)}; majority-class baseline "
        f"({in_sentence([inputs.classes[top]])}): {percent(share)}"
    )
    if p < 0.001:
        return CheckResult("skill", "fine", f"{text}.", figures)
    if counts.max() == len(use):
        return CheckResult(
            "skill",
            "open",
            "All labels are one class, so accuracy says nothing about how well the model separates classes.",
            figures,
        )
    sentence = f"{text}: not significantly better. See class order, recipe and labels before trusting any figure."
    return CheckResult("skill", "stop", sentence, figures)


def check_one_class(inputs: Inputs) -> CheckResult:
    """A model that says the same class for nearly every picture, though the labels do not."""
    judged, answered = inputs.judged, inputs.answered
    if judged is None or len(answered) < 10:
        return CheckResult("one-class", "open", NOT_SCORED if not len(answered) else "Fewer than 10 images are scored.")
    counts = np.bincount(judged.predicted[answered], minlength=len(inputs.classes))
    labels = judged.labels[answered]
    top = int(counts.argmax())
    share = float(counts[top] / len(answered))
    labelled = float((labels[labels >= 0] == top).mean()) if (labels >= 0).any() else 1 / len(inputs.classes)
    never = [inputs.classes[k] for k in np.flatnonzero(counts == 0) if (labels == k).any()]
    figures = {"class": inputs.classes[top], "predicted_share": share, "labelled_share": labelled, "never": never}
    text = f"{in_sentence([inputs.classes[top]])} is predicted for {percent(share)} of {len(answered)} images"
    concerned = tuple(answered[judged.predicted[answered] == top].tolist())
    if share >= 0.9 and labelled <= 0.5:
        sentence = f"{text}, though {percent(labelled)} are labelled so: check the recipe's values and channel order."
        return CheckResult("one-class", "stop", sentence, figures, concerned)
    if share >= 0.3 and share >= 3 * labelled:
        return CheckResult("one-class", "look", f"{text}; {percent(labelled)} are labelled so.", figures, concerned)
    more = f" Never predicted though labelled: {in_sentence(never)}." if never else ""
    return CheckResult(
        "one-class", "look" if never else "fine", f"The class predicted most often: {text}.{more}", figures
    )
