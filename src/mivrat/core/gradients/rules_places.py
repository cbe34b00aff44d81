"""Rules of the derivative table for operators that move, choose or resample values at fixed places."""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
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
    emit, rank, taken = s.emit, len(s.shape(0)), len(s.shape(1))
    data, places = emit.value(s.node.input[0]), emit.value(s.node.input[1])
    g, nothing = s.g, emit.node("ConstantOfShape", emit.shape_of(data))
    order = [axis, *(a for a in range(rank) if a != axis)]
    if axis:
        nothing = emit.node("Transpose", nothing, perm=order)
        moved = [*range(axis, axis + taken), *range(axis), *range(axis + taken, rank - 1 + taken)]
        g = emit.node("Transpose", g, perm=moved)
    size, shape = s.shape(0)[axis], s.shape(0)
    at = emit.node("Cast", places, to=onnx.TensorProto.INT64)
    if s.view.opset >= 16:
        laid = emit.node("ScatterND", nothing, emit.unsqueeze(at, [taken]), g, reduction="add")
    else:
        others = [shape[a] for a in order[1:]]
        lines = emit.reshape(g, [-1, int(np.prod(others))])
        laid = emit.reshape(_added_up(s, emit.reshape(at, [-1]), lines, size), [size, *others])
    return emit.node("Transpose", laid, perm=[order.index(a) for a in range(rank)]) if axis else laid


def _added_up(s: NodeBack, places: Value, lines: Value, size: int) -> Value:
    """Lines (... x m x k) laid at their places (... x m, whole numbers) among ``size``, adding where several meet: ... x size x k. By a
    product of matrices, for versions of the operator set that cannot add where they scatter."""
    emit = s.emit
    wrapped = (places < emit.integers(0)).where(places + emit.integers(size), places)
    one = emit.node("OneHot", wrapped, emit.integers([size]), emit.floats([0.0, 1.0]), axis=-2)
    return emit.node("MatMul", one, lines)


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
    out, crops = s.g, s.attributes.get("coordinate_transformation_mode") == "tf_crop_and_resize"
    for axis, (before, after) in enumerate(zip(s.shape(0), s.out_shape, strict=True)):
        if before != after or (crops and s.view.image_axes(s.node.input[0]) != {axis}):
            out = _along(s, out, len(s.out_shape), axis, _resampling(s, before, after, axis).T)
    return out


def _resampling(s: NodeBack, before: int, after: int, axis: int) -> NDArray[np.float32]:
    """The matrix (before x after, transposed: what each output takes of each input) of one axis of a Resize or Upsample."""
    attributes = {k: v for k, v in s.attributes.items() if k not in ("axes", "keep_aspect_ratio_policy", "scales")}
    kept = _kept_scale(s)
    if kept is not None and int(before * kept) != after:
        raise NoRule("Resize that keeps proportions at a size that no scale gives")
    scales = kept or _scale_of(s, axis) or after / before
    given, constants = np.array([1.0, 1.0, scales, 1.0], np.float32), dict[str, NDArray[Any]]()
    if s.node.op_type == "Upsample" or s.view.opset < 11:
        inputs, constants = ["x", "k"], {"k": given}
    else:
        inputs, constants = ["x", "r", "k"], {"r": _cropped_to(s, axis), "k": given}
        if kept is None and _scale_of(s, axis) is None:
            sizes = np.array([before, 1, after, 1], np.int64)
            inputs, constants = ["x", "r", "e", "s"], {**constants, "e": np.zeros(0, np.float32), "s": sizes}
            del constants["k"]
    node = onnx.helper.make_node(s.node.op_type, inputs, ["y"], **attributes)
    opset = 9 if s.node.op_type == "Upsample" else s.view.opset
    units = np.eye(before, dtype=np.float32)[:, None, :, None]
    found, without = (_answer(opset, node, one, constants)[:, 0, :, 0] for one in (units, 0 * units))
    return np.asarray(found - without, np.float32)  # beyond a crop stands a number that no value has a say in


