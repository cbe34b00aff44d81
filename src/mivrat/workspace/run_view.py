"""What of a study is being looked at: one run as judged, its figures and checks, the selection, and the image looked at."""

from __future__ import annotations

import gc
from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import Concatenate, ParamSpec

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.other import Other
from mivrat.core.checks.run_checks import KeptResult
from mivrat.core.comparing.holding import Compared, RunPair
from mivrat.core.concluding.criteria import Criterion
from mivrat.core.figures.intervals import Proportion
from mivrat.core.likeness.search import likeness_to_class
from mivrat.core.running.snapshot import Measured, Snapshot
from mivrat.core.running.two_classes import TwoClasses
from mivrat.core.selecting.kept import KeptSelection
from mivrat.core.selecting.ordering import (
    AS_LISTED,
    BY_BOTH,
    BY_CAUSE,
    BY_ROLE,
    NO_BANDS,
    ORDERS_OF_BOTH,
    SUREST_MISTAKE,
    UNLIKE,
    Arrangement,
    Band,
    Order,
    ToArrange,
)
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
from mivrat.core.study.records import RunRecord
from mivrat.core.study.reviews import Review, Reviews
from mivrat.workspace.topics import Topics

_Given = ParamSpec("_Given")


def _one_change(method: Callable[Concatenate[RunView, _Given], None]) -> Callable[Concatenate[RunView, _Given], None]:
    """For what changes several things that depend on each other: listeners are told only once all of them fit together."""

    @wraps(method)
    def change(self: RunView, /, *args: _Given.args, **kwargs: _Given.kwargs) -> None:
        with self.topics.change():
            method(self, *args, **kwargs)

    return change


