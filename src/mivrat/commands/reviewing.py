"""The command review."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from mivrat.commands.telling import DONE, show
from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.numbers import bounds, percent
from mivrat.core.base.text import count
from mivrat.core.concluding.two_readers import (
    HERE,
    QuestionAgreement,
    agreements,
    decided,
    merge,
    read_reviews,
    write_reviews,
)
from mivrat.core.reporting.results import share_as_json
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import list_image_sets, load_image_names
from mivrat.core.study.lock import StudyLock
from mivrat.core.study.readers import name_reader, readers_here
from mivrat.core.study.reviews import load_reviews, present_reader


def review(args: argparse.Namespace) -> int:
    """Export the study's own decisions, merge another reader's, or say how far readers agree."""
    if not args.study.is_file():
        raise InputError("the study does not exist", where=args.study, hint="name a .mivrat file")
    if args.action == "merge":
        if args.file is None:
            raise InputError("which file?", where="review merge", hint="name what review export wrote")
        given = read_reviews(args.file)
        with StudyLock(args.study), Study.open(args.study) as study:
            found = merge(study, given)
            show(
                f"{found.reader}: {count(found.taken)} of {count(found.given)} decisions are of images of this study, and were merged"
            )
            _tell(study, args.out)
        return DONE
    if args.action == "export":
        return _export(args)
    with Study.open(args.study, again=True) as study:
        _tell(study, args.out)
    return DONE


def _export(args: argparse.Namespace) -> int:
    if args.out is None:
        raise InputError("where to?", where="--out", hint="name a file for the decisions")
    with StudyLock(args.study), Study.open(args.study) as study:
        reader = args.reader or present_reader(study)
        if not reader:
            raise InputError("this study has no reader yet", where=args.study, hint="name the reader with --reader")
        if not present_reader(study):
            name_reader(study, reader)
        elif reader not in readers_here(study):
            raise InputError(
                f"{reader} has not reviewed in this study",
                where="--reader",
                hint=f"name {', '.join(readers_here(study))}",
            )
        told, unread = write_reviews(study, reader, args.out)
    show(f"{count(told)} decisions of {reader}; written: {args.out}")
    if unread:
        show(f"left out: {count(unread)} images whose files were not read yet, so that their content is not known")
    return DONE


def _tell(study: Study, out: Path | None) -> None:
    """Say how far readers agree, set by set; the same as JSON where a file is named."""
    told: list[dict[str, Any]] = []
    for info in list_image_sets(study):
        reviews = load_reviews(study, info.id)
        if not reviews.others:
            continue
        by_reader, names = decided(reviews), load_image_names(study, info.id)
        found, differ = agreements(by_reader), [names[i] for i in reviews.conflicts()]
        show(f"{info.name}: {', '.join(f'{name} {count(len(some))}' for name, some in by_reader.items())} decisions")
        for one in found:
            show(f"  {_sentence(one)}")
        settled = f", and {count(len(reviews.agreed))} agreed on" if reviews.agreed else ""
        show(f"  {count(len(differ))} images on whose label readers differ{settled}")
        told.append(
            {
                "images": info.name,
                "readers": {name: len(some) for name, some in by_reader.items()},
                "agreement": [_as_json(one) for one in found],
                "conflicts": [{"content": one.content, "path": one.path} for one in differ],
                "agreed": len(reviews.agreed),
            }
        )
    if not told:
        show(f"only one reader has decided here ({present_reader(study) or HERE}): merge another's decisions")
    if out is not None:
        data = {"format": "mivrat-agreement/1", "sets": told}
        write_whole(out, json.dumps(data, indent=1, ensure_ascii=False) + "\n")
        show(f"written: {out}")


def _sentence(one: QuestionAgreement) -> str:
    share = one.found.share
    who = one.who()
    if not share.total:
        return f"{one.question}: no image that {who} have both decided"
    kappa = f"kappa {one.kappa}" if one.kappa else "kappa is not defined (all said the same)"
    return f"{one.question}: {who} agree on {percent(share.value)} ({bounds(share)}), N = {count(share.total)}; {kappa}"


def _as_json(one: QuestionAgreement) -> dict[str, Any]:
    found = one.found
    return {
        "question": one.question,
        "readers": list(one.readers),
        "images": found.share.total,
        "agree": share_as_json(found.share),
        "kappa": {"value": found.kappa, "low": found.low, "high": found.high},
    }