def _cropped_to(s: NodeBack, axis: int) -> NDArray[np.float32]:
    """The part of an axis that a Resize takes, as it wants it for one axis among four; empty where it takes all."""
    if s.attributes.get("coordinate_transformation_mode") != "tf_crop_and_resize":
        return np.zeros(0, np.float32)
    found = s.constant(1)
    if found is None:
        raise NoRule("Resize to a crop that depends on the image")
    axes = [a % len(s.out_shape) for a in s.attributes.get("axes", range(len(s.out_shape)))]
    first, last = (float(found[axes.index(axis) + k * len(axes)]) for k in (0, 1)) if axis in axes else (0.0, 1.0)
    return np.array([0, 0, first, 0, 1, 1, last, 1], np.float32)


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
    values = [s.emit.value(name) for name in s.node.input]
    sizes: dict[str, int] = {}
    for i, letters in enumerate(operands):
        for letter, size in zip(letters, s.shape(i), strict=True):
            sizes[letter] = max(size, sizes.get(letter, 1))
    given = list(operands)
    single: list[list[int]] = []
    for i, letters in enumerate(operands):  # an axis of one that is laid along a longer one has no letter of its own
        single.append([at for at, letter in enumerate(letters) if s.shape(i)[at] == 1 < sizes[letter]])
        given[i] = "".join(letter for at, letter in enumerate(letters) if at not in single[i])
        if single[i]:
            values[i] = s.emit.reshape(values[i], [n for at, n in enumerate(s.shape(i)) if at not in single[i]])
    free = (letter for letter in string.ascii_letters if letter not in sizes)
    diagonals: list[tuple[str, int]] = []
    for i, letters in enumerate(
        given
    ):  # a letter met again stands for a letter of its own, and both are tied to be alike
        for at in range(len(letters)):
            if letters[at] in given[i][:at]:
                other = next(free)
                diagonals.append((letters[at] + other, sizes[letters[at]]))
                given[i] = given[i][:at] + other + given[i][at + 1 :]
    ties = [s.emit.floats(np.eye(size)) for _, size in diagonals]
    out = {}
    for i in s.needed:
        others = [k for k in range(len(given)) if k != i]
        terms = [result, *(given[k] for k in others), *(pair for pair, _ in diagonals)]
        alone = set(given[i]) - set().union(*terms)
        kept = "".join(letter for letter in given[i] if letter not in alone)
        found = s.emit.node("Einsum", s.g, *(values[k] for k in others), *ties, equation=f"{','.join(terms)}->{kept}")
        if alone:  # summed over on its own: every value along it gets the same
            found = s.emit.unsqueeze(found, [at for at, letter in enumerate(given[i]) if letter in alone])
            found = s.emit.expand_like(found, values[i])
        out[i] = s.emit.reshape_like(found, s.node.input[i]) if single[i] else found
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
    leading, shape = s.attributes.get("batch_dims", 0), s.shape(0)
    if not leading and s.view.opset >= 16:
        nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[0]))
        return s.emit.node("ScatterND", nothing, s.node.input[1], s.g, reduction="add")
    depth = s.shape(1)[-1]
    chosen, rest = shape[leading : leading + depth], shape[leading + depth :]
    batches, count = int(np.prod(shape[:leading])), int(np.prod(s.shape(1)[leading:-1]))
    # Places as whole numbers among all that could be chosen, each batch by itself.
    apart = s.emit.node("Cast", s.node.input[1], to=onnx.TensorProto.INT64)
    sizes = s.emit.integers(chosen)
    apart = (apart < s.emit.integers(0)).where(apart + sizes, apart)
    steps = s.emit.integers([int(np.prod(chosen[k + 1 :])) for k in range(depth)])
    summed = s.emit.reduce_sum(apart * steps, [len(s.shape(1)) - 1], keepdims=False)
    places = s.emit.reshape(summed, [batches, count])
    lines = s.emit.reshape(s.g, [batches, count, int(np.prod(rest))])
    return s.emit.reshape_like(_added_up(s, places, lines, int(np.prod(chosen))), s.node.input[0])


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
    axis, shape = s.attributes.get("axis", 0) % len(s.out_shape), s.shape(0)
    if s.view.opset >= 16:
        nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[0]))
        return s.emit.node("ScatterElements", nothing, s.node.input[1], s.g, axis=axis, reduction="add")
    order = [*(a for a in range(len(shape)) if a != axis), axis]
    lines = int(np.prod([s.out_shape[a] for a in order[:-1]]))
    at = s.emit.node("Transpose", s.node.input[1], perm=order)
    at = s.emit.node("Cast", s.emit.reshape(at, [lines, s.out_shape[axis]]), to=onnx.TensorProto.INT64)
    g = s.emit.reshape(s.emit.node("Transpose", s.g, perm=order), [lines, s.out_shape[axis], 1])
    laid = s.emit.reshape(_added_up(s, at, g, shape[axis]), [*(s.out_shape[a] for a in order[:-1]), shape[axis]])
    back = s.emit.node("Transpose", laid, perm=[order.index(a) for a in range(len(order))])
    # Along the other axes only the first values may have been taken.
    missing = [0 if a == axis else n - m for a, (n, m) in enumerate(zip(shape, s.out_shape, strict=True))]
    return s.emit.pad(back, [0] * len(shape), missing) if any(missing) else back


