"""The order and the bands in which the images of a run are shown, as they are asked for and as far as they are worked out."""

from __future__ import annotations

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.selecting.ordering import (
    AS_LISTED,
    BY_BOTH,
    BY_ROLE,
    NO_BANDS,
    ORDERS_OF_BOTH,
    SUREST_MISTAKE,
    Arrangement,
    Order,
    ToArrange,
    tells_answers,
)
from mivrat.workspace.topics import Topics


class ImageOrder:
    """How images stand: ``by`` which order, by what they are put into bands, and the class that bands of called and labelled are ``about``."""

    def __init__(self, topics: Topics) -> None:
        self._topics = topics
        self.by: Order = SUREST_MISTAKE
        self.band_by = self._bands_before = NO_BANDS
        self.about: int | None = None
        # Answers are hidden: what would tell them stands as listed, until they are shown again.
        self.blind = False
        self._before_listing: tuple[Order, str] | None = None
        self._arranged: tuple[EvaluatedRun, Arrangement] | None = None

    @property
    def wanted(self) -> tuple[Order, str, int | None]:
        """How images are to stand: the order, what they are put into bands by, and the class that these are about."""
        if not self.blind:
            return self.by, self.band_by, self.about
        by = NO_BANDS if tells_answers(self.band_by) else self.band_by
        return AS_LISTED if tells_answers(self.by) else self.by, by, None

    def set(self, order: Order, by: str, about: int | None) -> None:
        """Put an order in force as it stood before."""
        self.by, self.band_by, self.about = order, by, about

    def set_bands(self, by: str, about: int | None) -> None:
        """Put images into bands; bands by role end with the class that they are about, and the bands before come back."""
        if by != BY_ROLE:
            self._bands_before = by
        self.band_by, self.about = by, about

    def leave_roles(self) -> None:
        """No class is asked about any more: where bands were by role, those before come back."""
        if self.band_by == BY_ROLE:
            self.band_by, self.about = self._bands_before, None

    def forget(self) -> None:
        """What was put in order no longer holds."""
        self._arranged = None

    def forget_other(self) -> None:
        """No other run's answers are laid on the images shown: orders and bands that speak of them go."""

        def without(order: Order, by: str) -> tuple[Order, str]:
            return SUREST_MISTAKE if order in ORDERS_OF_BOTH else order, NO_BANDS if by == BY_BOTH else by

        self.by, self.band_by = without(self.by, self.band_by)
        if self._before_listing is not None:
            self._before_listing = without(*self._before_listing)
        self._bands_before = NO_BANDS if self._bands_before == BY_BOTH else self._bands_before

    def follow_listing(self, listed: bool) -> None:
        """Images that something has listed are shown as it listed them, without bands; afterwards both are as before."""
        if listed and self._before_listing is None:
            self._before_listing = self.by, self.band_by
            self.by, self.band_by, self.about = AS_LISTED, NO_BANDS, None
        elif not listed and self._before_listing is not None:
            order, by = self._before_listing
            self._before_listing = None
            self.by = order if self.by == AS_LISTED else self.by
            self.band_by = by if self.band_by == NO_BANDS and by != BY_ROLE else self.band_by

    def arrangement(self, images: ToArrange) -> Arrangement:
        """All images in order; any selection of them is then in order.

        Until a slow order has been worked out, images stand as they did, or the most confident mistake first; very many as listed.
        """
        if self._arranged is not None and self._arranged[0] is not images.judged:
            self._arranged = None
        known = self._arranged[1] if self._arranged is not None else None
        if known is not None and (known.order, known.by, known.about) == self.wanted:
            return known
        if images.is_quick(*self.wanted[:2]):
            known = images.arranged(*self.wanted)
        else:
            first = SUREST_MISTAKE if images.is_quick(SUREST_MISTAKE, NO_BANDS) and not self.blind else AS_LISTED
            known = known or images.arranged(first)
            self._topics.arrangement_wanted.emit()
        self._arranged = images.judged, known
        return known

    def take(self, judged: EvaluatedRun, arrangement: Arrangement) -> bool:
        """Take over what ``arrangement_wanted`` has asked for, where it is still wanted."""
        if (arrangement.order, arrangement.by, arrangement.about) != self.wanted:
            return False
        self._arranged = judged, arrangement
        return True
