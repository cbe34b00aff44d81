"""The ways of making a heatmap, one record each: what it is called, what it is, what it takes, and where it is offered."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

Method = Literal["gradient", "elementwise", "signed", "activation", "score", "occlusion", "masks"]


@dataclass(frozen=True)
class HeatmapMethod:
    """One way. ``takes``: gradients at a layer, the values of a layer, or answers to changed images alone. ``signed``: what speaks
    against the target is told too, below zero. ``last_layer``: it can be made at no other layer."""

    key: Method
    name: str
    about: str
    takes: Literal["gradients", "values", "answers"]
    signed: bool = False
    last_layer: bool = False
    in_close_look: bool = False


# fmt: off
RECORDS = (
    HeatmapMethod(
        "gradient", "gradient-weighted", "channels of the layer, weighted by their mean gradient (Selvaraju 2017)", "gradients",
        in_close_look=True,
    ),
    HeatmapMethod(
        "elementwise", "element-wise", "each value of the layer times its own gradient, where that is above zero (Jiang 2021)",
        "gradients", in_close_look=True,
    ),
    HeatmapMethod(
        "signed", "signed contribution", "each value times its gradient, what speaks against the target included (Draelos 2020)",
        "gradients", signed=True, in_close_look=True,
    ),
    HeatmapMethod(
        "activation", "activation only", "the last layer by the weights of the linear layer behind it (Zhou 2016)", "values",
        signed=True, last_layer=True, in_close_look=True,
    ),
    HeatmapMethod(
        "score", "score-weighted",
        "channels, weighted by the answer to the image seen through them (Wang 2020); one forward pass each", "values",
    ),
    HeatmapMethod(
        "occlusion", "occlusion", "how far the answer falls when a window is hidden, everywhere in turn (Zeiler 2014)", "answers",
        signed=True, in_close_look=True,
    ),
    HeatmapMethod(
        "masks", "random masks", "the mean answer under a thousand random masks (Petsiuk 2018); it takes longest", "answers",
        signed=True,
    ),
)
# fmt: on
METHODS: tuple[Method, ...] = tuple(one.key for one in RECORDS)
assert get_args(Method) == METHODS
BY_GRADIENT = tuple(one.key for one in RECORDS if one.takes == "gradients")
SIGNED = tuple(one.key for one in RECORDS if one.signed)
# These look at no layer at all, and these at none that could be chosen.
WITHOUT_LAYER = tuple(one.key for one in RECORDS if one.takes == "answers")
WITHOUT_CHOICE = tuple(one.key for one in RECORDS if one.takes == "answers" or one.last_layer)
