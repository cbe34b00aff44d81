"""Made-up JPEGs of about 500 x 375, each with content of its own."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image


def write_jpegs(folder: Path, number: int, different: int = 200, classes: int = 100) -> list[tuple[Path, str]]:
    """So many JPEGs and their labels. Beyond ``different`` scenes the same pixels come again under another comment, so
    that every file still counts as a picture of its own and is decoded and scored."""
    rng = np.random.default_rng(0)
    scenes = []
    for i in range(min(number, different)):
        field = rng.normal(0, 1, (12, 16, 3)).cumsum(axis=1)
        scaled = ((field - field.min()) / np.ptp(field) * 255).astype(np.uint8)
        width, height = 500 + i % 5 * 3, 375 - i % 7 * 2
        path = folder / f"scene{i}.jpg"
        Image.fromarray(scaled).resize((width, height), Image.Resampling.BICUBIC).save(path, quality=90)
        scenes.append(path.read_bytes())
        path.unlink()
    files = []
    for i in range(number):
        data, comment = scenes[i % len(scenes)], f"picture {i}".encode()
        path = folder / f"{i:06}.jpg"
        path.write_bytes(data[:2] + b"\xff\xfe" + (len(comment) + 2).to_bytes(2, "big") + comment + data[2:])
        files.append((path, f"c{i % classes}"))
    return files


def write_table(path: Path, files: list[tuple[Path, str]]) -> Path:
    path.write_text("path,label\n" + "".join(f"{file},{label}\n" for file, label in files), encoding="utf-8")
    return path