class RunView:
    """The run shown, the selection, the image looked at and those marked with it; topics tell which of them changed. There is
    one as long as a study is open, and none otherwise.

    ``checks`` is what the checks of the run found, once a worker has read it. ``reviews`` is one object for as long as the study
    is open: conditions look into it. ``vectors`` are the images' features, once they are known. ``images`` are those shown, in
    their order. ``arrangement_wanted`` asks for images to be put in order that would take too long here; ``take_arrangement``
    ends it.
    """

    def __init__(self, topics: Topics, snapshot: Snapshot) -> None:
        self.topics, self.snapshot = topics, snapshot
        self.measured = Measured(snapshot.figures, snapshot.mistakes)
        self.checks: dict[str, KeptResult] = {}
        self.selection = Selection()
        self.reviews = Reviews()
        self.held: RunPair | None = None
        self.compared: Compared | None = None
        self.held_other = OtherAnswers()
        self.kept: tuple[KeptSelection, ...] = ()
        self.vectors: NDArray[np.float32] | None = None
        self.two_classes: tuple[TwoClasses, ...] | None = None
        self.tests_kept: int | None = None
        self.criteria: tuple[Criterion, ...] = ()
        # How many findings the study has, and how many of them block this run.
        self.findings: tuple[int, int] = (0, 0)
        self.order: Order = SUREST_MISTAKE
        self.band_by = self._bands_before = NO_BANDS
        self.about: int | None = None
        self.bands: list[Band] = []
        self.images: NDArray[np.int64] = np.zeros(0, np.int64)
        self.current: int | None = None
        self.marked: frozenset[int] = frozenset()
        self._anchor: int | None = None
        self._before_listing: tuple[Order, str] | None = None
        self._arranged: tuple[EvaluatedRun, Arrangement] | None = None

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
        if another:
            self.current, self.marked, self.vectors, self._anchor = None, frozenset(), None, None
            self._arranged = None
            self.two_classes, self.checks, self.criteria, self.tests_kept = None, {}, (), None
            for topic in (self.topics.run, self.topics.checks, self.topics.criteria, self.topics.tests_kept):
                topic.emit()
        self.topics.figures.emit()
        if not self.measured.of_selection or another:
            self.set_measured(Measured(snapshot.figures, snapshot.mistakes))
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
        self._arranged = None
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

        def without(order: Order, by: str) -> tuple[Order, str]:
            return SUREST_MISTAKE if order in ORDERS_OF_BOTH else order, NO_BANDS if by == BY_BOTH else by

        self.order, self.band_by = without(self.order, self.band_by)
        if self._before_listing is not None:
            self._before_listing = without(*self._before_listing)
        self._bands_before = NO_BANDS if self._bands_before == BY_BOTH else self._bands_before

    def set_compared(self, compared: Compared) -> None:
        """Take over what both runs come to together."""
        self.compared = compared
        self.topics.compared.emit()

    @property
    def other(self) -> Other | None:
        """The answers of the run held against this one, where it is held on the same images."""
        return self.held_other.other

    def set_measured(self, measured: Measured) -> None:
        """Show these figures in the Measure step."""
        self.measured = measured
        self.topics.measured.emit()

    @_one_change
    def _reselect(self) -> None:
        judged = self.judged
        mask = self.selection.mask(judged)
        picked = next((one for one in self.conditions if isinstance(one, Picked)), None)
        self._follow_listing(picked is not None)
        if self.band_by == BY_ROLE and not any(isinstance(one, About) for one in self.conditions):
            self.band_by, self.about = self._bands_before, None
        arrangement = self._arrangement()
        if picked is not None and self.order == AS_LISTED:
            listing = np.array([i for i in picked.positions if i < len(mask) and mask[i]], np.int64)
            self.images, self.bands = arrangement.banded(listing, judged)
        else:
            self.images, self.bands = arrangement.shown(mask, judged)
        if self.current is not None and not mask[self.current]:
            self.current = None
        self.marked = frozenset(i for i in self.marked if mask[i])
        self.topics.selection.emit()
        self.topics.current.emit()

    def to_arrange(self) -> ToArrange:
        """The images of the run shown, as they can be put in order."""
        record, judged, vectors = self.record, self.judged, self.vectors
        likeness = (lambda: likeness_to_class(vectors, judged.labels)) if vectors is not None else None
        return ToArrange(
            judged, record.image_set.items, record.classes, record.families, self.reviews, likeness, self.other
        )

    def _arrangement(self) -> Arrangement:
        """How images stand: all are put in order once, and any selection of them is then in order.

        Until a slow order has been worked out, images stand as they did, or the most confident mistake first.
        """
        images, wanted = self.to_arrange(), (self.order, self.band_by, self.about)
        if self._arranged is not None and self._arranged[0] is not images.judged:
            self._arranged = None
        known = self._arranged[1] if self._arranged is not None else None
        if known is not None and (known.order, known.by, known.about) == wanted:
            return known
        if images.is_quick(self.order, self.band_by):
            known = images.arranged(*wanted)
        else:
            known = known or images.arranged(SUREST_MISTAKE)
            self.topics.arrangement_wanted.emit()
        self._arranged = images.judged, known
        return known

    def take_arrangement(self, judged: EvaluatedRun, arrangement: Arrangement) -> None:
        """Take over what ``arrangement_wanted`` has asked for."""
        wanted = (self.order, self.band_by, self.about)
        if self.judged is judged and (arrangement.order, arrangement.by, arrangement.about) == wanted:
            self._arranged = judged, arrangement
            self._reselect()

    def _follow_listing(self, listed: bool) -> None:
        """Images that something has listed are shown as it listed them, without bands; afterwards both are as before."""
        if listed and self._before_listing is None:
            self._before_listing = self.order, self.band_by
            self.order, self.band_by, self.about = AS_LISTED, NO_BANDS, None
        elif not listed and self._before_listing is not None:
            order, by = self._before_listing
            self._before_listing = None
            self.order = order if self.order == AS_LISTED else self.order
            self.band_by = by if self.band_by == NO_BANDS and by != BY_ROLE else self.band_by

    def set_order(self, order: Order) -> None:
        if order != self.order:
            self.order = order
            self._reselect()

    def set_bands(self, by: str, about: int | None = None) -> None:
        """Put the images shown into bands; ``about`` is the class that bands of called and labelled are about."""
        if (by, about) != (self.band_by, self.about):
            if by != BY_ROLE:
                self._bands_before = by
            self.band_by, self.about = by, about
            self._reselect()

    @_one_change
    def show_called_and_labelled(self, k: int) -> None:
        """Everything called a class beside everything labelled so."""
        image, self.band_by, self.about = self.current, BY_ROLE, k
        self.replace(About(frozenset({k})))
        if image is not None and image in self.images:
            self.look_at(image)

    def go_to(self, conditions: Conditions, order: Order, by: str, about: int | None) -> None:
        """Put a selection in force, as it stood before, without a history."""
        self.selection.begin_with(conditions)
        self.order, self.band_by, self.about = order, by, about
        self._reselect()

    def rearrange(self) -> None:
        """Arrange the images anew, by what is known by now."""
        self._arranged = None
        self._reselect()

    # --- reviews ---

    def set_reviews(self, reviews: Reviews) -> None:
        """Take over what the study keeps of the image set shown."""
        self.reviews.causes, self.reviews.by_position = reviews.causes, reviews.by_position
        self.topics.reviews.emit()

    def put_reviews(self, changes: Mapping[int, Review]) -> None:
        """Take over edits of single images, telling nobody; what is shown stays until the selection changes."""
        self.reviews.put(changes)
        if self.band_by == BY_CAUSE:
            self._arranged = None

    def set_kept(self, kept: Sequence[KeptSelection]) -> None:
        self.kept = tuple(kept)
        self.topics.kept.emit()

    def set_two_classes(self, found: tuple[TwoClasses, ...] | None) -> None:
        """Take over which images have more than one plausible class; None: nobody has looked."""
        self.two_classes = found
        self.topics.two_classes.emit()

    @_one_change
    def set_vectors(self, vectors: NDArray[np.float32]) -> None:
        """Take over the images' features."""
        self.vectors = vectors
        self.topics.features.emit()
        if self.order == UNLIKE:
            self.rearrange()

    def take_check(self, found: KeptResult) -> None:
        """Take over what one check has found."""
        self.checks = {**self.checks, found.result.name: found}
        self.topics.checks.emit()

    def set_tests_kept(self, number: int | None) -> None:
        """Take over how many cover tests are kept of the run shown; None: not known."""
        if number != self.tests_kept:
            self.tests_kept = number
            self.topics.tests_kept.emit()

    def set_criteria(self, criteria: tuple[Criterion, ...]) -> None:
        """Take over how the criteria of the model shown stand."""
        self.criteria = criteria
        self.topics.criteria.emit()

    def set_findings(self, number: int, blocking: int) -> None:
        """Take over how many findings there are, and how many of them block the run shown."""
        if (number, blocking) != self.findings:
            self.findings = number, blocking
            self.topics.findings.emit()

    def choose(self, *conditions: Condition, beside: bool = False) -> None:
        """Show the images that a figure is of: those that meet these conditions, among the images shown where figures are of these
        alone. ``beside`` narrows what is shown."""
        if self.measured.of_selection and not beside:
            self.selection.narrow(conditions, self.judged)
        else:
            self.selection.choose(*conditions, beside=beside)
        self._reselect()

    def are_chosen(self, conditions: Sequence[Condition]) -> bool:
        """Whether the images of a figure are those shown, by its conditions."""
        if self.measured.of_selection:
            return bool(conditions) and all(one in self.conditions for one in conditions)
        return bool(conditions) and self.selection.is_just(conditions)

    @_one_change
    def enter(self, *conditions: Condition, beside: bool = False) -> None:
        """Choose as Enter on a figure does: where it is chosen already, its images are looked at, the first one first."""
        if not beside and self.are_chosen(conditions):
            if len(self.images):
                if self.position < 0:
                    self.look_at(int(self.images[0]))
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

    def look_at(self, image: int | None, marked: frozenset[int] | None = None) -> None:
        """Make an image the one looked at, and mark it alone, or these images."""
        if marked is None:
            self._anchor = image
        wanted = marked if marked is not None else frozenset(() if image is None else (image,))
        if image != self.current or wanted != self.marked:
            self.current, self.marked = image, wanted
            self.topics.current.emit()

    def mark_up_to(self, position: int) -> None:
        """Mark everything shown from the image that was looked at before marking began up to a position."""
        found = np.flatnonzero(self.images == (-1 if self._anchor is None else self._anchor))
        anchor = int(found[0]) if len(found) else position
        some = self.images[min(anchor, position) : max(anchor, position) + 1]
        self.look_at(int(self.images[position]), frozenset(some.tolist()))

    def name_of(self, image: int) -> str:
        """An image's file name."""
        return self.snapshot.record.image_set.items[image].path.rpartition("/")[2]

    @property
    def acted_on(self) -> list[int]:
        """The images that a decision is about: those marked, in the order shown, else the one looked at."""
        if len(self.marked) > 1:
            return [i for i in self.images.tolist() if i in self.marked]
        return [] if self.current is None else [self.current]

    @property
    def position(self) -> int:
        """Where the current image stands among the shown ones, or -1."""
        if self.current is None:
            return -1
        found = np.flatnonzero(self.images == self.current)
        return int(found[0]) if len(found) else -1

    def step(self, by: int) -> None:
        """Go on by so many images among the shown ones, staying inside."""
        if len(self.images):
            at = self.position
            self.look_at(int(self.images[min(len(self.images) - 1, max(0, at + by if at >= 0 else 0))]))

    def step_mistake(self, direction: int) -> bool:
        """Go to the next (1) or previous (-1) wrong image among the shown ones; False where there is none."""
        wrong = np.flatnonzero(self.snapshot.judged.wrong[self.images])
        at = self.position
        further = wrong[wrong > at] if direction > 0 else wrong[wrong < at][::-1]
        if not len(further):
            return False
        self.look_at(int(self.images[further[0]]))
        return True
