"""The findings of a report in words: what each claims, where it was found, its figures there and here, and its pictures."""

from __future__ import annotations

import re
from dataclasses import dataclass

from mivrat.core.base.text import printable
from mivrat.core.checks.result import in_words
from mivrat.core.concluding.checking import told_confirmed
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Finding, Measure
from mivrat.core.concluding.findings import FindingPicture as ChosenPicture
from mivrat.core.concluding.formatting import measure_told
from mivrat.core.pictures.image_names import ImageName

_CLAIMS = {
    "criterion": "a criterion",
    "share": "a share in a selection given by rule",
    "cover": "a cover test",
    "difference": "a difference to another run",
    "labels": "labels found wrong by hand",
    "strain": "a strain test",
    "estimate": "an estimate from labels drawn by chance",
}
_FIRST_SENTENCE = re.compile(r".+?[.!?](?=\s|$)")


@dataclass(frozen=True)
class PictureLine:
    """A picture of a finding: which image it is, whether its heatmap goes with it, its caption, and what it shows for those who do not
    see it. ``source`` names the image set that it is from where that is not the one reported on."""

    image: ImageName
    heat: bool
    caption: str
    alt: str
    source: str = ""

    @property
    def key(self) -> str:
        """What its files are known by."""
        return f"{self.image.content}|{self.image.path}|{self.heat}"


@dataclass(frozen=True)
class FindingLine:
    """A finding: its number, title, sentence, weight and state; its claim in words, where it was found, and the figures there and
    here as rows of three."""

    number: int
    title: str
    sentence: str
    weight: str
    state: str
    why: str
    claim: str
    found_on: str
    figures: tuple[tuple[str, str, str], ...]
    pictures: tuple[PictureLine, ...] = ()
    lost: int = 0

    @property
    def short(self) -> str:
        """The figure here, and what it is of."""
        return f"{self.figures[0][0]}: {self.figures[0][2]}" if self.figures else ""

    @property
    def stops(self) -> bool:
        """Whether it stands in the way of acceptance."""
        return self.weight == "blocks" and self.state != "gone"

    @property
    def in_one_sentence(self) -> str:
        """The first sentence of what is said of it; without any what its figure comes to."""
        text = " ".join(self.sentence.split())
        found = _FIRST_SENTENCE.match(text)
        return (found[0] if found else text) or f"{self.short}."


def finding_line(position: int, finding: Finding, checked: Checked | None, ground: EvaluationContext) -> FindingLine:
    """A finding as the report of a run tells it."""
    made, before = finding.made, finding.before
    same = (made.model, made.images) == (ground.model, ground.images)
    after = checked.after if checked is not None else before if same else Measure("", None, problem="not checked here")
    state = checked.state if checked is not None else "holds" if same else "inconclusive"
    rows = [(after.words or before.words, measure_told(before), measure_told(after))]
    if before.beside is not None or after.beside is not None:
        name = (before.beside or after.beside).name  # type: ignore[union-attr]
        rows.append((name, measure_told(before, beside=True), measure_told(after, beside=True)))
    if before.p is not None or after.p is not None:
        p = [f"p {in_words(one.p)}" if one.p is not None else "–" for one in (before, after)]
        rows.append(("exact paired test", p[0], p[1]))
    pictures = [line for one in finding.pictures if (line := _picture(one, ground)) is not None]
    return FindingLine(
        position,
        finding.title,
        finding.sentence,
        finding.weight,
        state,
        checked.why if checked is not None else "",
        "; ".join(part for part in (_CLAIMS[finding.claim.kind], told_confirmed(finding)) if part),
        f"{made.model_name} on {made.images_name}, {made.day}" + ("" if same else " (another run)"),
        tuple(rows),
        tuple(pictures),
        len(finding.pictures) - len(pictures),
    )


def _picture(one: ChosenPicture, ground: EvaluationContext) -> PictureLine | None:
    """A chosen picture, wherever in the study its image is; None where it is nowhere."""
    name, classes = one.image.path.rpartition("/")[2], ground.classes
    at = ground.names.position(one.image)
    if at is None:
        elsewhere = ground.elsewhere(one.image)
        if elsewhere is None:
            return None
        label = f"labelled {elsewhere.label}" if elsewhere.label else "without a label"
        told = f"{label}, in the image set {elsewhere.image_set}, which this report is not of"
        return PictureLine(
            one.image, one.heat, one.caption or told, printable(f"Image {name}: {told}"), elsewhere.image_set
        )
    judged = ground.snapshot.judged
    label_at, predicted = int(judged.labels[at]), int(judged.predicted[at])
    told = f"labelled {classes[label_at]}" if label_at >= 0 else "without a label"
    if predicted >= 0:
        confidence = float(judged.confidence[at])
        told += f", predicted {classes[predicted]}" + ("" if confidence != confidence else f" {confidence:.2f}")
    return PictureLine(one.image, one.heat, one.caption or told, printable(f"Image {name}: {told}"))
