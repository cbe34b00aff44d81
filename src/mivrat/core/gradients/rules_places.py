"""Rules of the derivative table for operators that move, choose or resample values at fixed places."""

from __future__ import annotations

import string
from collections.abc import Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from mivrat.core.gradients.emit import Value
from mivrat.core.gradients.node import Gradients, NodeBack, NoRule, Rule, settled
from mivrat.core.models.engine import new_session, run_session


def _along(s: NodeBack, value: Value, rank: int, axis: int, matrix: NDArray[Any]) -> Value:
    """Multiply along one axis: an axis of m values becomes one of n, by a matrix m x n."""
    order = [*(a for a in range(rank) if a != axis), axis]
    turned = s.emit.node("Transpose", value, perm=order) if axis != rank - 1 else value
    product = s.emit.node("MatMul", turned, s.emit.floats(matrix))
    return (
        s.emit.node("Transpose", product, perm=[order.index(a) for a in range(rank)]) if axis != rank - 1 else product
    )


def _placed(places: Sequence[int], size: int) -> NDArray[np.float32]:
    """The matrix that puts each of m values at its place among ``size`` (below 0: nowhere), adding where they meet."""
    found = np.zeros((len(places), size), np.float32)
    for i, place in enumerate(places):
        if place >= 0:
            found[i, place] = 1.0
    return found


def _slice(s: NodeBack) -> Gradients:
    s.only_first()
    shape = s.shape(0)
    starts, ends = settled(s, "starts", 1) or [], settled(s, "ends", 2) or []
    axes, steps = settled(s, "axes", 3) or list(range(len(starts))), settled(s, "steps", 4) or [1] * len(starts)
    before, after, out = [0] * len(shape), [0] * len(shape), s.g
    for start, end, axis, step in zip(starts, ends, axes, steps, strict=True):
        size = shape[axis]
        taken = range(size)[slice(start, None if end < -size else end, step)]
        if step == 1:
            before[axis], after[axis] = taken.start, size - taken.stop
        else:
            out = _along(s, out, len(shape), axis % len(shape), _placed(taken, size))
    return s.emit.pad(out, before, after) if any(before) or any(after) else out


def _pad(s: NodeBack) -> Gradients:
    s.only_first()
    shape, pads = s.shape(0), settled(s, "pads", 1) or []
    axes = settled(s, "axes", 3) or list(range(len(shape)))
    mode, out = s.attributes.get("mode", "constant"), s.g
    for i, axis in enumerate(axes):
        before, after, size = pads[i], pads[i + len(axes)], shape[axis]
        if mode == "constant" and before >= 0 and after >= 0:
            if before or after:
                out = s.emit.slice(out, axis, before, before + size)
            continue
        if not before and not after:
            continue
        given = {"constant_values": -1} if mode == "constant" else {}
        kept = np.arange(size)[max(0, -before) : size - max(0, -after)]  # what is cut off is cut off first
        places = np.pad(kept, (max(0, before), max(0, after)), mode, **given)
        out = _along(s, out, len(shape), axis % len(shape), _placed(places.tolist(), size))
    return out


def _gather(s: NodeBack) -> Gradients:
    s.only_first()
    shape, indices = s.shape(0), s.constant(1)
    axis = s.attributes.get("axis", 0) % len(shape)
    if indices is None:
        return _gathered_anywhere(s, axis)
    places = indices.astype(np.int64).ravel() % shape[axis]
    g = s.emit.unsqueeze(s.g, [axis]) if indices.ndim == 0 else s.g
    if indices.ndim > 1:
        g = s.emit.reshape(g, [*shape[:axis], len(places), *shape[axis + 1 :]])
    if np.array_equal(places, np.arange(places[0], places[0] + len(places))):
        before, after = [0] * len(shape), [0] * len(shape)
        before[axis], after[axis] = int(places[0]), shape[axis] - len(places) - int(places[0])
        return s.emit.pad(g, before, after)
    return _along(s, g, len(shape), axis, _placed(places.tolist(), shape[axis]))


