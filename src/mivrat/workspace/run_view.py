"""What of a study is being looked at: one run as judged, its figures and checks, the selection, and the image looked at."""

from __future__ import annotations

import gc
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import wraps
from typing import Concatenate, ParamSpec

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import Other
from mivrat.core.comparing.holding import Compared, RunPair
from mivrat.core.figures.intervals import Proportion
from mivrat.core.likeness.search import likeness_to_class
from mivrat.core.pictures.distorting.kinds import Distortion
from mivrat.core.running.set_valued import SetPlan
from mivrat.core.running.snapshot import Measured, Snapshot
from mivrat.core.selecting.kept import KeptSelection
from mivrat.core.selecting.measures import Measures
from mivrat.core.selecting.ordering import (
    AS_LISTED,
    BY_CAUSE,
    BY_PROPERTY,
    BY_ROLE,
    UNLIKE,
    Arrangement,
    Band,
    Order,
    ToArrange,
)
from mivrat.core.selecting.ranges import InRange
from mivrat.core.selecting.selection import (
    OF_BOTH,
    About,
    Condition,
    Conditions,
    InGroup,
    OtherAnswers,
    Picked,
    Selection,
)
from mivrat.core.study.decisions import Agreed
from mivrat.core.study.records import RunRecord
from mivrat.core.study.reviews import Review, Reviews
from mivrat.workspace.image_focus import ImageFocus
from mivrat.workspace.image_order import ImageOrder
from mivrat.workspace.shown_results import ShownResults
from mivrat.workspace.topics import Topics

_Given = ParamSpec("_Given")


def _one_change(method: Callable[Concatenate[RunView, _Given], None]) -> Callable[Concatenate[RunView, _Given], None]:
    """For what changes several things that depend on each other: listeners are told only once all of them fit together."""

    @wraps(method)
    def change(self: RunView, /, *args: _Given.args, **kwargs: _Given.kwargs) -> None:
        with self.topics.change():
            method(self, *args, **kwargs)

    return change


@dataclass(frozen=True)
class StrainedAnswers:
    """A level of a strain test whose images are selected by ``picked``: what is predicted there, and how surely, by position."""

    strain: Distortion
    picked: Picked
    predicted: Mapping[int, int]
    confidence: Mapping[int, float]


