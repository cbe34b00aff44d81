"""What pasting a piece onto other images did to their answers, against a control piece of the same size."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mivrat.core.figures.differences import Difference
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.paired import share_difference
from mivrat.core.figures.sums import ordered_sum
from mivrat.core.figures.units import share

# What the test is over: receivers by themselves, whole units of them, or all that goes with one donor.
Over = Literal["images", "units", "donors"]


@dataclass(frozen=True)
class Pasted:
    """Of the receivers: the share whose answer became the donor's class, and the mean rise of that class's probability."""

    became: Proportion
    mean_rise: float


@dataclass(frozen=True)
class TransplantResult:
    """The effect of the piece and that of the control on ``total`` receivers, with pieces from so many ``donors``. ``only_piece`` answers
    became the donor's class under the piece and not under the control, ``only_control`` the other way round; ``difference`` is that of
    the two shares, piece less control, with its exact paired test (McNemar 1947) ``over`` what counts as independent."""

    total: int
    donors: int
    over: Over
    piece: Pasted
    control: Pasted
    only_piece: int
    only_control: int
    difference: Difference


def transplant_result(
    became_piece: NDArray[np.bool_],
    became_control: NDArray[np.bool_],
    rise_piece: NDArray[np.float64],
    rise_control: NDArray[np.float64],
    donor: NDArray[np.integer],
    donor_unit: NDArray[np.integer] | None = None,
    unit: NDArray[np.integer] | None = None,
) -> TransplantResult:
    """The result over N receivers: whether each became its donor's class, how far that class's probability rose, its ``donor``; where
    images belong together, the unit of the receiver and that of its donor.

    One donor's piece and control are the same on all its receivers, so that these stand or fall together: the test turns the signs of
    whole donors. With a single donor it is over receivers, and then says something of that one piece only.
    """
    sources = np.unique(donor if donor_unit is None else donor_unit)
    over: Over = "donors" if len(sources) > 1 else "images" if unit is None else "units"
    together = _joined(donor if donor_unit is None else donor_unit, unit) if over == "donors" else unit

    def pasted(became: NDArray[np.bool_], rise: NDArray[np.float64]) -> Pasted:
        return Pasted(share(became, together), ordered_sum(rise) / len(rise) if len(rise) else 0.0)

    return TransplantResult(
        len(became_piece),
        len(np.unique(donor)),
        over,
        pasted(became_piece, rise_piece),
        pasted(became_control, rise_control),
        int((became_piece & ~became_control).sum()),
        int((became_control & ~became_piece).sum()),
        share_difference(became_control, became_piece, together),
    )


def _joined(donor: NDArray[np.integer], unit: NDArray[np.integer] | None) -> NDArray[np.int64]:
    """What each receiver stands or falls with, numbered from 0: all that shares a donor, or a unit, with it."""
    if unit is None:
        return np.unique(donor, return_inverse=True)[1].astype(np.int64)
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    one, other = (np.unique(values, return_inverse=True)[1] for values in (donor, unit))
    size = int(one.max()) + int(other.max()) + 2 if len(one) else 0
    links = coo_array((np.ones(len(one)), (one, one.max() + 1 + other)), (size, size))
    found = connected_components(links, directed=False)[1]
    return np.unique(found[one], return_inverse=True)[1].astype(np.int64)