def _gathered_anywhere(s: NodeBack, axis: int) -> Gradients:
    """Of a Gather whose places are known only when it runs, such as those worked out from the number of images: what was taken
    goes back to where it was taken from, adding where several were taken from one place."""
    if s.view.opset < 16:
        raise NoRule("Gather over the images of a batch before operator-set version 16")
    emit, rank, taken = s.emit, len(s.shape(0)), len(s.shape(1))
    data, places = emit.value(s.node.input[0]), emit.value(s.node.input[1])
    g, nothing = s.g, emit.node("ConstantOfShape", emit.shape_of(data))
    order = [axis, *(a for a in range(rank) if a != axis)]
    if axis:
        nothing = emit.node("Transpose", nothing, perm=order)
        moved = [*range(axis, axis + taken), *range(axis), *range(axis + taken, rank - 1 + taken)]
        g = emit.node("Transpose", g, perm=moved)
    at = emit.unsqueeze(emit.node("Cast", places, to=onnx.TensorProto.INT64), [taken])
    laid = emit.node("ScatterND", nothing, at, g, reduction="add")
    return emit.node("Transpose", laid, perm=[order.index(a) for a in range(rank)]) if axis else laid


def _expand(s: NodeBack) -> Gradients:
    s.only_first()
    return s.emit.unbroadcast(s.g, s.out_shape, s.node.input[0], s.shape(0))


def _tile(s: NodeBack) -> Gradients:
    s.only_first()
    shape, times = s.shape(0), settled(s, "repeats", 1) or []
    apart = [part for size, n in zip(shape, times, strict=True) for part in (n, size)]
    repeated = list(range(0, len(apart), 2))
    return s.emit.reshape_like(s.emit.reduce_sum(s.emit.reshape(s.g, apart), repeated), s.node.input[0])


def _where(s: NodeBack) -> Gradients:
    if 0 in s.needed:
        raise NoRule("Where with a condition that is a float")
    condition = s.emit.value(s.node.input[0])
    parts = {1: (s.g, 0.0), 2: (0.0, s.g)}
    out = {}
    for i in s.needed:
        true, false = (v if isinstance(v, Value) else s.emit.floats(v) for v in parts[i])
        kept = s.emit.node("Where", condition, true, false)
        out[i] = s.emit.unbroadcast(kept, s.out_shape, s.node.input[i], s.shape(i))
    return out


def same(s: NodeBack, one: Value, other: Value) -> Value:
    """1 where two floats are equal, else 0; in every operator-set version."""
    return 1.0 - s.emit.node("Sign", s.emit.node("Abs", one - other))


def _extreme(s: NodeBack) -> Gradients:
    """The gradient of Min and Max goes to the operands that are the extreme, in equal parts where several are."""
    masks = [same(s, s.emit.value(name), s.y) for name in s.node.input]
    share = s.g / (s.emit.node("Sum", *masks) if len(masks) > 1 else masks[0])
    return {i: s.emit.unbroadcast(share * masks[i], s.out_shape, s.node.input[i], s.shape(i)) for i in s.needed}


def _mean(s: NodeBack) -> Gradients:
    share = s.g * (1.0 / len(s.node.input))
    return {i: s.emit.unbroadcast(share, s.out_shape, s.node.input[i], s.shape(i)) for i in s.needed}


