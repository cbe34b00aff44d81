"""Scoring pictures from archives and tables of pictures, as a ratio to scoring the same from a folder, all in one run."""

from __future__ import annotations

import sys
import tarfile
import tempfile
import zipfile
from functools import partial
from pathlib import Path

import numpy as np
import polars as pl

import mivrat
from benchmarks.pictures import write_jpegs
from benchmarks.side_by_side import in_turn
from mivrat.demo.study import DATA

NUMBER, ROUNDS = 2_000, 5


def made(folder: Path, number: int) -> dict[str, Path]:
    """The same JPEGs loose, in a tar, in a zip, and in a Parquet table."""
    loose = folder / "loose"
    loose.mkdir()
    paths = [path for path, _ in write_jpegs(loose, number)]
    with tarfile.open(folder / "s.tar", "w") as archive:
        for path in paths:
            archive.add(path, path.name)
    with zipfile.ZipFile(folder / "s.zip", "w", zipfile.ZIP_DEFLATED) as zipped:
        for path in paths:
            zipped.write(path, path.name)
    pictures = [{"bytes": path.read_bytes(), "path": path.name} for path in paths]
    pl.DataFrame({"image": pictures}).write_parquet(folder / "s.parquet", row_group_size=200)
    return {"folder": loose, **{kind: folder / f"s.{kind}" for kind in ("tar", "zip", "parquet")}}


def score(source: Path) -> None:
    run = mivrat.evaluate(DATA / "grain-net-1.onnx", source, DATA / "classes.txt", DATA / "recipe.toml")
    assert run.counts.unreadable == 0
    assert run.counts.unlabelled > 0


def main() -> None:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else NUMBER
    with tempfile.TemporaryDirectory() as place:
        took = in_turn({kind: partial(score, source) for kind, source in made(Path(place), number).items()}, ROUNDS)
    plain = np.array(took.pop("folder"))
    told = [f"{kind} {np.median(plain / np.array(some)):.2f}" for kind, some in took.items()]
    print(f"rate of scoring {number} JPEGs to that from a folder ({np.median(plain):.1f} s): {', '.join(told)}")


if __name__ == "__main__":
    main()
