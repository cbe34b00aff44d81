"""Proves the reverse pass on networks of full size: exports thirty-odd of random weights in two ways, with the batch free and fixed, and
some of them quantised; compares every layer's gradient to that of a second way in float64 (``second_gradients``).

    python tools/full_range.py [NAME ...]      a line for each file; exit code 1 where something stands out

Needs the extra ``tools`` (PyTorch) and onnxscript; neither is part of what users install. Takes about half an hour.
"""

from __future__ import annotations

import logging
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import torch
from numpy.typing import NDArray

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "tools")]

from exporting import export  # noqa: E402
from full_networks import CLASSES, NETWORKS, SIDE, built  # noqa: E402
from quantising import quantise  # noqa: E402
from second_gradients import gradients  # noqa: E402

from mivrat.core.heatmaps import maps  # noqa: E402
from mivrat.core.heatmaps.maps import HeatmapMaker, Target  # noqa: E402
from mivrat.core.models.engine import new_session  # noqa: E402
from mivrat.core.models.onnx_model import OnnxModel  # noqa: E402
from mivrat.core.pictures.recipe import Recipe, Resize, Values  # noqa: E402

WITHIN = 1e-5
# At a unit that single precision puts on the other side of a kink (a ReLU within 1e-6 of zero, a maximum shared, the end of a scale)
# the two ways go apart, and a little in what lies before it: so many of a layer's units may.
MOST_APART = 0.005
# How each is written: exporter, batch (None: free), opset.
WAYS = (("traced", None, 17), ("captured", None, 18), ("traced", 1, 13), ("captured", 1, 20))
QUANTISED = ("qdq-8", "operators-8", "qdq-16", "dynamic")
TO_QUANTISE = (
    "residual-18",
    "mobile-2",
    "mobile-3",
    "inception",
    "tokens",
    "large-kernel-7",
    "dense-small",
    "reparameterised",
)


def pictures(images: int, seed: int = 5) -> NDArray[np.float32]:
    """Smooth random images, so that maps have shapes."""
    coarse = np.random.default_rng(seed).normal(size=(images, 3, 14, 14)).astype(np.float32)
    return torch.nn.functional.interpolate(torch.from_numpy(coarse), size=(SIDE, SIDE), mode="bicubic").numpy()


def steps_of(maker: HeatmapMaker, batch: NDArray[np.float32]) -> dict[str, NDArray[Any]]:
    """The whole numbers that the engine rounds to in a quantised network."""
    names = [node.output[0] for node in maker.view.nodes if node.op_type in ("QuantizeLinear", "DynamicQuantizeLinear")]
    if not names:
        return {}
    model = onnx.ModelProto()
    model.CopyFrom(maker.view.proto)
    del model.graph.output[:]
    model.graph.output.extend(onnx.ValueInfoProto(name=name) for name in names)
    session = new_session(model.SerializeToString(), as_written=True)
    return dict(zip(names, session.run(names, {maker.view.input: batch}), strict=True))