class RunView:
    """The run shown, its ``results``, the ``selection``, the images shown and their ``order``, and the image in ``focus``; topics
    tell which of them changed. There is one as long as a study is open, and none otherwise.

    ``blind``: answers and others' decisions are hidden from who reviews. ``reviews`` and ``measures`` are one object each for as long as the study is open: conditions look into them. ``images`` are those shown, in their order.
    ``take_arrangement`` ends what ``topics.arrangement_wanted`` asks for.
    """

    def __init__(self, topics: Topics, snapshot: Snapshot) -> None:
        self.topics, self.snapshot = topics, snapshot
        self.results = ShownResults(topics, snapshot)
        self.selection = Selection()
        self.reviews = Reviews()
        self.measures = Measures()
        self.held: RunPair | None = None
        self.compared: Compared | None = None
        self.held_other = OtherAnswers()
        self.kept: tuple[KeptSelection, ...] = ()
        self.order = ImageOrder(topics)
        self.bands: list[Band] = []
        self.images: NDArray[np.int64] = np.zeros(0, np.int64)
        self.focus = ImageFocus(topics, lambda: self.images)
        # What prediction sets are asked for.
        self.set_plan = SetPlan()
        self._strained: StrainedAnswers | None = None

    @property
    def record(self) -> RunRecord:
        return self.snapshot.record

    @property
    def judged(self) -> EvaluatedRun:
        return self.snapshot.judged

    @property
    def classes(self) -> list[str]:
        return self.record.classes

    @_one_change
    def show(self, snapshot: Snapshot, *, first: bool = False) -> None:
        """Show another run, or the same one further on; the selection stays as far as it makes sense. ``first``: nothing of
        this study has been shown yet."""
        before, now = None if first else self.record, snapshot.record
        another = before is None or before.key != now.key
        self.snapshot = snapshot
        if another and before is not None:
            self.held = self.compared = None
            self._forget_other()
        if before is not None and before.classes != now.classes:
            self.selection.begin_with(())  # conditions name classes by their place in the list
        if before is None or before.set_key != now.set_key:
            # A list of many images stays as it is: looking through it for garbage would hold the window up.
            gc.freeze()
            self.selection.forget(Picked)
            self.selection.forget(InGroup)
            self.measures.take((), None)
        if another:
            self.focus.clear()
            self._strained = None
            self.order.forget()
            self.results.begin_anew()
        self.topics.figures.emit()
        if not self.results.measured.of_selection or another:
            self.results.set_measured(Measured(snapshot.figures, snapshot.mistakes))
        self._reselect()
        if another:
            self.topics.held.emit()
            self.topics.compared.emit()

    @_one_change
    def set_held(self, held: RunPair | None) -> None:
        """Hold another run against this one, or none any more: what speaks of both goes with it."""
        self.held, self.held_other.other = held, held.other if held is not None else None
        if self.held_other.other is None:
            self._forget_other()
        self.order.forget()
        if held is None or (self.compared is not None and self.compared.held.b.record.key != held.b.record.key):
            self.compared = None
        self.topics.held.emit()
        self.topics.compared.emit()
        self._reselect()

    def _forget_other(self) -> None:
        """No other run's answers are laid on the images shown: conditions, order and bands that speak of them go."""
        self.held_other.other = None
        for kind in OF_BOTH:
            self.selection.forget(kind)
        self.order.forget_other()

    def set_compared(self, compared: Compared) -> None:
        """Take over what both runs come to together."""
        self.compared = compared
        self.topics.compared.emit()

    @property
    def other(self) -> Other | None:
        """The answers of the run held against this one, where it is held on the same images."""
        return self.held_other.other

    @_one_change
    def _reselect(self) -> None:
        judged = self.judged
        mask = self.selection.mask(judged)
        picked = next((one for one in self.conditions if isinstance(one, Picked)), None)
        self.order.follow_listing(picked is not None)
        if not any(isinstance(one, About) for one in self.conditions):
            self.order.leave_roles()
        arrangement = self.order.arrangement(self.to_arrange())
        if picked is not None and self.order.wanted[0] == AS_LISTED:
            listing = np.array([i for i in picked.positions if i < len(mask) and mask[i]], np.int64)
            self.images, self.bands = arrangement.banded(listing, judged)
        else:
            self.images, self.bands = arrangement.shown(mask, judged)
        self.focus.keep(mask)
        self.topics.selection.emit()
        self.topics.current.emit()

    def to_arrange(self) -> ToArrange:
        """The images of the run shown, as they can be put in order."""
        record, judged, vectors = self.record, self.judged, self.results.vectors
        likeness = (lambda: likeness_to_class(vectors, judged.labels)) if vectors is not None else None
        return ToArrange(
            judged,
            record.image_set.items,
            record.classes,
            record.families,
            self.reviews,
            likeness,
            self.other,
            self.measures,
        )

    def take_arrangement(self, judged: EvaluatedRun, arrangement: Arrangement) -> None:
        """Take over what ``arrangement_wanted`` has asked for."""
        if self.judged is judged and self.order.take(judged, arrangement):
            self._reselect()

    def set_order(self, order: Order) -> None:
        if order != self.order.by:
            self.order.by = order
            self._reselect()

    def set_bands(self, by: str, about: int | None = None) -> None:
        """Put the images shown into bands; ``about`` is the class that bands of called and labelled are about."""
        if (by, about) != (self.order.band_by, self.order.about):
            self.order.set_bands(by, about)
            self._reselect()

    @_one_change
    def show_called_and_labelled(self, k: int) -> None:
        """Everything called a class beside everything labelled so."""
        image = self.focus.current
        self.order.set_bands(BY_ROLE, k)
        self.replace(About(frozenset({k})))
        if image is not None and image in self.images:
            self.focus.look_at(image)

    def go_to(self, conditions: Conditions, order: Order, by: str, about: int | None) -> None:
        """Put a selection in force, as it stood before, without a history."""
        self.selection.begin_with(conditions)
        self.order.set(order, by, about)
        self._reselect()

    def rearrange(self) -> None:
        """Arrange the images anew, by what is known by now."""
        self.order.forget()
        self._reselect()

    # --- reviews ---

    def set_reviews(self, reviews: Reviews) -> None:
        """Take over what the study keeps of the image set shown."""
        self.reviews.take_over(reviews)
        self.topics.reviews.emit()

    @_one_change
    def set_measures(self, measures: Measures) -> None:
        """Take over what is known of the images shown as numbers: what goes by them is worked out anew, where it is anything new."""
        if self.measures.same_as(measures):
            return
        self.measures.take_over(measures)
        self.topics.measures.emit()
        by_them = any(one.startswith(BY_PROPERTY) for one in (self.order.by, self.order.band_by))
        if by_them or any(isinstance(one, InRange) for one in self.conditions):
            self.rearrange()

    def put_reviews(self, changes: Mapping[int, Review]) -> None:
        """Take over edits of single images, telling nobody; what is shown stays until the selection changes."""
        self.reviews.put(changes)
        if self.order.band_by == BY_CAUSE:
            self.order.forget()

    def put_agreed(self, changes: Mapping[int, Agreed | None]) -> None:
        """Take over what readers have agreed on, telling nobody."""
        for image, one in changes.items():
            if one is None:
                self.reviews.agreed.pop(image, None)
            else:
                self.reviews.agreed[image] = one

    @property
    def blind(self) -> bool:
        """Whether answers and others' decisions are hidden."""
        return self.order.blind

    @_one_change
    def set_blind(self, blind: bool) -> None:
        """Hide what models answer and what other readers have decided, or show it again."""
        if blind != self.blind:
            self.order.blind = blind
            self.topics.blind.emit()
            self.rearrange()

    def set_kept(self, kept: Sequence[KeptSelection]) -> None:
        self.kept = tuple(kept)
        self.topics.kept.emit()

    @_one_change
    def set_vectors(self, vectors: NDArray[np.float32]) -> None:
        """Take over the images' features, N × D; an order that needs them is worked out anew."""
        self.results.set_vectors(vectors)
        if self.order.by == UNLIKE:
            self.rearrange()

    @property
    def strained(self) -> StrainedAnswers | None:
        """The level of a strain test that images are shown at, as long as those that it changes are selected; none while another run is
        held, whose answers are to the images as they are."""
        one = self._strained
        return one if one is not None and self.held is None and one.picked in self.conditions else None

    def show_strained(self, answers: StrainedAnswers | None) -> None:
        """Show images as strained from now on, while those that ``answers`` are of are selected."""
        self._strained = answers

    @property
    def in_words(self) -> str:
        """What the images shown are."""
        return "; ".join(" ".join(one.words(self.classes)).strip() for one in self.conditions) or "all images"

    def choose(self, *conditions: Condition, beside: bool = False) -> None:
        """Show the images that a figure is of: those that meet these conditions, among the images shown where figures are of these
        alone. ``beside`` narrows what is shown."""
        if self.results.measured.of_selection and not beside:
            self.selection.narrow(conditions, self.judged)
        else:
            self.selection.choose(*conditions, beside=beside)
        self._reselect()

    def are_chosen(self, conditions: Sequence[Condition]) -> bool:
        """Whether the images of a figure are those shown, by its conditions."""
        if self.results.measured.of_selection:
            return bool(conditions) and all(one in self.conditions for one in conditions)
        return bool(conditions) and self.selection.is_just(conditions)

    @_one_change
    def enter(self, *conditions: Condition, beside: bool = False) -> None:
        """Choose as Enter on a figure does: where it is chosen already, its images are looked at, the first one first."""
        if not beside and self.are_chosen(conditions):
            if len(self.images):
                if self.focus.position < 0:
                    self.focus.look_at(int(self.images[0]))
                self.topics.look_wanted.emit()
        else:
            self.choose(*conditions, beside=beside)

    def replace(self, *conditions: Condition) -> None:
        self.selection.replace(*conditions)
        self._reselect()

    def remove(self, condition: Condition) -> None:
        self.selection.remove(condition)
        self._reselect()

    def remove_last(self) -> None:
        self.selection.remove_last()
        self._reselect()

    def clear(self) -> None:
        self.selection.clear()
        self._reselect()

    def back(self) -> None:
        self.selection.back()
        self._reselect()

    def forward(self) -> None:
        self.selection.forward()
        self._reselect()

    @property
    def conditions(self) -> Conditions:
        return self.selection.conditions

    def shown_mask(self) -> NDArray[np.bool_]:
        """Which of all listed images are shown."""
        found = np.zeros(self.snapshot.counts.listed, bool)
        found[self.images] = True
        return found

    def accuracy(self) -> Proportion:
        """Accuracy over the labelled, scored images of the selection."""
        return self.judged.accuracy(self.images)

    def other_accuracy(self) -> Proportion | None:
        """Accuracy of the run held over the images of the selection that both have answered; None while none is held on them."""
        if self.other is None:
            return None
        mask = self.shown_mask() & self.other.both
        return self.judged.share(self.other.predicted == self.judged.labels, mask)

    def name_of(self, image: int) -> str:
        """An image's file name."""
        return self.snapshot.record.image_set.items[image].path.rpartition("/")[2]

    def step_mistake(self, direction: int) -> bool:
        """Go to the next (1) or previous (-1) wrong image among the shown ones; False where there is none."""
        return self.focus.step_among(self.judged.wrong, direction)
