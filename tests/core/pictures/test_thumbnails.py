"""The cache of thumbnails: made once, anew for a changed file, bounded, and done without where it cannot be written."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mivrat.core.base.blob_cache import BlobCache
from mivrat.core.pictures import thumbnails
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.pictures.thumbnails import ThumbnailStore


def picture(path: Path, shade: int) -> Path:
    """A smooth picture whose file is large."""
    ramp = np.tile(np.linspace(0, 60, 300), (200, 1))[..., None] + np.array([shade, 0, 30])
    Image.fromarray(ramp.astype(np.uint8)).save(path, "BMP")
    return path


def test_thumbnails_are_kept_and_follow_their_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store, file = ThumbnailStore(BlobCache(tmp_path / "cache")), picture(tmp_path / "a.bmp", 10)
    first = store.get(file, 96)
    assert first.shape == (64, 96, 3)
    exact = np.asarray(Image.open(file).resize((96, 64), Image.Resampling.BOX)).astype(int)
    assert np.abs(first.astype(int) - exact).max() <= 4
    made: list[Path] = []
    monkeypatch.setattr(thumbnails, "thumbnail", lambda path, side: made.append(path) or first)
    again = store.get(file, 96)
    assert np.abs(again.astype(int) - first).max() <= 6
    assert not made
    picture(file, 180)
    os.utime(file, ns=(1, 1))
    store.get(file, 96)
    assert made == [file]
    store.close()


def test_what_cannot_be_read_or_kept(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    assert ThumbnailStore(BlobCache(tmp_path / "file" / "cache")).get(picture(tmp_path / "a.bmp", 10), 50).shape == (
        33,
        50,
        3,
    )
    with pytest.raises(UnreadablePicture):
        ThumbnailStore(BlobCache(tmp_path / "cache")).get(tmp_path / "none.png", 50)
