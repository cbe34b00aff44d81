"""The one cache of blobs against what it took the place of: a file for each thumbnail, a database for each model's arrays."""

from __future__ import annotations

import io
import sqlite3
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image

from mivrat.core.base.blob_cache import BlobCache, KeptArrays

THUMBNAILS, ARRAYS, WIDTH, ROUNDS = 2_000, 20_000, 512, 5


def seconds(do: Callable[[], object]) -> float:
    began = time.perf_counter()
    do()
    return time.perf_counter() - began


def thumbnails(folder: Path) -> None:
    rng = np.random.default_rng(0)
    made = []
    for _ in range(40):
        coarse = Image.fromarray(rng.integers(0, 256, (24, 32, 3), dtype=np.uint8)).resize((192, 144))
        out = io.BytesIO()
        coarse.save(out, "JPEG", quality=90)
        made.append(out.getvalue())
    keys = [rng.bytes(32) for _ in range(THUMBNAILS)]
    cache = BlobCache(folder / "c")
    cache.hold()

    def decode(data: bytes) -> np.ndarray:
        return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))

    def file_of(key: bytes) -> Path:
        return folder / key.hex()[:2] / f"{key.hex()[2:34]}.jpg"

    def write_files() -> None:
        for i, key in enumerate(keys):
            file_of(key).parent.mkdir(exist_ok=True)
            part = file_of(key).with_suffix(".part")
            part.write_bytes(made[i % 40])
            part.replace(file_of(key))

    def write_blobs() -> None:
        for i, key in enumerate(keys):
            cache.put("192", {key: ("jpeg", made[i % 40])})

    print(f"keep {THUMBNAILS} thumbnails: {seconds(write_blobs) / seconds(write_files):.2f} times files")
    ratios = []
    for _ in range(ROUNDS):
        blobs = seconds(lambda: [decode(cache.get("192", key) or b"") for key in keys])
        files = seconds(lambda: [decode(file_of(key).read_bytes()) for key in keys])
        ratios.append(blobs / files)
    cache.close()
    print(f"read and decode them: {statistics.median(ratios):.2f} times files ({min(ratios):.2f} to {max(ratios):.2f})")


def arrays(folder: Path) -> None:
    rng = np.random.default_rng(0)
    rows = {rng.bytes(32): rng.normal(size=WIDTH).astype(np.float32) for _ in range(ARRAYS)}

    def write_own() -> None:
        db = sqlite3.connect(folder / "own")
        db.execute("CREATE TABLE array (key BLOB PRIMARY KEY, shape TEXT NOT NULL, numbers BLOB NOT NULL)")
        with db:
            db.executemany(
                "INSERT INTO array VALUES (?, ?, ?)", [(k, str(WIDTH), v.tobytes()) for k, v in rows.items()]
            )
        db.close()

    def write_shared() -> None:
        for model in ("a", "b", "c"):  # others in between
            kept = KeptArrays(BlobCache(folder / "shared"), model, 1)
            kept.known |= rows
            kept.keep()

    def read_own() -> None:
        db = sqlite3.connect(folder / "own")
        known = {
            key: np.frombuffer(numbers, "<f4").reshape([int(n) for n in shape.split()]).astype(np.float32)
            for key, shape, numbers in db.execute("SELECT key, shape, numbers FROM array")
        }
        assert len(known) == ARRAYS
        db.close()

    def read_shared() -> None:
        assert len(KeptArrays(BlobCache(folder / "shared"), "b", 1).known) == ARRAYS

    print(
        f"keep {ARRAYS} x {WIDTH} numbers: {seconds(write_shared) / 3 / seconds(write_own):.2f} times a database each"
    )
    ratios = [seconds(read_shared) / seconds(read_own) for _ in range(ROUNDS)]
    print(f"read them: {statistics.median(ratios):.2f} times ({min(ratios):.2f} to {max(ratios):.2f})")


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        thumbnails(Path(name))
        arrays(Path(name))


if __name__ == "__main__":
    main()