def _scatter_elements(s: NodeBack) -> Gradients:
    """What is written over has no say any more; what is written gets the gradient of where it went."""
    how, axis = s.attributes.get("reduction", "none"), s.attributes.get("axis", 0)
    if how not in ("none", "add"):
        raise NoRule(f"{s.node.op_type} that takes the {how}")
    out: dict[int, Value] = {}
    for i in s.needed:
        if i == 2:
            out[2] = _applied(s, s.node.input[1], s.shape(1), axis)
        elif how == "add":
            out[0] = s.g
        else:
            nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[1]))
            out[0] = s.emit.node(s.node.op_type, s.g, s.node.input[1], nothing, axis=axis)
    return out


def _applied(s: NodeBack, places: str, shape: Sequence[int], axis: int) -> Value:
    """The gradient at some places along an axis, one for each value of a tensor of that shape."""
    emit, full = s.emit, s.out_shape
    if s.view.opset >= 11:
        return emit.node("GatherElements", s.g, places, axis=axis)
    axis %= len(full)
    g = s.g
    for a, (n, m) in enumerate(zip(full, shape, strict=True)):
        if n != m and a != axis:
            g = emit.slice(g, a, 0, m)
    order = [*(a for a in range(len(full)) if a != axis), axis]
    at = emit.node("Cast", emit.node("Transpose", places, perm=order), to=onnx.TensorProto.INT64)
    one = emit.node("OneHot", at, emit.integers([full[axis]]), emit.floats([0.0, 1.0]), axis=-1)
    lines = emit.unsqueeze(emit.node("Transpose", g, perm=order), [len(full)])
    taken = emit.reshape(emit.node("MatMul", one, lines), [shape[a] for a in order])
    return emit.node("Transpose", taken, perm=[order.index(a) for a in range(len(order))])


def _top_k(s: NodeBack) -> Gradients:
    """Each of the largest goes back to where it was taken from; no two are taken from one place."""
    axis = s.attributes.get("axis", -1) % len(s.out_shape)
    places = s.node.output[1] if len(s.node.output) > 1 and s.node.output[1] else ""
    if not places:
        raise NoRule("TopK whose places are not asked for")
    nothing = s.emit.node("ConstantOfShape", s.emit.shape_of(s.node.input[0]))
    scatter = "ScatterElements" if s.view.opset >= 11 else "Scatter"
    return s.emit.node(scatter, nothing, places, s.g, axis=axis)


def _reverse_sequence(s: NodeBack) -> Gradients:
    s.only_first()
    kept = {name: s.attributes[name] for name in ("batch_axis", "time_axis") if name in s.attributes}
    return s.emit.node("ReverseSequence", s.g, s.node.input[1], **kept)


