"""Thumbnails of picture files, kept in a cache on disk of limited size."""

from __future__ import annotations

import hashlib
import io
from contextlib import suppress
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.base.blob_cache import BlobCache, user_cache
from mivrat.core.base.errors import InputError
from mivrat.core.pictures.containers import picture_stat
from mivrat.core.pictures.decode import Pixels, read_picture

# Smaller files are decoded as fast as their thumbnails would be.
WORTH_KEEPING = 40_000


def thumbnail(path: Path, side: int) -> Pixels:
    """A picture file decoded and shrunk to at most ``side`` pixels a side (height x width x 3). Raises UnreadablePicture."""
    picture = Image.fromarray(read_picture(path))
    picture.thumbnail((side, side), Image.Resampling.LANCZOS, reducing_gap=2.0)
    return np.asarray(picture)


class ThumbnailStore:
    """Makes thumbnails and keeps those of larger files; safe to use from several threads."""

    def __init__(self, cache: BlobCache | None = None) -> None:
        self._cache = cache or user_cache("thumbnails")
        self._cache.hold()

    def close(self) -> None:
        """Let go of the cache's file."""
        self._cache.close()

    def get(self, path: Path, side: int) -> Pixels:
        """The thumbnail of a file as it is now, from the cache if that has it. Raises UnreadablePicture."""
        try:
            bytes_, changed = picture_stat(path)
        except OSError:
            return thumbnail(path, side)
        if bytes_ < WORTH_KEEPING:
            return thumbnail(path, side)
        named = f"{path}\n{bytes_}\n{changed}".encode("utf-8", "surrogateescape")
        key, space = hashlib.sha256(named).digest(), str(side)
        kept = self._cache.get(space, key)
        if kept is not None:
            try:
                return np.asarray(Image.open(io.BytesIO(kept), formats=["JPEG"]).convert("RGB"))
            except (OSError, ValueError):
                pass  # it is made anew
        pixels, made = thumbnail(path, side), io.BytesIO()
        Image.fromarray(pixels).save(made, "JPEG", quality=90)
        with suppress(InputError):  # a cache that cannot be written is done without
            self._cache.put(space, {key: ("jpeg", made.getvalue())})
        return pixels
