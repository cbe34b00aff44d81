"""A model's graph made ready for differentiation: float32, functions inlined, every tensor's shape known."""

from __future__ import annotations

import contextlib
import copy
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import AttributeProto, TensorProto, helper, inliner, numpy_helper

from mivrat.core.base.errors import InputError
from mivrat.core.gradients.plain_fused import write_out_fused
from mivrat.core.gradients.plain_grid_sample import write_out_grid_samples
from mivrat.core.gradients.plain_pools import write_out_rounded_up_pools
from mivrat.core.gradients.plain_quantised import write_out_quantised
from mivrat.core.gradients.plain_recurrent import write_out_recurrent
from mivrat.core.gradients.plain_versions import lift
from mivrat.core.models.bounds import values_stay_small, without_weights
from mivrat.core.models.engine import EngineFault, new_session, run_session, short_reason
from mivrat.core.models.onnx_model import OnnxModel, opset_of
from mivrat.core.models.operators import Trait, has

_TO_FLOAT = {TensorProto.FLOAT16, TensorProto.BFLOAT16, TensorProto.DOUBLE}
# What quantised values are kept in.
_LEVELS = (np.int8, np.uint8, np.int16, np.uint16)
_SHAPE = {"Shape", "Size"}
Kinds = dict[str, "np.dtype[Any] | None"]
Shapes = dict[str, tuple[int, ...]]
# Values of tensors, shapes of others, and the kinds of numbers all of them hold.
Found = tuple[dict[str, NDArray[Any]], Shapes, Kinds]
Ask = Callable[[], Found]


def _rounds_up(node: onnx.NodeProto) -> bool:
    """Whether a pooling's number of windows is rounded up, of which engine and standard have different accounts."""
    return any(one.name == "ceil_mode" and one.i for one in node.attribute)


def _shape_told(node: onnx.NodeProto, shape: tuple[int, ...]) -> NDArray[np.int64]:
    """What a Shape or Size tells of a tensor."""
    about = attributes_of(node)
    if node.op_type == "Size":
        return np.array(np.prod(shape, dtype=np.int64), np.int64)
    return np.array(shape[about.get("start", 0) : about.get("end")], np.int64)


def _float32_model(model: onnx.ModelProto) -> None:
    """Turn half, bfloat and double precision into single, in place: gradients in half precision would lose small terms."""

    def turned(tensor: onnx.TensorProto) -> None:
        if tensor.data_type in _TO_FLOAT:
            tensor.CopyFrom(numpy_helper.from_array(numpy_helper.to_array(tensor).astype(np.float32), tensor.name))

    def graph(g: onnx.GraphProto) -> None:
        for tensor in g.initializer:
            turned(tensor)
        for value in [*g.input, *g.output, *g.value_info]:
            if value.type.tensor_type.elem_type in _TO_FLOAT:
                value.type.tensor_type.elem_type = TensorProto.FLOAT
        for node in g.node:
            for attribute in node.attribute:
                if attribute.type == AttributeProto.TENSOR:
                    turned(attribute.t)
                elif attribute.type == AttributeProto.GRAPH:
                    graph(attribute.g)
                elif node.op_type == "Cast" and attribute.name == "to" and attribute.i in _TO_FLOAT:
                    attribute.i = TensorProto.FLOAT

    graph(model.graph)


