"""How figures are put into words and digits on screen."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt

from mivrat.core.base.job import Written
from mivrat.core.base.text import best_cut, printable
from mivrat.core.base.text import clipped as clip
from mivrat.core.base.text import count as count
from mivrat.core.base.text import images as images
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.uncertainty import FEW_UNITS
from mivrat.core.figures.units import Units
from mivrat.core.heatmaps.methods import RECORDS, Method
from mivrat.core.models.kinds import model_endings
from mivrat.core.pictures.containers import ARCHIVE_ENDINGS
from mivrat.core.pictures.image_sets import PICTURE_ENDINGS, TABLE_ENDINGS
from mivrat.ui.parts.file_dialogs import file_kinds

# How many groups to make; at place 0 as many as fit, at place i one more than i.
GROUP_NUMBERS = ("number of groups: automatic", *(f"{n} groups" for n in range(2, 9)))


def clipped(text: str, most: int) -> str:
    """A name as it is shown where there is room for so many letters."""
    return clip(printable(text), most)


def how(share: Proportion) -> str:
    """How an interval was worked out, for a hover."""
    if share.units is None:
        return "Interval: Wilson score, 95 %, images taken as independent."
    if share.low is None:
        return f"No interval: {share.units} units of related images are too few."
    few = " So few units say little." if share.units < FEW_UNITS else ""
    return f"Interval: 95 %, over {count(share.units)} units of related images (Wilson, Student's t).{few}"


def units(number: int) -> str:
    """So many units of images that belong together: ``one unit``, ``12 units``."""
    return "one unit" if number == 1 else f"{count(number)} units"


def paired_test(over_units: Units | None) -> str:
    """What a direction or a claim is tested by: single images, or whole units of them."""
    return "exact test" if over_units is None else "test over whole units"


# What a file that lists or is images may be, for a dialog that asks for one.
MODEL_FILES = f"Models, tables and services ({' '.join(f'*{ending}' for ending in model_endings())})"
IMAGE_FILES = file_kinds(
    *(
        f"{kind} ({' '.join(f'*{ending}' for ending in sorted(endings))})"
        for kind, endings in (("Tables", TABLE_ENDINGS), ("Archives", ARCHIVE_ENDINGS), ("Pictures", PICTURE_ENDINGS))
    )
)


_MODES = {
    "middle": Qt.TextElideMode.ElideMiddle,
    "end": Qt.TextElideMode.ElideRight,
    "start": Qt.TextElideMode.ElideLeft,
}


def elided_by(names: Sequence[str]) -> Qt.TextElideMode:
    """How the names of one list are cut where there is no room, so that they stay apart."""
    return _MODES[best_cut(names)]


def written(what: Written, finished: bool) -> str:
    """What a job has written, how many and where."""
    missing = f"; {images(what.missing)} without a file" if what.missing else ""
    one = what.files == 1 and what.place.suffix
    files = what.place.name if one else "1 file" if what.files == 1 else f"{count(what.files)} files"
    return f"{'Written' if finished else 'Stopped. Written'}: {files}, in {what.place.parent if what.place.suffix else what.place}{missing}."


# The ways of making a heatmap, as they are called on screen.
METHODS: dict[Method, str] = {one.key: one.name for one in RECORDS}
METHOD_TIPS: dict[Method, str] = {one.key: one.about for one in RECORDS}
