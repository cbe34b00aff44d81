"""Thumbnails of picture files, kept in a cache on disk of limited size."""

from __future__ import annotations

import hashlib
import itertools
import os
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.base.files import limit_folder
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_picture

MOST_BYTES = 300_000_000
# Smaller files are decoded as fast as their thumbnails would be.
WORTH_KEEPING = 40_000
# After so many new ones the cache is looked through for too much.
_LOOKED_AFTER = 2000


def thumbnail(path: Path, side: int) -> Pixels:
    """A picture file decoded and shrunk to at most ``side`` pixels a side (height x width x 3). Raises UnreadablePicture."""
    picture = Image.fromarray(read_picture(path))
    picture.thumbnail((side, side), Image.Resampling.LANCZOS, reducing_gap=2.0)
    return np.asarray(picture)


class ThumbnailStore:
    """Makes thumbnails and keeps those of larger files; safe to use from several threads."""

    def __init__(self, folder: Path, most_bytes: int = MOST_BYTES) -> None:
        self._folder, self._most = folder, most_bytes
        self._made = itertools.count()

    def get(self, path: Path, side: int) -> Pixels:
        """The thumbnail of a file as it is now, from the cache if that has it. Raises UnreadablePicture."""
        try:
            about = os.stat(path)
        except OSError:
            return thumbnail(path, side)
        if about.st_size < WORTH_KEEPING:
            return thumbnail(path, side)
        key = f"{path}\n{about.st_size}\n{about.st_mtime_ns}\n{side}"
        digest = hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()
        kept = self._folder / digest[:2] / f"{digest[2:34]}.jpg"
        try:
            found = read_picture(kept)
            os.utime(kept)
            return found
        except (UnreadablePicture, OSError):
            pixels = thumbnail(path, side)
            self._keep(kept, pixels)
            return pixels

    def _keep(self, kept: Path, pixels: Pixels) -> None:
        """Write one beside its place and rename it; a cache that cannot be written is done without."""
        try:
            kept.parent.mkdir(parents=True, exist_ok=True)
            handle, part = tempfile.mkstemp(dir=kept.parent, suffix=".part")
            with os.fdopen(handle, "wb") as file:
                Image.fromarray(pixels).save(file, "JPEG", quality=90)
            os.replace(part, kept)
        except OSError:
            return
        if next(self._made) % _LOOKED_AFTER == 0:
            limit_folder(self._folder, self._most)
