"""Checks of files: unreadable ones, unusual ones, changed ones, and copies of each other or of training images."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import Any

import numpy as np

from mivrat.core.base.text import in_sentence, plural
from mivrat.core.checks.copies import NearCopy
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, CheckState
from mivrat.core.checks.survey import Surveyed
from mivrat.core.pictures.containers import picture_stat
from mivrat.core.pictures.decode import UnreadablePicture, read_file

# So many pairs of copies are listed in files.
MOST_LISTED = 1000


def check_readable(inputs: Inputs) -> CheckResult:
    """Files that cannot be read or decoded whole."""
    survey = _survey(inputs)
    problems = {one.index: one.facts.problem for one in survey if one.facts.problem}
    items = inputs.image_set.items
    figures = {
        "files": len(survey),
        "unreadable": len(problems),
        "reasons": {items[i].path: reason for i, reason in problems.items()},
    }
    if not problems:
        return CheckResult("readable", "fine", f"All {plural(len(survey), 'file')} can be read whole.", figures)
    if len(problems) == len(survey):
        sentence = f"No file can be read; the first: {items[next(iter(problems))].path}: {next(iter(problems.values()))}. Has the folder moved?"
        return CheckResult("readable", "stop", sentence, figures, tuple(problems))
    kinds = Counter(problems.values()).most_common(3)
    sentence = f"{plural(len(problems), 'file')} of {len(survey)} cannot be read: {'; '.join(f'{n} × {reason}' for reason, n in kinds)}."
    return CheckResult("readable", "look", sentence, figures, tuple(problems))


def check_shapes(inputs: Inputs) -> CheckResult:
    """Pictures unlike the others in colour mode, size or proportions."""
    readable = [one for one in _survey(inputs) if not one.facts.problem]
    if not readable:
        return CheckResult("shapes", "open", "No file can be read.")
    modes = Counter(one.facts.mode for one in readable)
    sizes = Counter((one.facts.width, one.facts.height) for one in readable)
    usual = modes.most_common(1)[0][0]
    area = np.array([one.facts.width * one.facts.height for one in readable], float)
    aspect = np.array([one.facts.width / one.facts.height for one in readable])
    middle_area, middle_aspect = float(np.median(area)), float(np.median(aspect))
    groups = {
        f"not {usual} as most": [one.index for one in readable if one.facts.mode != usual],
        "of several frames, only the first is read": [one.index for one in readable if one.facts.frames > 1],
        "less than a quarter or more than four times as large as most": [
            one.index for one, a in zip(readable, area, strict=True) if not 0.25 <= a / middle_area <= 4
        ],
        "much longer or wider than most": [
            one.index for one, a in zip(readable, aspect, strict=True) if not 0.5 <= a / middle_aspect <= 2
        ],
    }
    needed = _network_side(inputs)
    if needed is not None:
        groups["smaller than what the network receives"] = [
            one.index for one in readable if one.facts.height < needed[0] or one.facts.width < needed[1]
        ]
    (width, height), times = sizes.most_common(1)[0]
    figures = {
        "modes": dict(modes),
        "sizes": len(sizes),
        "most_frequent_size": {"width": width, "height": height, "images": times},
        "unusual": {name: len(found) for name, found in groups.items() if found},
    }
    odd = {name: found for name, found in groups.items() if found}
    size = (
        f"All are {width} × {height}, {usual}"
        if len(sizes) == len(modes) == 1
        else f"Most are {usual}; {plural(len(sizes), 'size')}, the most frequent {width} × {height}"
    )
    if not odd:
        return CheckResult("shapes", "fine", f"{size}. None is conspicuous.", figures)
    listed = "; ".join(f"{plural(len(found), 'picture')} {name}" for name, found in odd.items())
    concerned = dict.fromkeys(i for found in sorted(odd.values(), key=len) for i in found)
    return CheckResult("shapes", "look", f"{size}. {listed}.", figures, tuple(concerned))


def _network_side(inputs: Inputs) -> tuple[int, int] | None:
    return inputs.model.recipe.output_size() if inputs.model is not None else None


def check_changed(inputs: Inputs) -> CheckResult:
    """Files that are no longer what they were when they were scored."""
    if not inputs.stamps:
        return CheckResult("changed", "open", "Nothing has been scored yet.")
    changed, gone, unknown = [], [], []
    for i, stamp in sorted(inputs.stamps.items()):
        path = inputs.image_set.file(i)
        if stamp.size < 0:
            unknown.append(i)
            continue
        try:
            about = picture_stat(path)
            if about != (stamp.size, stamp.changed) and (
                about[0] != stamp.size or read_file(path).stamp.content != stamp.content
            ):
                changed.append(i)
        except (OSError, UnreadablePicture):
            gone.append(i)
    figures = {"scored": len(inputs.stamps), "changed": len(changed), "gone": len(gone), "not_known": len(unknown)}
    if not changed and not gone:
        extra = f" Of {len(unknown)} scored by an earlier version it is not known." if unknown else ""
        sentence = (
            f"All {plural(len(inputs.stamps) - len(unknown), 'file')} are as they were when they were scored.{extra}"
        )
        return CheckResult("changed", "look" if unknown else "fine", sentence, figures, tuple(unknown))
    parts = [
        f"{plural(len(found), 'file')} {what}"
        for found, what in ((changed, "changed since they were scored"), (gone, "no longer there"))
        if found
    ]
    sentence = f"{' and '.join(parts)}: the answers shown are those of the earlier pictures."
    return CheckResult("changed", "stop" if changed else "look", sentence, figures, tuple(changed + gone))


def check_duplicates(inputs: Inputs) -> CheckResult:
    """Pictures that are in the set twice, exactly or nearly, or in another held-out set too; worst where their labels differ."""
    groups: dict[bytes, list[int]] = defaultdict(list)
    survey, labels, classes = _survey(inputs), inputs.labels, inputs.classes
    for one in survey:
        if one.stamp is not None and not one.facts.problem:
            groups[one.stamp.content].append(one.index)
    copies = [found for found in groups.values() if len(found) > 1]
    at_odds = [found for found in copies if len({int(labels[i]) for i in found if labels[i] >= 0}) > 1]
    extra = sum(len(found) - 1 for found in copies)
    near = inputs.near["within"].copies
    near_at_odds = [one for one in near if -1 != labels[one.first] != labels[one.second] != -1]
    items = inputs.image_set.items
    figures: dict[str, Any] = {
        "groups": len(copies),
        "surplus_images": extra,
        "groups_with_different_labels": len(at_odds),
        "near": len(near),
        "near_with_different_labels": len(near_at_odds),
        "pairs": [
            {"image": items[one.first].path, "copy": items[one.second].path, "likeness": one.likeness}
            for one in near[:MOST_LISTED]
        ],
    }
    told = []
    if copies:
        told.append(
            f"{plural(extra, 'image')} more than there are different pictures: {plural(len(copies), 'group')} of exact copies."
        )
    if at_odds:
        first = at_odds[0]
        at_odds_in = in_sentence(list(dict.fromkeys(classes[labels[i]] for i in first if labels[i] >= 0)))
        told.append(
            f"In {plural(len(at_odds), 'group')} the labels differ (the first: {at_odds_in}): at least one must be wrong."
        )
    kinds = inputs.near["within"].kinds
    if near:
        told.append(f"{plural(len(near), 'pair')} of near copies ({kinds}).")
    if near_at_odds:
        named = in_sentence([classes[labels[i]] for i in (near_at_odds[0].first, near_at_odds[0].second)])
        told.append(
            f"In {plural(len(near_at_odds), 'of these pairs', 'of these pairs')} the labels differ (the first: {named})."
        )
    if not told:
        told.append(f"No image is in the set twice, neither exactly nor as a near copy ({kinds}).")
    elsewhere = _elsewhere(inputs)
    if inputs.others is not None:
        figures["in_other_held_out_sets"] = len(elsewhere)
        where = inputs.others.name
        told.append(
            f"{plural(len(elsewhere), 'image is', 'images are')} also in {where}, exactly or nearly: the two sets are not independent."
            if elsewhere
            else f"None is in {where}."
        )
    found = [i for group in at_odds for i in group]
    found += [i for one in near_at_odds for i in (one.first, one.second)]
    found += [i for group in copies for i in group] + [i for one in near for i in (one.first, one.second)]
    state: CheckState = "stop" if at_odds or near_at_odds else "look" if found or elsewhere else "fine"
    return CheckResult("duplicates", state, " ".join(told), figures, tuple(dict.fromkeys([*found, *elsewhere])))


def _elsewhere(inputs: Inputs) -> list[int]:
    """The images that are also in another held-out set, exactly or nearly."""
    theirs = {one.stamp.content for one in inputs.others_survey or [] if one.stamp is not None}
    exact = {one.index for one in _survey(inputs) if one.stamp is not None and one.stamp.content in theirs}
    near = {one.first for one in inputs.near["others"].copies} if inputs.others_survey is not None else set()
    return sorted(exact | near)


def check_training(inputs: Inputs) -> CheckResult:
    """Images that are also in the training set, exactly or nearly: the model has seen them."""
    if inputs.training is None:
        return CheckResult(
            "training", "open", "No training images are named: add them under Prepare to look for leaks."
        )
    survey, training = _survey(inputs), inputs.training_survey or []
    seen = {one.stamp.content: one.index for one in training if one.stamp is not None}
    exact = {
        one.index: seen[one.stamp.content] for one in survey if one.stamp is not None and one.stamp.content in seen
    }
    near: dict[int, NearCopy] = {}
    for one in sorted(inputs.near["training"].copies, key=lambda one: one.likeness):
        if one.first not in exact:
            near[one.first] = one
    items, others = inputs.image_set.items, inputs.training.items
    pairs = {**exact, **{i: one.second for i, one in near.items()}}
    labels = inputs.labels
    differing = [i for i, j in pairs.items() if labels[i] >= 0 and others[j].label not in (None, int(labels[i]))]
    figures = {
        "images": len(survey),
        "training_images": len(training),
        "exact": len(exact),
        "near": len(near),
        "with_different_labels": len(differing),
        "pairs": [
            {"image": items[i].path, "training": others[j].path, "likeness": 1.0 if i in exact else near[i].likeness}
            for i, j in list(pairs.items())[:MOST_LISTED]
        ],
    }
    kinds = inputs.near["training"].kinds
    if not pairs:
        sentence = (
            f"None of {plural(len(survey), 'image')} is among the {plural(len(training), 'training image')}, "
            f"neither exactly nor as a near copy ({kinds})."
        )
        return CheckResult("training", "fine", sentence, figures)
    parts = [f"{plural(len(found), 'image')} {how}" for found, how in ((exact, "exactly"), (near, "nearly")) if found]
    sentence = f"{' and '.join(parts)} the same as a training image: the model has seen {'it' if len(exact) + len(near) == 1 else 'them'}."
    if near:
        sentence += f" Nearly: {kinds}."
    if differing:
        sentence += f" {plural(len(differing), 'label')} differ from the one at training."
    state: CheckState = "stop" if len(pairs) >= 0.05 * len(survey) else "look"
    return CheckResult("training", state, sentence, figures, (*exact, *near))


def _survey(inputs: Inputs) -> list[Surveyed]:
    assert inputs.survey is not None, "the files are surveyed before these checks"
    return inputs.survey
