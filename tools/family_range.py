"""Measures heatmaps over the families of classifiers (``families``) in the forms a graph comes in: two exporters, versions of the
operator set, optimised by the engine, half precision, quantised.

    python tools/family_range.py [NAME ...]      a line for each file; exit code 1 where something stands out

For each file: layers that give a map of all listed, the default and its grid, the worst difference of a layer's gradient from that of
a second way in float64 (``second_gradients``, or automatic differentiation of the network itself), seconds to read it and to the
first map, and whether the default's heat hits planted squares. Needs the extra ``tools``. Takes about half an hour.
"""

from __future__ import annotations

import contextlib
import logging
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import onnxruntime as ort
import torch
from numpy.typing import NDArray

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT), str(ROOT / "tools")]

from exporting import export  # noqa: E402
from families import CLASSES, FAMILIES, ONE_AT_A_TIME, built  # noqa: E402
from network_range import SIDE, by_automatic_differentiation, in_own_shape, load, pictures  # noqa: E402
from quantising import quantise  # noqa: E402
from second_gradients import gradients  # noqa: E402

from mivrat.core.heatmaps.hottest import laid_over  # noqa: E402
from mivrat.core.heatmaps.maps import HeatmapMaker, Layer, Target  # noqa: E402

WITHIN = 1e-5
EXPORTED = (("traced", 11), ("traced", 13), ("traced", 17), ("traced", 20), ("captured", 18), ("captured", 20))
OPTIMISED = (("traced", 17, "basic"), ("traced", 17, "extended"), ("captured", 18, "extended"))
QUANTISED = ("half", "dynamic", "qdq-8", "operators-8")


def optimise(source: Path, path: Path, level: str) -> None:
    """What the engine makes of a file at a level of optimisation."""
    options = ort.SessionOptions()
    options.graph_optimization_level = getattr(ort.GraphOptimizationLevel, f"ORT_ENABLE_{level.upper()}")
    options.optimized_model_filepath, options.log_severity_level = str(path), 4
    ort.InferenceSession(str(source), options, providers=["CPUExecutionProvider"])


def halve(source: Path, path: Path) -> None:
    """The same in half precision."""
    from onnxruntime.transformers.float16 import convert_float_to_float16

    onnx.save(convert_float_to_float16(onnx.load(source), keep_io_types=True), path)


def forms(name: str, folder: Path) -> list[tuple[str, Callable[[Path], None]]]:
    """What each form is called and how it is written to a file."""
    fixed, found = 1 if name in ONE_AT_A_TIME else None, []
    for exporter, opset in EXPORTED:
        found.append(
            (f"{exporter}-{opset}", lambda path, e=exporter, o=opset: export(built(name), path, e, fixed, o, SIDE))
        )

    def from_export(exporter: str, opset: int, write: Callable[[Path, Path], None]) -> Callable[[Path], None]:
        return lambda path: write(folder / f"{name}.{exporter}-{opset}.onnx", path)

    for exporter, opset, level in OPTIMISED:
        found.append(
            (f"{exporter}-{opset}-{level}", from_export(exporter, opset, lambda a, b, v=level: optimise(a, b, v)))
        )
    samples = [{"image": pictures(4)[k : k + 1]} for k in range(4)]
    for how in QUANTISED:
        write = halve if how == "half" else (lambda a, b, h=how: quantise(a, b, h, samples))
        found.append((how, from_export("traced", 17, write)))
    return found


def hits(maker: HeatmapMaker, layer: Layer) -> tuple[int, int]:
    """Of nine squares in grey pictures, how many change the layer's activations, against those on the average, where they stand, by
    its placement (to a cell, or 4 pixels); and of how many. Squares where the layer does not look are left out."""
    place, spots = layer.placement, [(row, column) for row in (8, 16, 24) for column in (8, 16, 24)]
    images = np.zeros((len(spots), 3, SIDE, SIDE), np.float32)
    for image, (row, column) in zip(images, spots, strict=True):
        image[:, row - 3 : row + 3, column - 3 : column + 3] = 2.0
    found = np.concatenate([maker.activations(images[k : k + 1], layer) for k in range(len(spots))])
    moved = np.abs(found - found.mean(axis=0)).sum(axis=1).astype(np.float32)
    cell = (
        abs(place.bottom - place.top) * SIDE / layer.grid[place.swapped],
        abs(place.right - place.left) * SIDE / layer.grid[1 - place.swapped],
    )
    hit = planted = 0
    for heat, (row, column) in zip(place.laid(moved), spots, strict=True):
        inside = [
            min(a, b) * SIDE + 3 < at < max(a, b) * SIDE - 3
            for at, a, b in ((row, place.top, place.bottom), (column, place.left, place.right))
        ]
        if not all(inside):
            continue
        planted += 1
        large = laid_over(heat, SIDE, SIDE)
        # The middle of what lies above half of the peak: kernels of random signs put the peak itself anywhere near.
        above = np.maximum(large - 0.5 * large.max(), 0) / max(
            1e-12, float(np.maximum(large - 0.5 * large.max(), 0).sum())
        )
        middle = (above.sum(axis=1) @ (np.arange(SIDE) + 0.5), above.sum(axis=0) @ (np.arange(SIDE) + 0.5))
        off = abs(middle[0] - row) / max(cell[0], 4), abs(middle[1] - column) / max(cell[1], 4)
        hit += max(off) <= 1.0
    return hit, planted