def _depth_to_space(s: NodeBack) -> Gradients:
    size = s.attributes["blocksize"]
    if s.attributes.get("mode", "DCR") == "DCR":
        return s.emit.node("SpaceToDepth", s.g, blocksize=size)
    _, channels, height, width = s.shape(0)
    apart = s.emit.reshape(s.g, [0, channels // size**2, height, size, width, size])
    return s.emit.reshape_like(s.emit.node("Transpose", apart, perm=[0, 1, 3, 5, 2, 4]), s.node.input[0])


def _resize(s: NodeBack) -> Gradients:
    """Resampling is linear and works axis by axis: each axis' matrix is read off by resampling unit vectors."""
    s.only_first()
    if s.attributes.get("coordinate_transformation_mode") == "tf_crop_and_resize":
        raise NoRule("Resize that crops")
    out = s.g
    for axis, (before, after) in enumerate(zip(s.shape(0), s.out_shape, strict=True)):
        if before != after:
            out = _along(s, out, len(s.out_shape), axis, _resampling(s, before, after, axis).T)
    return out


def _resampling(s: NodeBack, before: int, after: int, axis: int) -> NDArray[np.float32]:
    """The matrix (before x after, transposed: what each output takes of each input) of one axis of a Resize or Upsample."""
    attributes = {k: v for k, v in s.attributes.items() if k not in ("axes", "keep_aspect_ratio_policy", "scales")}
    port = onnx.helper.make_tensor_value_info
    ports = [port("x", onnx.TensorProto.FLOAT, [before, 1, before, 1])], [port("y", onnx.TensorProto.FLOAT, None)]
    kept = _kept_scale(s)
    if kept is not None and int(before * kept) != after:
        raise NoRule("Resize that keeps proportions at a size that no scale gives")
    scales = kept or _scale_of(s, axis) or after / before
    given, constants = np.array([1.0, 1.0, scales, 1.0], np.float32), dict[str, NDArray[Any]]()
    if s.node.op_type == "Upsample" or s.view.opset < 11:
        inputs, constants = ["x", "k"], {"k": given}
        if s.view.opset < 9:
            raise NoRule(f"{s.node.op_type} of this operator-set version")
    elif kept is not None or _scale_of(s, axis) is not None:
        inputs, constants = ["x", "r", "k"], {"r": np.zeros(0, np.float32), "k": given}
    else:
        sizes = np.array([before, 1, after, 1], np.int64)
        inputs, constants = (
            ["x", "r", "e", "k"],
            {"r": np.zeros(0, np.float32), "e": np.zeros(0, np.float32), "k": sizes},
        )
    node = onnx.helper.make_node(s.node.op_type, inputs, ["y"], **attributes)
    held = [onnx.numpy_helper.from_array(value, name) for name, value in constants.items()]
    opset = 9 if s.node.op_type == "Upsample" else s.view.opset
    made = onnx.helper.make_model(
        onnx.helper.make_graph([node], "resampling", *ports, held), opset_imports=[onnx.helper.make_opsetid("", opset)]
    )
    made.ir_version = 8
    eye = np.eye(before, dtype=np.float32)[:, None, :, None]
    (found,) = run_session(new_session(made.SerializeToString()), None, {"x": eye})
    return np.asarray(found[:, 0, :, 0], np.float32)


def _kept_scale(s: NodeBack) -> float | None:
    """The one scale of all axes of a Resize to sizes that keeps proportions; None for another one."""
    policy = s.attributes.get("keep_aspect_ratio_policy", "stretch")
    sizes = settled(s, "sizes", 3) if policy != "stretch" else None
    if not sizes:
        return None
    axes = s.attributes.get("axes", range(len(s.out_shape)))
    ratios = [size / s.shape(0)[axis] for size, axis in zip(sizes, axes, strict=True)]
    return float(min(ratios) if policy == "not_larger" else max(ratios))


def _scale_of(s: NodeBack, axis: int) -> float | None:
    """The scale given for an axis; None where sizes are given instead."""
    if "scales" in s.attributes:
        return float(s.attributes["scales"][axis])
    position = 2 if s.node.op_type == "Resize" and s.view.opset >= 11 else 1
    found = s.constant(position)
    if found is None or not found.size:
        return None
    axes = [a % len(s.out_shape) for a in s.attributes.get("axes", range(len(s.out_shape)))]
    return float(found[axes.index(axis)]) if axis in axes else 1.0


def _einsum(s: NodeBack) -> Gradients:
    operands, result = _spelled_out(s)
    if any(len(set(one)) != len(one) for one in [*operands, result]):
        raise NoRule(f"Einsum {s.attributes['equation']}, which takes a diagonal")
    sizes: dict[str, int] = {}
    for i, letters in enumerate(operands):
        for letter, size in zip(letters, s.shape(i), strict=True):
            if sizes.setdefault(letter, size) != size:
                raise NoRule(f"Einsum {s.attributes['equation']}, which broadcasts an axis")
    out = {}
    for i in s.needed:
        others = [k for k in range(len(operands)) if k != i]
        alone = set(operands[i]) - set(result).union(*(operands[k] for k in others))
        given = "".join(letter for letter in operands[i] if letter not in alone)
        terms = ",".join([result, *(operands[k] for k in others)])
        values = [s.emit.value(s.node.input[k]) for k in others]
        found = s.emit.node("Einsum", s.g, *values, equation=f"{terms}->{given}")
        if alone:  # summed over on its own: every value along it gets the same
            found = s.emit.unsqueeze(found, [at for at, letter in enumerate(operands[i]) if letter in alone])
            found = s.emit.expand_like(found, s.node.input[i])
        out[i] = found
    return out


def _spelled_out(s: NodeBack) -> tuple[list[str], str]:
    """The operands and the result of an Einsum with a letter for each axis: ellipses and a missing result written out."""
    left, arrow, result = s.attributes["equation"].replace(" ", "").partition("->")
    operands = left.split(",")
    if not arrow:
        letters = left.replace(",", "").replace(".", "")
        result = ("..." if "..." in left else "") + "".join(sorted(a for a in letters if letters.count(a) == 1))
    free = [letter for letter in string.ascii_letters if letter not in left + result]
    ranks = [len(s.shape(i)) - len(one.replace("...", "")) for i, one in enumerate(operands) if "..." in one]
    most = max(ranks, default=0)
    axes = "".join(free[:most])
    for i, one in enumerate(operands):
        rank = len(s.shape(i)) - len(one.replace("...", ""))
        operands[i] = one.replace("...", axes[most - rank :] if rank else "")
    return operands, result.replace("...", axes)


def _gather_nd(s: NodeBack) -> Gradients:
    """Every value goes back to where it was taken from, adding where several were taken from one place."""
    s.only_first()
    leading, shape, indices = s.attributes.get("batch_dims", 0), s.shape(0), s.constant(1)
    if not leading and s.view.opset >= 16:
        nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[0]))
        return s.emit.node("ScatterND", nothing, s.node.input[1], s.g, reduction="add")
    if indices is None:
        raise NoRule("GatherND at places that depend on the image or on the number of images")
    if not leading:
        raise NoRule("GatherND before operator-set version 16")
    each = indices.reshape(-1, *indices.shape[leading:])
    if not (each == each[0]).all():
        raise NoRule("GatherND at other places for each image")
    depth = indices.shape[-1]
    chosen = shape[leading : leading + depth]
    wrapped = tuple(column % size for column, size in zip(each[0].reshape(-1, depth).T, chosen, strict=True))
    places = np.ravel_multi_index(wrapped, chosen)
    apart = s.emit.reshape(s.g, [0] * leading + [len(places), *shape[leading + depth :]])
    rank = leading + 1 + len(shape[leading + depth :])
    laid = _along(s, apart, rank, leading, _placed(places.tolist(), int(np.prod(chosen))))
    return s.emit.reshape_like(laid, s.node.input[0])


