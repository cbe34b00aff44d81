"""Sorted copies and contact sheets of selected images, each saying what it came from."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Literal

from PIL import Image, ImageDraw

from mivrat.core.base.errors import InputError, cannot_be_written
from mivrat.core.base.files import folder_within, free_name, is_same_file, put_new, write_whole, write_whole_with
from mivrat.core.base.job import Meter, Progress, Written, current_stop
from mivrat.core.base.numbers import percent
from mivrat.core.base.text import in_a_row
from mivrat.core.pictures.decode import UnreadablePicture, to_copy
from mivrat.core.pictures.thumbnails import thumbnail
from mivrat.core.reporting.image_lists import ExportedImages, Source, list_of_images
from mivrat.core.reporting.typeface import fitting, typeface

# A4 at 150 dots an inch, and what stands on it.
PAGE = (1240, 1754)
MARGIN, CELL, GAP, CAPTION, HEAD = 60, 200, 20, 52, 130
COLUMNS = (PAGE[0] - 2 * MARGIN + GAP) // (CELL + GAP)
LINES = (PAGE[1] - 2 * MARGIN - HEAD + GAP) // (CELL + CAPTION + GAP)


How = Literal["copies", "links"]
# What folders are made by.
By = Literal["label and prediction", "prediction", "label", "cause"]
BY: tuple[By, ...] = ("label and prediction", "prediction", "label", "cause")


_UNSAFE = re.compile(r"[^\w.\- ()+]+")
_RESERVED = {"con", "prn", "aux", "nul", *(f"{name}{n}" for name in ("com", "lpt") for n in range(1, 10))}


def safe_name(name: str, empty: str = "none") -> str:
    """A name that is one part of a path on any system: at most 60 characters, no separators, no leading dot."""
    found = _UNSAFE.sub("_", name).strip(" .")[:60].strip(" .")
    if found.partition(".")[0].lower() in _RESERVED:
        found = f"_{found}"
    return found or empty


def safe_names(names: Sequence[str]) -> dict[str, str]:
    """A safe name for each of several, no two of them alike, not even to systems that fold case."""
    found: dict[str, str] = {}
    used: set[str] = set()
    for name in names:
        made, number = safe_name(name), 1
        while made.casefold() in used:
            number += 1
            made = f"{safe_name(name)} ({number})"
        used.add(made.casefold())
        found[name] = made
    return found


def _folders_of(exported: ExportedImages, image: int, by: By, named: dict[str, str]) -> list[str]:
    """The folders, under the one chosen, that an image goes to; of several causes to each."""
    labelled, called = exported.label_of(image) or "no label", exported.predicted_of(image) or "no answer"
    if by == "cause":
        return [named[one] for one in exported.reviews.names(image) or ["no cause"]]
    ways = {
        "prediction": f"called {named[called]}",
        "label": f"labelled {named[labelled]}",
        "label and prediction": f"labelled {named[labelled]}/called {named[called]}",
    }
    return [ways[by]]


def sort_into_folders(
    exported: ExportedImages, folder: Path, how: How, by: By = "label and prediction"
) -> Iterator[Progress | Written]:
    """Copy or link the files into folders such as ``folder/labelled X/called Y``, with a list beside them; nothing is ever overwritten.

    A file that stands there already with the same content, from an earlier try, is not put there again. Yields progress, and at last
    what was written; ends early when stopped (what is there stays). InputError where the folder cannot be written.
    """
    meter, record, made = Meter(len(exported.images)), exported.record, 0
    done = 0
    causes = [one.name for one in exported.reviews.causes]
    named = safe_names([*record.classes, "no label", "no answer", *(causes if by == "cause" else ()), "no cause"])
    put: set[Path] = set()
    yield meter.at(0)
    try:
        for done, i in enumerate(exported.images, 1):
            if current_stop().stopped:
                done -= 1
                break
            found = to_copy(record.image_set.file(i))
            for name in _folders_of(exported, i, by, named):
                place = folder_within(folder, name)
                if found is not None:
                    _put(*found, place, how, put)
            made += found is not None
            yield meter.at(done)
        else:
            write_whole(free_name(folder / "list.csv"), list_of_images(exported).as_csv())
        yield Written(made, folder, done - made)
    except OSError as error:
        raise cannot_be_written(error, folder) from error


def _put(source: Path | bytes, called: str, place: Path, how: How, put: set[Path]) -> None:
    """Make the copy or link under a name that is free, so that two files of one name both stay; ``put`` are those made so far. No link
    leads into an archive: what stands in one is copied."""
    name = safe_name(called, "image")
    stem, ending = os.path.splitext(name)
    number = 1
    while True:
        target = place / (name if number == 1 else f"{stem} ({number}){ending}")
        number += 1
        if target in put:
            continue
        if not _there_already(source, target, how):
            try:
                if how == "links" and isinstance(source, Path):
                    target.symlink_to(source.resolve())
                else:
                    put_new(source, target)
            except FileExistsError:
                continue
        put.add(target)
        return


def _there_already(source: Path | bytes, target: Path, how: How) -> bool:
    """Whether an earlier try has put this very file there."""
    if how == "links" and isinstance(source, Path):
        return target.is_symlink() and target.resolve() == source.resolve()
    return is_same_file(source, target)


def contact_sheet(exported: ExportedImages, path: Path) -> Iterator[Progress | Written]:
    """Draw the images with their labels and answers onto pages, each headed by where they came from.

    A PDF holds all pages; of PNG the further pages go to files of their own (``-2``, ``-3`` ...).
    """
    if path.suffix.lower() == ".pdf":
        number, part = 0, path.with_name(f".{path.stem}-{os.getpid()}.part.pdf")
        try:
            for event in _pages(exported):
                if isinstance(event, Image.Image):
                    # Page by page: only the one in hand is held in memory.
                    event.save(part, "PDF", resolution=150, append=number > 0)
                    number += 1
                else:
                    yield event
            if not current_stop().stopped:
                os.replace(part, path)
                yield Written(1, path)
        except OSError as error:
            raise cannot_be_written(error, path) from error
        finally:
            part.unlink(missing_ok=True)
        return
    number, pages = 0, -(-len(exported.images) // (COLUMNS * LINES))
    names = [path, *(path.with_name(f"{path.stem}-{n}{path.suffix}") for n in range(2, pages + 1))]
    if taken := [one.name for one in names[1:] if one.is_symlink() or one.exists()]:
        raise InputError(
            f"its further pages would be written over {in_a_row(taken[:5])}",
            where=path,
            hint="choose another name, or a PDF, which holds all pages",
        )
    for event in _pages(exported):
        if isinstance(event, Image.Image):
            each = names[number]
            number += 1
            write_whole_with(each, lambda part, page=event: page.save(part, "PNG"))  # type: ignore[misc]
        else:
            yield event
    yield Written(number, path)


def _pages(exported: ExportedImages) -> Iterator[Progress | Image.Image]:
    """The pages of a contact sheet as they are drawn, with progress; it ends early where it is stopped."""
    meter, per_page = Meter(len(exported.images)), COLUMNS * LINES
    total = max(1, -(-len(exported.images) // per_page))
    yield meter.at(0)
    for number in range(total):
        page = Image.new("RGB", PAGE, "white")
        draw = ImageDraw.Draw(page)
        _draw_head(draw, exported.source, number + 1, total)
        for at, i in enumerate(exported.images[number * per_page : (number + 1) * per_page]):
            if current_stop().stopped:
                return
            _draw_image(page, draw, exported, i, at)
            yield meter.at(number * per_page + at + 1)
        yield page


def _draw_head(draw: ImageDraw.ImageDraw, source: Source, number: int, total: int) -> None:
    width = PAGE[0] - 2 * MARGIN
    study, model, images, selection, day = source.lines()
    lines = (f"{study}  ·  {model}  ·  {images}", selection, f"{day}  ·  page {number} of {total}")
    for n, text in enumerate(lines):
        draw.text((MARGIN, MARGIN + 28 * n), fitting(text, 18, width), fill="black", font=typeface(18))
    draw.line((MARGIN, MARGIN + HEAD - 26, PAGE[0] - MARGIN, MARGIN + HEAD - 26), fill="grey")


def _draw_image(page: Image.Image, draw: ImageDraw.ImageDraw, exported: ExportedImages, image: int, at: int) -> None:
    line, column = divmod(at, COLUMNS)
    left, top = MARGIN + column * (CELL + GAP), MARGIN + HEAD + line * (CELL + CAPTION + GAP)
    try:
        picture = Image.fromarray(thumbnail(exported.record.image_set.file(image), CELL))
        scale = CELL / max(picture.size)
        if scale > 1:
            size = max(1, round(picture.width * scale)), max(1, round(picture.height * scale))
            picture = picture.resize(size, Image.Resampling.BICUBIC)
        page.paste(picture, (left, top + (CELL - picture.height)))
    except UnreadablePicture:
        draw.rectangle((left, top, left + CELL, top + CELL), outline="grey")
        draw.text((left + 10, top + 10), "unreadable", fill="grey", font=typeface(16))
    called, labelled = exported.predicted_of(image) or "no answer", exported.label_of(image) or "no label"
    confidence = float(exported.judged.confidence[image])
    told = called if confidence != confidence else f"{called} {percent(confidence, 0)}"
    second = "as labelled" if called == labelled else labelled if labelled == "no label" else f"labelled {labelled}"
    name = exported.record.image_set.items[image].path.rpartition("/")[2]
    for n, (text, ink) in enumerate(((told, "black"), (f"{second}", "dimgrey"), (name, "grey"))):
        pixels = 14 if n else 15
        draw.text((left, top + CELL + 3 + 16 * n), fitting(text, pixels, CELL), fill=ink, font=typeface(pixels))
