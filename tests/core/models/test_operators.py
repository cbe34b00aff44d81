"""The records of operators: complete for the derivative rules, and true of the standard's own definitions."""

from __future__ import annotations

import math

import onnx
import pytest
from onnx import TensorProto, helper

from mivrat.core.gradients.rules import RULES
from mivrat.core.models.operators import OPERATORS, Trait, has

# The engine's own operators, which the standard does not define.
OF_THE_ENGINE = {"MultiHeadAttention", "QLinearConv", "SimplifiedLayerNormalization", "SkipLayerNormalization"}


def test_every_rule_has_a_record_and_every_record_is_an_operator() -> None:
    assert set(RULES) <= set(OPERATORS)
    assert {name for name in OPERATORS if not onnx.defs.has(name)} <= OF_THE_ENGINE


def test_what_is_not_known_has_no_trait() -> None:
    assert not has("NoSuchOperator", ~Trait(0))
    assert has("Relu", Trait.ACTIVATION | Trait.MOVES)
    assert not has("Relu", Trait.MOVES)


def unary() -> list[str]:
    """Operators of one input and no attribute that must be given."""
    found = []
    for name in sorted(OPERATORS):
        if onnx.defs.has(name):
            schema = onnx.defs.get_schema(name)
            if (
                schema.min_input == 1
                and schema.min_output == 1
                and not any(a.required for a in schema.attributes.values())
            ):
                found.append(name)
    return found


@pytest.mark.parametrize("name", unary())
def test_axes_and_values_are_kept_as_the_records_say(name: str) -> None:
    """By the standard's own shape inference, for one tensor of four unequal axes."""
    given = helper.make_tensor_value_info("x", TensorProto.FLOAT, [2, 3, 5, 7])
    node = (
        helper.make_node(name, ["x"], ["y"], to=TensorProto.FLOAT)
        if name == "Cast"
        else helper.make_node(name, ["x"], ["y"])
    )
    graph = helper.make_graph([node], "g", [given], [helper.make_empty_tensor_value_info("y")])
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", onnx.defs.onnx_opset_version())])
    inferred = onnx.shape_inference.infer_shapes(model).graph.output[0].type.tensor_type
    if not inferred.HasField("shape"):
        pytest.skip("the standard's inference says nothing")
    sizes = [one.dim_value for one in inferred.shape.dim]
    if has(name, Trait.ACTIVATION | Trait.IN_PLACE):
        assert sizes == [2, 3, 5, 7]
    if has(name, Trait.KEEPS_AXES):
        assert len(sizes) == 4
    if has(name, Trait.RESHAPES | Trait.KEEPS_VALUES):
        assert math.prod(sizes) in (210, 0)  # 0: not inferred
    if has(name, Trait.CHANNELS_FIRST) and not has(name, Trait.MOVES):
        assert sizes[:2] == [2, 3]
