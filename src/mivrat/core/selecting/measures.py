"""What is known of each image as a number: the properties of its photo, and the columns of its table that hold numbers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from mivrat.core.base.numbers import decimal
from mivrat.core.pictures.image_sets import ImageItem, column_of
from mivrat.core.pictures.properties import BY_NAME, NAMES
from mivrat.core.study.file import Study
from mivrat.core.study.kept_properties import load_properties, properties_of_contents
from mivrat.core.study.records import RunRecord

Numbers = NDArray[np.float64]
# By so many of the first images it is judged whether a column holds numbers.
_SEEN = 5_000
# A column that is called as a property is stands behind this.
COLUMN = "column "


class Measures:
    """Numbers of each listed image, by name; one object for as long as a study is open: conditions look into it.

    ``properties`` is N × the number of properties, NaN where nobody has measured them; ``version`` rises with each change.
    """

    def __init__(self, items: Sequence[ImageItem] = (), properties: NDArray[np.float32] | None = None) -> None:
        self._columns: dict[str, str] = {}
        self._known: dict[str, Numbers] = {}
        self.version = 0
        self.take(items, properties)

    def take(self, items: Sequence[ImageItem], properties: NDArray[np.float32] | None) -> None:
        """Take over what is known of a set's images."""
        self._items, self._properties = items, properties
        self.version += 1
        self._known = {}
        self._columns = {}
        for name in items[0].columns if len(items) else ():
            if _are_numbers(column_of(items, name, _SEEN)):
                self._columns[COLUMN + name if name in BY_NAME else name] = name

    def take_over(self, other: Measures) -> None:
        """Be what another one is."""
        self._items, self._properties = other._items, other._properties
        self._columns, self._known = other._columns, other._known
        self.version += 1

    def as_they_are(self) -> Measures:
        """A copy that later changes do not reach."""
        made = Measures()
        made.take_over(self)
        return made

    def same_as(self, other: Measures) -> bool:
        """Whether another one says the same of the same images."""
        mine, theirs = self._properties, other._properties
        if self._items is not other._items or self._columns != other._columns:
            return False
        return mine is theirs or (
            mine is not None and theirs is not None and np.array_equal(mine, theirs, equal_nan=True)
        )

    @property
    def known(self) -> bool:
        """Whether a set's images have been looked up; before, any name may yet be one."""
        return self._properties is not None

    @property
    def names(self) -> list[str]:
        """The properties, as far as any image has one, and the columns of numbers."""
        return [*(name for name in NAMES if self.has(name)), *self._columns]

    @property
    def properties(self) -> list[str]:
        """The properties that differ between photos."""
        return [name for name in NAMES if self.has(name) and np.nanmin(self.of(name)) < np.nanmax(self.of(name))]

    @property
    def columns(self) -> list[str]:
        """The columns of numbers alone."""
        return list(self._columns)

    def has(self, name: str) -> bool:
        """Whether any image has a number of this name."""
        if name in self._columns:
            return True
        return name in BY_NAME and self._properties is not None and bool(np.isfinite(self.of(name)).any())

    def of(self, name: str) -> Numbers:
        """The number of each image, NaN where it has none. KeyError where there is none of this name."""
        if name not in self._known:
            if name in self._columns:
                self._known[name] = as_numbers(column_of(self._items, self._columns[name]))
            elif name in BY_NAME:
                at = NAMES.index(name)
                none = np.full(len(self._items), np.nan)
                self._known[name] = none if self._properties is None else self._properties[:, at].astype(np.float64)
            else:
                raise KeyError(name)
        return self._known[name]

    @property
    def measured(self) -> NDArray[np.bool_]:
        """Of which images the photo has been measured: all that could be read have a width."""
        return np.isfinite(self.of(NAMES[0]))


def _are_numbers(texts: Sequence[str]) -> bool:
    """Whether texts are numbers, all that are given, and not all the same."""
    given = [text for text in texts if text.strip()]
    try:
        values = {float(text) for text in given}
    except ValueError:
        return False
    return len(values) > 1


def as_numbers(texts: Sequence[str]) -> Numbers:
    """Texts as numbers; NaN for what is none, or not finite."""

    def number(text: str) -> float:
        try:
            return float(text)
        except ValueError:
            return np.nan

    found = np.array([number(text) for text in texts], np.float64)
    found[~np.isfinite(found)] = np.nan
    return found


def number_text(name: str, value: float) -> str:
    """One image's number as it is shown, with its unit."""
    known = BY_NAME.get(name)
    if not np.isfinite(value):
        return "none"
    if known is None:
        return f"{value:g}"
    return f"{decimal(value, known.decimals)} {known.unit}".strip()


def property_lines(measures: Measures, image: int) -> list[str]:
    """What was measured in an image's photo, a line each; none where nobody has measured it."""
    if not measures.known or not measures.measured[image]:
        return []
    told = [(name, float(measures.of(name)[image])) for name in NAMES]
    return [f"{name}: {number_text(name, value)}" for name, value in told if np.isfinite(value)]


def measures_of(study: Study, record: RunRecord) -> Measures:
    """What is known of a run's images. InputError where the study is damaged."""
    items, answers = record.image_set.items, record.answers
    if record.info.id:
        found = load_properties(study, record.info.set_id, len(items))
    else:  # the study does not keep this run
        found = properties_of_contents(study, answers.contents, len(items))
    for i, content in answers.contents.items() if answers.properties else ():
        if content in answers.properties:
            found[i] = answers.properties[content]
    return Measures(items, found)