class GraphView:
    """The graph with what differentiation asks of it.

    ``shapes`` and ``values`` are those of a sample batch (two images where the model's batch is free), by the standard's rules or
    off a run, so that shape arithmetic of any kind is settled; ``values`` holds what does not depend on the image, ``shape_values``
    what follows from shapes, as it is for that batch. ``image_axes`` tells along which axes of a tensor its images lie, which
    are those that grow with their number: with windows cut out of images, or tokens before images, that need not be the first.
    """

    def __init__(self, model: OnnxModel, sides: tuple[int, int] | None = None, *, tried: bool = False) -> None:
        """``sides``: height and width of the images to follow it with, where model and recipe leave them free. Following it
        makes every tensor, which is tried in a process of its own first where it may be much; ``tried`` leaves that out."""
        if not tried:
            model.try_first(tensors=True, sides=sides)
        self.where = model.path
        self.input = model.input.name
        # What tensors are called in the file; others come from functions and branches written out in place.
        self.in_file = {name for node in model.proto.graph.node for name in node.output} | {self.input}
        proto = _what_leads_to(model.proto, model.output.name)
        if len(proto.functions):
            proto = inliner.inline_local_functions(proto)
        _float32_model(proto)
        lift(proto)
        self.proto = proto
        self.opset = opset_of(proto)
        self.batch = model.batch_limit or 2
        # How many each of a tensor's axes gains with one image more.
        self._growth: dict[str, tuple[int, ...]] = {}
        dtype = np.uint8 if model.recipe.tensor.dtype == "uint8" else np.float32
        rng = np.random.default_rng(0)

        # Batches to follow it with: one, and where their size is free one with an image more.
        self._batches = [
            rng.uniform(0, 1, model.sample_shape(images, sides)).astype(dtype)
            for images in ([self.batch] if model.batch_limit else [self.batch, self.batch + 1])
        ]
        write_out_quantised(proto.graph, self.opset)
        self._read()
        for write_out in (write_out_fused, write_out_rounded_up_pools):
            if write_out(proto.graph, self.opset, self.shapes):
                self._read()
        while _take_branches(proto.graph, self.values):
            self._read()
        for write_out in (write_out_recurrent, write_out_grid_samples):
            if write_out(proto.graph, self.opset, self.shapes):
                self._read()
        del self._batches
        self.logits = self._find_logits(model.output.name)
        self.leading = self._ancestors([self.logits])
        self.channel_axis = self._channel_axes(1 if model.recipe.tensor.order == "NCHW" else 3)

    def _read(self) -> None:
        """Read nodes, shapes and values off the graph as it is."""
        graph = self.proto.graph
        self.nodes = list(graph.node)
        self.producer = {name: node for node in self.nodes for name in node.output if name}
        self.depends = self._descendants([self.input])
        self.values: dict[str, NDArray[Any]] = {
            t.name: numpy_helper.to_array(t) for t in graph.initializer if t.data_type != TensorProto.STRING
        }
        self.dtypes: dict[str, np.dtype[Any]] = {}
        self.shapes: dict[str, tuple[int, ...]] = {name: value.shape for name, value in self.values.items()}
        self._record()

    def _descendants(self, names: Iterable[str]) -> set[str]:
        """What depends on the value of any of the tensors; a shape does not."""
        found = set(names)
        for node in self.nodes:
            if node.op_type not in _SHAPE and (set(node.input) | outer_names(node)) & found:
                found.update(name for name in node.output if name)
        return found

    def _ancestors(self, names: Iterable[str]) -> set[str]:
        """What the values of the tensors depend on; of what only lends its shape they do not."""
        found = set(names)
        for node in reversed(self.nodes):
            if node.op_type not in _SHAPE and found & set(node.output):
                found.update(name for name in node.input if name)
                found |= outer_names(node)
        return found

    def between(self, layers: Iterable[str]) -> set[str]:
        """Float tensors through which the logits depend on any of the layers, those and the logits included."""
        return {name for name in self._descendants(layers) & self.leading if self.carries(name)}

    def is_float(self, name: str) -> bool:
        return self.dtypes.get(name) == np.float32

    def carries(self, name: str) -> bool:
        """Whether a gradient can be taken along a tensor: a float, one rounded to the levels of a quantised model, or whole numbers
        between floats (which a rule then refuses: silently they would have none)."""
        return self.is_float(name) or (
            name in self.depends and (self.dtypes.get(name) in _LEVELS or self._is_rounded(name))
        )

    def _is_rounded(self, name: str) -> bool:
        """Whether a float is turned into whole numbers here and these into a float again."""
        made = self.producer.get(name)
        if made is None or made.op_type != "Cast" or not self.is_float(made.input[0]):
            return False
        return any(
            node.op_type == "Cast" and name in node.input and self.is_float(node.output[0]) for node in self.nodes
        )

    @property
    def quantised(self) -> bool:
        """Whether values are rounded to few levels on the way from the image to the scores."""
        return any(
            node.op_type in ("QuantizeLinear", "DynamicQuantizeLinear") and node.input[0] in self.depends
            for node in self.nodes
        )

    def _record(self) -> None:
        """Shapes and kinds of all tensors, how their axes grow with the number of images, and the values of those that no image
        changes. Shapes are those that the standard's rules give, where these leave none open; else they are read off a run, of which
        no tensor that an image changes is brought out, so that the engine may use its memory over and over."""
        batch = self._batches[0]
        made = [name for node in self.nodes for name in node.output if name]
        settled = {name for name in made if name not in self.depends}
        asked = self._read_of(settled)
        asks = self._by_rules(made, settled, asked) or self._by_running(made, settled, asked)
        found, shapes, kinds = asks[0]()
        for name, value in found.items():
            self.shapes[name], self.dtypes[name] = value.shape, value.dtype
        for name, shape in shapes.items():
            self.shapes[name], self.dtypes[name] = shape, kinds[name]  # type: ignore[assignment]
        self.shapes[self.input], self.dtypes[self.input] = batch.shape, batch.dtype
        settled &= set(found)
        of_shape = settled & self._descendants(
            out for node in self.nodes if node.op_type in _SHAPE for out in node.output
        )
        self._growth = {}
        if len(asks) > 1:
            # A graph that calls its batch free may still take no other number; then it is taken as fixed.
            with contextlib.suppress(InputError):
                again, longer, _ = asks[1]()
                longer |= {name: value.shape for name, value in again.items()}
                longer[self.input] = self._batches[1].shape
                for name, shape in longer.items():
                    if len(shape) == len(self.shapes[name]):
                        self._growth[name] = tuple(b - a for a, b in zip(self.shapes[name], shape, strict=True))
                # What changes with the number of images is no constant.
                settled -= {n for n in of_shape if n not in again or not np.array_equal(again[n], found[n])}
        self.shape_values = {name: found[name] for name in of_shape}
        self.values.update((name, found[name]) for name in settled)

    def _read_of(self, settled: set[str]) -> set[str]:
        """What is asked of the tensors that no image changes: not each step of working out a size, but what something that an image
        changes reads, and the constants as they stand in the file."""
        asked = {out for node in self.nodes if node.op_type in ("Constant", *_SHAPE) for out in node.output}
        for node in self.nodes:
            inner = outer_names(node)
            if inner or node.op_type == "If" or not settled.issuperset(name for name in node.output if name):
                asked.update(node.input, inner)
        return asked & settled

    def _inferred(self, shape: Sequence[int], *, values: bool) -> tuple[Kinds, Shapes]:
        """What numbers each tensor holds (None for what is no tensor), and how large it is, as far as the standard's rules tell;
        ``values``: they may look at constants to tell sizes."""
        slim = without_weights(self.proto, self.input, shape)
        del slim.graph.output[:]  # what is said of them holds for the graph as it was
        try:
            inferred = onnx.shape_inference.infer_shapes(slim, data_prop=values).graph
        except Exception:  # whatever it stumbles over is for the engine to judge
            return {}, {}
        kinds: Kinds = {}
        shapes: Shapes = {}
        for value in inferred.value_info:
            if value.type.HasField("tensor_type") and value.type.tensor_type.elem_type:
                kinds[value.name] = np.dtype(helper.tensor_dtype_to_np_dtype(value.type.tensor_type.elem_type))
                dims = value.type.tensor_type.shape.dim
                if value.type.tensor_type.HasField("shape") and all(d.HasField("dim_value") for d in dims):
                    shapes[value.name] = tuple(d.dim_value for d in dims)
            elif value.type.WhichOneof("value") not in (None, "tensor_type"):
                kinds[value.name] = None
        return kinds, shapes

    def _by_rules(self, made: Sequence[str], settled: set[str], asked: set[str]) -> list[Ask]:
        """What gives values, shapes and kinds for each batch without running the network; empty where the rules leave something
        open, or where engines go their own ways."""
        if any(has(node.op_type, Trait.OWN_SIZES) or _rounds_up(node) for node in self.nodes):
            return []
        if not values_stay_small(self.proto.graph):
            return []
        changed, known = [name for name in made if name not in settled], list[tuple[Kinds, Shapes]]()
        for batch in self._batches:
            known.append(self._inferred(batch.shape, values=True))
            if any(name not in known[-1][1] for name in changed):
                return []
        # Of what follows from the image's shape alone the shapes are given, so that no image is needed.
        asked_for = {
            node.output[0]: node for node in self.nodes if node.op_type in _SHAPE and node.input[0] in self.depends
        }
        rest = onnx.ModelProto()
        rest.CopyFrom(self.proto)
        del rest.graph.node[:], rest.graph.input[:], rest.graph.output[:]
        rest.graph.node.extend(
            node for node in self.nodes if set(node.output) & settled and node.output[0] not in asked_for
        )
        for name, node in asked_for.items():
            rank = 1 if node.op_type == "Shape" else 0
            rest.graph.input.append(helper.make_tensor_value_info(name, TensorProto.INT64, [None] * rank))
        names = [name for name in made if name in asked and name not in asked_for]
        rest.graph.output.extend(onnx.ValueInfoProto(name=name) for name in names)
        run = self._session(rest, names) if names else None

        def ask(kinds: Kinds, shapes: Shapes, batch: NDArray[Any]) -> Found:
            whole = {**shapes, self.input: batch.shape}
            given = {name: _shape_told(node, whole[node.input[0]]) for name, node in asked_for.items()}
            values = run(given) if run is not None else {}
            return {**values, **given}, {name: shapes[name] for name in changed}, kinds

        return [partial(ask, *one, batch) for one, batch in zip(known, self._batches, strict=True)]

    def _by_running(self, made: Sequence[str], settled: set[str], asked: set[str]) -> list[Ask]:
        """What gives values, shapes and kinds for each batch by running the network on it."""
        kinds, _ = self._inferred(self._batches[0].shape, values=False)
        names = [name for name in made if name in asked or (name not in kinds and name not in settled)]
        shapes_of = [name for name in made if name not in settled and kinds.get(name)]
        probe = onnx.ModelProto()
        probe.CopyFrom(self.proto)
        del probe.graph.output[:]
        told = [f"mivrat:shape:{i}" for i in range(len(shapes_of))]
        probe.graph.node.extend(helper.make_node("Shape", [one], [to]) for one, to in zip(shapes_of, told, strict=True))
        probe.graph.output.extend(onnx.ValueInfoProto(name=name) for name in [*names, *told])
        run = self._session(probe, [*names, *told])

        def ask(batch: NDArray[Any]) -> Found:
            found = run({self.input: batch})
            shapes = {name: tuple(found[one].tolist()) for name, one in zip(shapes_of, told, strict=True)}
            return {name: found[name] for name in names if name in found}, shapes, kinds

        return [partial(ask, batch) for batch in self._batches]

    def image_axes(self, name: str) -> frozenset[int]:
        """The axes along which a tensor's values are of different images."""
        if self._growth:
            return frozenset(axis for axis, more in enumerate(self._growth.get(name, ())) if more)
        axis, shape = self.image_axis(name), self.shapes.get(name, ())
        if axis is None:
            return frozenset({0} if shape and self.batch > 1 and shape[0] % self.batch == 0 else ())
        return frozenset({axis} if self.batch > 1 else ())

    def image_axis(self, name: str) -> int | None:
        """The axis that counts a tensor's images one by one; None where there is none, or it cannot be told."""
        shape = self.shapes.get(name, ())
        found = [axis for axis, size in enumerate(shape) if size == self.batch]
        if self._growth:
            found = [axis for axis, more in enumerate(self._growth.get(name, ())) if more]
            return found[0] if len(found) == 1 and shape[found[0]] == self.batch else None
        return found[0] if found and (found[0] == 0 or len(found) == 1) else None

    def for_images(self, images: int) -> GraphView:
        """The view with the shapes that tensors have for so many images."""
        if images == self.batch:
            return self
        made = copy.copy(self)
        made.batch, made.shapes, more = images, dict(self.shapes), images - self.batch
        for name, growth in self._growth.items():
            if any(growth):
                made.shapes[name] = tuple(n + g * more for n, g in zip(self.shapes[name], growth, strict=True))
        return made

    def _session(
        self, model: onnx.ModelProto, names: Sequence[str]
    ) -> Callable[[dict[str, NDArray[Any]]], dict[str, NDArray[Any]]]:
        """What runs a graph as it is written and gives its tensors by name; InputError where the engine fails."""

        def tried(work: Callable[[], Any]) -> Any:
            try:
                return work()
            except (EngineFault, InputError) as error:
                raise InputError(
                    f"the graph cannot be followed tensor by tensor ({short_reason(error)})",
                    where=self.where,
                    hint="export the model with standard ONNX operators",
                ) from error

        session = tried(lambda: new_session(model.SerializeToString(), where=self.where, as_written=True))

        def run(given: dict[str, NDArray[Any]]) -> dict[str, NDArray[Any]]:
            found = tried(lambda: run_session(session, names, given))
            return {name: value for name, value in zip(names, found, strict=True) if isinstance(value, np.ndarray)}

        return run

    def _find_logits(self, output: str) -> str:
        """The scores before the last softmax or sigmoid, or the output itself where there is none; before their last rounding in a
        quantised model, since beyond its range that would pass nothing on."""
        found, name, behind = output, output, False
        while (node := self.producer.get(name)) is not None:
            if has(node.op_type, Trait.TO_PROBABILITIES) and not behind:
                found = name = node.input[0]
                behind = True
            elif node.op_type == "DequantizeLinear" and (before := self._before_rounding(node)):
                found = name = before
            elif has(node.op_type, Trait.KEEPS_VALUES) and self.is_float(node.input[0]):
                name = node.input[0]
            else:
                break
        return found

    def _before_rounding(self, dequantize: onnx.NodeProto) -> str:
        """What a quantise/dequantise pair takes in; empty for something else."""
        quantize = self.producer.get(dequantize.input[0])
        return quantize.input[0] if quantize is not None and quantize.op_type == "QuantizeLinear" else ""

    def _channel_axes(self, input_axis: int) -> dict[str, int | None]:
        """Which axis holds the channels (1 or 3) of each four-axis tensor; None where it cannot be told."""
        axis: dict[str, int | None] = {self.input: input_axis}
        for node in self.nodes:
            for output in node.output:
                if len(self.shapes.get(output, ())) != 4 or output not in self.depends:
                    continue
                known = [axis[name] for name in node.input if name in axis]
                alike = [
                    axis[name] for name in node.input if axis.get(name) and self.shapes[name] == self.shapes[output]
                ]
                if has(node.op_type, Trait.CHANNELS_FIRST):
                    axis[output] = 1
                elif node.op_type == "Transpose" and known:
                    order = next((list(a.ints) for a in node.attribute if a.name == "perm"), [3, 2, 1, 0])
                    axis[output] = (
                        order.index(known[0])
                        if known[0] is not None and order[0] == 0 and order.index(known[0]) in (1, 3)
                        else None
                    )
                elif has(node.op_type, Trait.KEEPS_AXES) or node.op_type.startswith("Reduce"):
                    agreed = set(alike or [a for a in known if a is not None])
                    axis[output] = agreed.pop() if len(agreed) == 1 else None
                elif node.op_type == "MatMul" and known:  # the last axis is the one mixed: channels-last stays so
                    axis[output] = 3 if known[0] == 3 else None
                elif alike:  # anything else that leaves the shape as it is
                    axis[output] = alike[0]
                else:
                    axis[output] = None
        return axis


