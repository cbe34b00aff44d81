"""The cache: kept by space and key, cut back by use, begun anew where damaged, never where another holds it."""

from __future__ import annotations

import sqlite3
import threading
from pathlib import Path

import numpy as np
import pytest

from mivrat.core.base import blob_cache
from mivrat.core.base.blob_cache import BlobCache, KeptArrays
from mivrat.core.base.errors import InputError


def test_arrays_are_kept_by_what_they_are_of(tmp_path: Path) -> None:
    cache, rng = BlobCache(tmp_path / "c"), np.random.default_rng(0)
    for model in ("one", "two"):
        made = KeptArrays(cache, model, 2)
        made.known |= {bytes([i]): rng.normal(size=(2, 3)).astype(np.float32) for i in range(4)}
        made.keep()
        again = KeptArrays(BlobCache(tmp_path / "c"), model, 2)
        assert again.known.keys() == made.known.keys()
        for key, value in made.known.items():
            np.testing.assert_array_equal(again.known[key], value)
    odd = KeptArrays(cache, "one", 2)
    odd.known[b"other"] = np.zeros((5, 5), np.float32)
    odd.keep()
    assert len(KeptArrays(cache, "one", 2).known) == 5
    assert KeptArrays(cache, "two", 1).known == {}  # of another number of axes: none of ours, and let go
    assert KeptArrays(cache, "two", 2).known == {}
    assert KeptArrays(cache, "one", 2, alike=True).known == {}


def test_those_used_longest_ago_go_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(blob_cache, "_LOOKED_AFTER", 1)
    cache, now = BlobCache(tmp_path / "c", 350), [1_000_000.0]
    monkeypatch.setattr(blob_cache.time, "time", lambda: now[0])
    for i in range(6):
        now[0] += 100_000
        if i == 4:
            assert cache.get("s", b"2") == bytes(100)  # so that it stays
        cache.put("s", {b"%d" % i: ("", bytes(100))})
    assert sorted(cache.all_of("s")) == [b"2", b"4", b"5"]


def test_a_damaged_file_is_begun_anew_and_one_that_is_held_is_not(tmp_path: Path) -> None:
    path = tmp_path / "c"
    cache = BlobCache(path)
    path.write_bytes(b"no database at all, " * 100)
    assert cache.get("s", b"k") is None
    cache.put("s", {b"k": ("", b"v")})
    holder = sqlite3.connect(path)
    holder.execute("PRAGMA locking_mode = EXCLUSIVE")
    holder.execute("BEGIN EXCLUSIVE")
    quick = BlobCache(path)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(blob_cache, "connect", lambda p, any_thread: sqlite3.connect(p, timeout=0.05))
        assert quick.all_of("s") == {}
        with pytest.raises(InputError, match="the cache cannot be written"):
            quick.put("s", {b"k2": ("", b"v")})
    holder.rollback()
    holder.close()
    assert cache.get("s", b"k") == b"v"


@pytest.mark.parametrize("held", [False, True])
def test_several_threads_share_it(tmp_path: Path, held: bool) -> None:
    cache = BlobCache(tmp_path / "c")
    if held:
        cache.hold()

    def work(n: int) -> None:
        for i in range(20):
            cache.put("s", {b"%d %d" % (n, i): ("", bytes([n]) * 50)})
            assert cache.get("s", b"%d %d" % (n, i)) == bytes([n]) * 50

    threads = [threading.Thread(target=work, args=(n,)) for n in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert len(cache.all_of("s")) == 80
    cache.close()
