"""Where a region lies, as it is told on the command line."""

from __future__ import annotations

import argparse

from mivrat.api.regions import Corners, Region
from mivrat.core.base.errors import InputError


def region_from(args: argparse.Namespace) -> Region:
    """The one region that is told; InputError where there is not exactly one, or it is not told well."""
    if sum(given is not None for given in (args.region, args.shapes, args.hottest, args.colour, args.like)) != 1:
        raise InputError(
            "say what the region is",
            where="--region, --shapes, --hottest, --colour or --like",
            hint="give one of them, such as --hottest 0.1",
        )
    if args.hottest is not None:
        return Region.hottest(args.hottest, args.layer)
    if args.colour is not None:
        if ":" not in args.colour:
            return Region.colour(args.colour, tolerance=args.tolerance)
        return Region.colour(*_patch(args.colour), tolerance=args.tolerance)
    if args.like is not None:
        return Region.like(*_patch(args.like), args.alike, args.layer)
    if args.shapes is not None:
        return Region.shapes(args.shapes)
    return Region.rectangle(*_corners(args.region))


def _patch(text: str) -> tuple[str, Corners]:
    """An image, and the corners of what is marked in it."""
    file, _, corners = text.rpartition(":")
    return file, _corners(corners)


def _corners(text: str) -> Corners:
    try:
        left, top, right, bottom = (float(part) for part in text.split(","))
    except ValueError:
        raise InputError(
            "is not a rectangle",
            where=text,
            hint="give left, top, right and bottom as shares, such as 0,0.7,0.3,1",
        ) from None
    return left, top, right, bottom