def outer_names(node: onnx.NodeProto) -> set[str]:
    """Names that subgraphs of a control-flow node take from outside."""
    found: set[str] = set()
    for attribute in node.attribute:
        if attribute.type == AttributeProto.GRAPH:
            for inner in attribute.g.node:
                found |= set(inner.input) | outer_names(inner)
            found |= {one.name for one in attribute.g.output}
    return found


def _in_order(nodes: Sequence[onnx.NodeProto]) -> list[onnx.NodeProto]:
    """The nodes with each behind those it reads from, as the standard has it and not every converter writes it; as they are where
    they go in a circle, for the engine to refuse."""
    made = {name: i for i, node in enumerate(nodes) for name in node.output if name}
    reads = [{made[name] for name in {*node.input, *outer_names(node)} if name in made} for node in nodes]
    if all(max(some, default=-1) < i for i, some in enumerate(reads)):
        return list(nodes)
    readers: dict[int, list[int]] = {}
    for i, some in enumerate(reads):
        for one in some:
            readers.setdefault(one, []).append(i)
    left = [len(some) for some in reads]
    order = [i for i, n in enumerate(left) if not n]
    for i in order:
        for reader in readers.get(i, ()):
            left[reader] -= 1
            if not left[reader]:
                order.append(reader)
    return [nodes[i] for i in order] if len(order) == len(nodes) else list(nodes)