def check(path: Path) -> tuple[str, bool]:
    """What there is to say of a file, and whether something stands out."""
    recipe = Recipe(
        resize=Resize(rule="stretch", size=(SIDE, SIDE)), values=Values(scale=1 / 255, mean=(0.5,), std=(0.25,))
    )
    began = time.monotonic()
    maker = HeatmapMaker(OnnxModel(path, recipe, CLASSES))
    # Integer kernels that the engine puts in place of what is written come to another step now and then, and what a step decides then
    # differs: a quantised network is run as it is written.
    maps.new_session = partial(new_session, as_written=True) if maker.view.quantised else new_session
    read = time.monotonic() - began
    batch, target = pictures(1), 3
    layers = [one for one in maker.layers if one.heatmap]
    if not layers:
        return "NO LAYER WITH A MAP", True
    default = maker.layer(None)
    steps = steps_of(maker, batch)
    values, exact = gradients(maker.view.proto, batch, maker.view.logits, [target], steps=steps)
    single = gradients(maker.view.proto, batch, maker.view.logits, [target], torch.float32, steps)[1]
    forward = float(
        np.abs(values[maker.view.logits].ravel() - maker.model.scores(batch).ravel()).max()
        / max(1e-9, np.abs(values[maker.view.logits]).max())
    )
    worst, worst_single, most_apart, where, beyond, missing = 0.0, 0.0, 0.0, "", 0, []
    for start in range(0, len(layers), 24):
        some = layers[start : start + 24]
        first = [lambda values, k=layer.image_axis: np.moveaxis(values, k, 0) for layer in some for _ in range(2)]
        arrays = maker._run(batch, [Target(target)], some, None, first)
        for layer, moved in zip(some, arrays[1::2], strict=True):
            found = np.moveaxis(moved, 0, layer.image_axis)
            if layer.tensor not in exact:
                missing.append(layer.tensor)
                continue
            truth = exact[layer.tensor]
            peak = float(np.abs(truth).max())
            error = float(np.abs(found - truth).max()) / peak if peak else float(np.abs(found).max())
            # What single precision does by itself, in the second way.
            by_rounding = float(np.abs(single[layer.tensor] - truth).max()) / peak if peak else 0.0
            worst_single = max(worst_single, by_rounding)
            apart = float((np.abs(found - truth) > WITHIN * peak).mean()) if peak else 0.0
            most_apart = max(most_apart, apart)
            beyond += error > max(WITHIN, 4 * by_rounding) and apart > MOST_APART
            if error > worst:
                worst, where = error, layer.tensor
    grids = [one.grid for one in layers if one.grid[0] * one.grid[1] > 1]
    last = min(a * b for a, b in grids) if grids else 1
    not_last = default.grid[0] * default.grid[1] != last
    reasons = sorted({one.reason[:60] for one in maker.layers if not one.heatmap and one.reason})
    stands_out = bool(beyond or missing or not_last)
    apart_told = f", at most {100 * most_apart:.2g} % of units apart" if most_apart else ""
    told = f"{len(layers):3} layers (of {len(maker.layers)}), worst {worst:.1e} (single precision by itself {worst_single:.1e}){apart_told}, scores {forward:.0e}, default {default.grid[0]}x{default.grid[1]}, {read:.1f} s"
    told += f"  BEYOND: {beyond}, worst at {where}" if beyond else ""
    told += f"  not in the second way: {missing[:3]}" if missing else ""
    told += "  THE DEFAULT IS NOT OF THE LAST STAGE" if not_last else ""
    return told + (f"  [{'; '.join(reasons[:2])}]" if reasons else ""), stands_out


def main(names: list[str]) -> int:
    """Check the whole range; the number of files in which something stands out."""
    logging.disable(logging.WARNING)
    out = 0
    with tempfile.TemporaryDirectory() as folder:
        for name in names:
            made = built(name)
            for exporter, fixed, opset in WAYS:
                path = Path(folder) / f"{name}.{exporter}.{fixed or 'n'}.{opset}.onnx"
                out += _one(path, partial(export, made, path, exporter, fixed, opset, SIDE))
            if name in TO_QUANTISE:
                samples = [{"image": pictures(1, seed)} for seed in range(4)]
                source = Path(folder) / f"{name}.traced.n.17.onnx"
                for how in QUANTISED:
                    path = Path(folder) / f"{name}.{how}.onnx"
                    out += _one(path, partial(quantise, source, path, how, samples))
            for path in Path(folder).glob("*"):
                path.unlink()
    print(f"{out} stand out")
    return out


def _one(path: Path, write: Callable[[], None]) -> bool:
    try:
        write()
    except Exception as error:
        print(f"{path.stem:42} not written: {str(error).splitlines()[0][:100]}", flush=True)
        return False
    try:
        told, stands_out = check(path)
    except Exception as error:
        told, stands_out = f"FAILED: {type(error).__name__}: {str(error)[:200]}", True
    print(f"{path.stem:42} {told}", flush=True)
    return stands_out


if __name__ == "__main__":
    sys.exit(bool(main(sys.argv[1:] or list(NETWORKS))))