def _scatter_nd(s: NodeBack) -> Gradients:
    """What is written over has no say any more; what is written gets the gradient of where it went."""
    how = s.attributes.get("reduction", "none")
    if how not in ("none", "add"):
        raise NoRule(f"ScatterND that takes the {how}")
    out: dict[int, Value] = {}
    for i in s.needed:
        if i == 2:
            out[2] = s.emit.node("GatherND", s.g, s.node.input[1])
        elif how == "add":
            out[0] = s.g
        else:
            nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[2]))
            out[0] = s.emit.node("ScatterND", s.g, s.node.input[1], nothing)
    return out


def _gather_elements(s: NodeBack) -> Gradients:
    s.only_first()
    if s.view.opset < 16:
        raise NoRule("GatherElements before operator-set version 16")
    nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[0]))
    return s.emit.node(
        "ScatterElements", nothing, s.node.input[1], s.g, axis=s.attributes.get("axis", 0), reduction="add"
    )


PLACES: dict[str, Rule] = {
    "Slice": _slice,
    "Pad": _pad,
    "Gather": _gather,
    "GatherND": _gather_nd,
    "GatherElements": _gather_elements,
    "ScatterND": _scatter_nd,
    "Expand": _expand,
    "Tile": _tile,
    "Where": _where,
    "Min": _extreme,
    "Max": _extreme,
    "Mean": _mean,
    "DepthToSpace": _depth_to_space,
    "SpaceToDepth": lambda s: s.emit.node("DepthToSpace", s.g, blocksize=s.attributes["blocksize"]),
    "Resize": _resize,
    "Upsample": _resize,
    "Einsum": _einsum,
}