def _what_leads_to(model: onnx.ModelProto, output: str) -> onnx.ModelProto:
    """A copy of a model without any node or constant that gives nothing to an output, not even a shape."""
    needed, kept = {output}, []
    for node in reversed(_in_order(model.graph.node)):
        if needed & set(node.output):
            needed.update(name for name in node.input if name)
            needed |= outer_names(node)
            kept.append(node)
    made = onnx.ModelProto(ir_version=model.ir_version)
    made.opset_import.extend(model.opset_import)
    made.functions.extend(model.functions)
    graph, source = made.graph, model.graph
    graph.name = source.name
    graph.node.extend(reversed(kept))
    graph.initializer.extend(one for one in source.initializer if one.name in needed)
    graph.sparse_initializer.extend(one for one in source.sparse_initializer if one.values.name in needed)
    graph.input.extend(source.input)
    graph.output.extend(one for one in source.output if one.name == output)
    return made


def _take_branches(graph: onnx.GraphProto, values: Mapping[str, NDArray[Any]]) -> bool:
    """Put in place of every If whose condition is settled, whatever the image, the branch it takes; whether there was one.

    Exporters write such conditions on shapes.
    """
    nodes, taken = list(graph.node), 0
    for at in reversed(range(len(nodes))):
        node = nodes[at]
        if node.op_type != "If" or node.input[0] not in values:
            continue
        wanted = "then_branch" if bool(values[node.input[0]].ravel()[0]) else "else_branch"
        branch = next(one.g for one in node.attribute if one.name == wanted)
        names = {name: f"{node.output[0]}|{name}" for inner in branch.node for name in inner.output if name}
        names |= {tensor.name: f"{node.output[0]}|{tensor.name}" for tensor in branch.initializer}
        for tensor in branch.initializer:
            moved = onnx.TensorProto()
            moved.CopyFrom(tensor)
            moved.name = names[tensor.name]
            graph.initializer.append(moved)
        inside = [_renamed(inner, names) for inner in branch.node]
        for out, one in zip(node.output, branch.output, strict=True):
            inside.append(helper.make_node("Identity", [names.get(one.name, one.name)], [out]))
        nodes[at : at + 1] = inside
        taken += 1
    if taken:
        del graph.node[:]
        graph.node.extend(nodes)
    return taken > 0


def _renamed(node: onnx.NodeProto, names: Mapping[str, str]) -> onnx.NodeProto:
    """A node of a branch with the branch's own names made ones of the whole graph, in branches within it too."""
    made = onnx.NodeProto()
    made.CopyFrom(node)
    made.input[:] = [names.get(name, name) for name in node.input]
    made.output[:] = [names.get(name, name) for name in node.output]
    for attribute in made.attribute:
        if attribute.type == AttributeProto.GRAPH:
            inner = [_renamed(one, names) for one in attribute.g.node]
            del attribute.g.node[:]
            attribute.g.node.extend(inner)
            for one in attribute.g.output:
                one.name = names.get(one.name, one.name)
    return made


def attributes_of(node: onnx.NodeProto) -> dict[str, Any]:
    """A node's attributes as plain Python values (bytes decoded)."""
    found = {}
    for attribute in node.attribute:
        value = helper.get_attribute_value(attribute)
        found[attribute.name] = value.decode(errors="replace") if isinstance(value, bytes) else value
    return found