def differences(
    maker: HeatmapMaker, made: Any, layers: list[Layer], batch: NDArray[np.float32]
) -> tuple[float, int, str]:
    """The worst difference of a layer's gradient, as a share of its peak, over how many layers that could be compared, and where."""
    targets = [k % CLASSES for k in range(len(batch))]
    with contextlib.suppress(KeyError, RuntimeError):  # the second way knows fewer operators
        view = maker.view.for_images(len(batch))
        _, exact = gradients(view.proto, batch, maker.view.logits, targets)
        worst, where, compared = 0.0, "", 0
        for layer in layers:
            truth = exact.get(layer.tensor)
            if truth is None or not np.abs(truth).max() > 0:
                continue
            _, found = in_own_shape(maker, batch, targets, layer)
            error = float(np.abs(found - truth).max() / np.abs(truth).max())
            compared += 1
            if error > worst:
                worst, where = error, layer.tensor
        return worst, compared, where
    if made is None:
        return float("nan"), 0, ""
    found = by_automatic_differentiation(maker, made, batch, targets)
    where = max(found, key=lambda name: found[name], default="")
    return max(found.values(), default=float("nan")), len(found), where


def check(path: Path, name: str, form: str) -> tuple[str, bool]:
    """What there is to say of a file, and whether something stands out."""
    began = time.monotonic()
    maker = load(path)
    read = time.monotonic() - began
    layers = [one for one in maker.layers if one.heatmap]
    if not any(one.default for one in layers):
        return (
            f"NO DEFAULT  {len(layers)}/{len(maker.layers)}  {sorted({str(one.reason) for one in maker.layers})[:2]}",
            True,
        )
    default, batch = maker.layer(None), pictures(maker.model.batch_limit or 2)
    targets = [Target(k % CLASSES) for k in range(len(batch))]
    began = time.monotonic()
    heat = maker.maps(batch, targets, [default])[0]
    first = time.monotonic() - began
    signed = maker.maps(batch, targets, [default], "signed")[0]
    zero = not np.abs(signed).max(axis=(1, 2)).all() and not heat.max(axis=(1, 2)).all()
    hit, planted = hits(maker, default)
    rounded = form in QUANTISED
    worst, compared, where = (float("nan"), 0, "") if rounded else differences(maker, built(name), layers, batch)
    stands_out = zero or hit < planted or not planted or (not rounded and not worst <= WITHIN)
    told = f"{len(layers):3}/{len(maker.layers):3}  {default.grid[0]:2}x{default.grid[1]:<2} {default.tensor[-34:]:34} worst {worst:.1e} of {compared:2}  read {read:.2f} s  map {first:.2f} s  hit {hit}/{planted}"
    told += "  ALL ZERO" if zero else ""
    return told + (f"  at {where}" if not rounded and not worst <= WITHIN else ""), stands_out


def main(names: list[str]) -> int:
    """Check every form of every family; the number of files in which something stands out."""
    logging.disable(logging.WARNING)
    out = files = 0
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        for name in names:
            for form, write in forms(name, folder):
                path = folder / f"{name}.{form}.onnx"
                try:
                    write(path)
                except Exception as error:
                    print(
                        f"{name:22} {form:22} not written: {str(error).strip().splitlines()[0][:80] if str(error).strip() else type(error).__name__}",
                        flush=True,
                    )
                    continue
                files += 1
                try:
                    told, stands_out = check(path, name, form)
                except Exception as error:
                    told, stands_out = f"FAILED: {type(error).__name__}: {str(error)[:200]}", True
                out += stands_out
                print(f"{name:22} {form:22} {'* ' if stands_out else '  '}{told}", flush=True)
            for path in folder.glob("*"):
                path.unlink()
    print(f"{out} of {files} files stand out")
    return out


if __name__ == "__main__":
    torch.set_num_threads(1)
    sys.exit(bool(main(sys.argv[1:] or list(FAMILIES))))