def _dft(s: NodeBack) -> Gradients:
    """A Fourier transform is linear: its matrix, over the axis and the real and imaginary parts, is read off by transforming unit
    vectors."""
    s.only_first()
    rank = len(s.out_shape)
    if s.view.opset >= 20:
        given = s.constant(2)
        if s.has(2) and given is None:
            raise NoRule("DFT along an axis that depends on the image")
        axis = int(given.ravel()[0]) % rank if given is not None else rank - 2
    else:
        axis = s.attributes.get("axis", 1) % rank
    length = s.constant(1)
    if s.has(1) and length is None:
        raise NoRule("DFT of a length that depends on the image")
    (size, parts), (made, of_made) = ((shape[axis], shape[-1]) for shape in (s.shape(0), s.out_shape))
    kept: dict[str, Any] = {name: s.attributes[name] for name in ("inverse", "onesided") if name in s.attributes}
    held: dict[str, NDArray[Any]] = {} if length is None else {"l": length}
    if s.view.opset >= 20:
        held["a"] = np.array(1, np.int64)
    else:
        kept["axis"] = 1
    inputs = ["x", "l" if length is not None else "", *(["a"] if "a" in held else [])]
    units = np.eye(size * parts, dtype=np.float32).reshape(-1, size, parts)
    found = _answer(s.view.opset, onnx.helper.make_node("DFT", inputs, ["y"], **kept), units, held)
    matrix = found.reshape(size * parts, made * of_made)
    order = [*(a for a in range(rank - 1) if a != axis), axis, rank - 1]
    others = [s.shape(0)[a] for a in order[:-2]]
    g = s.emit.reshape(s.emit.node("Transpose", s.g, perm=order), [*others, made * of_made])
    back = s.emit.reshape(s.emit.node("MatMul", g, s.emit.floats(matrix.T)), [*others, size, parts])
    return s.emit.node("Transpose", back, perm=[order.index(a) for a in range(rank)])


def _roi_align(s: NodeBack) -> Gradients:
    """Of regions that no image changes the mean over each cell is linear: its matrix is read off by taking the regions of pictures
    with one bright point."""
    s.only_first()
    regions, images = s.constant(1), s.constant(2)
    if regions is None or images is None or s.attributes.get("mode", "avg") != "avg":
        raise NoRule("RoiAlign of regions that depend on the image, or of their maximum")
    count, channels, height, width = s.shape(0)
    points = height * width
    held = {"r": regions, "i": np.zeros(len(regions), np.int64)}
    node = onnx.helper.make_node("RoiAlign", ["x", "r", "i"], ["y"], **s.attributes)
    found = _answer(s.view.opset, node, np.eye(points, dtype=np.float32).reshape(1, points, height, width), held)
    lines = s.emit.reshape(s.g, [len(regions), channels, found.shape[2] * found.shape[3]])
    laid = s.emit.node("MatMul", lines, s.emit.floats(found.reshape(len(regions), points, -1).swapaxes(1, 2)))
    owners = np.zeros((count, len(regions)), np.float32)
    owners[images.astype(int), np.arange(len(regions))] = 1
    apart = s.emit.reshape(laid, [len(regions), channels * points])
    return s.emit.reshape_like(s.emit.node("MatMul", s.emit.floats(owners), apart), s.node.input[0])


def _answer(
    opset: int, node: onnx.NodeProto, x: NDArray[np.float32], held: Mapping[str, NDArray[Any]]
) -> NDArray[np.float32]:
    """What one operator makes of "x", its other operands being constants."""
    ports = [
        [onnx.helper.make_tensor_value_info(name, onnx.TensorProto.FLOAT, shape)]
        for name, shape in (("x", x.shape), ("y", None))
    ]
    constants = [onnx.numpy_helper.from_array(np.asarray(value), name) for name, value in held.items()]
    made = onnx.helper.make_model(
        onnx.helper.make_graph([node], "alone", *ports, constants),
        opset_imports=[onnx.helper.make_opsetid("", opset)],
    )
    made.ir_version = 8
    return np.asarray(run_session(new_session(made.SerializeToString()), None, {"x": x})[0], np.float32)


PLACES: dict[str, Rule] = {
    "Slice": _slice,
    "Pad": _pad,
    "Gather": _gather,
    "GatherND": _gather_nd,
    "GatherElements": _gather_elements,
    "ScatterND": _scatter_nd,
    "ScatterElements": _scatter_elements,
    "Scatter": _scatter_elements,
    "TopK": _top_k,
    "DFT": _dft,
    "RoiAlign": _roi_align,
    "ReverseSequence": _reverse_sequence,
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
