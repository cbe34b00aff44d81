"""The recipe: the exact preprocessing a model was trained with, as data (TOML, ``mivrat-recipe/1``)."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import read_text
from mivrat.core.base.text import minus
from mivrat.core.base.toml import toml_value

FORMAT = "mivrat-recipe/1"
MOST_SIDE = 16384
Side = Annotated[int, Field(ge=1, le=MOST_SIDE)]
Pair = tuple[Side, Side]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=False, allow_inf_nan=False)


class Picture(_Part):
    mode: Literal["RGB", "BGR", "L"] = "RGB"
    exif_rotate: bool = True
    # Of DICOM files: centre and width, in rescaled values; None: the file's own.
    window: tuple[float, Annotated[float, Field(gt=0)]] | None = None


class Resize(_Part):
    rule: Literal["none", "shorter-side", "stretch", "fit-pad"] = "none"
    size: Side | Pair | None = None
    filter: Literal["nearest", "bilinear", "bicubic", "box", "lanczos"] = "bilinear"
    antialias: bool = True
    pad_value: list[float] = [0.0, 0.0, 0.0]

    @model_validator(mode="after")
    def _size_fits_rule(self) -> Resize:
        if self.rule != "none" and self.size is None:
            raise ValueError(f"rule {self.rule!r} needs a size")
        if self.rule == "shorter-side" and isinstance(self.size, tuple) and self.size[0] != self.size[1]:
            raise ValueError("rule 'shorter-side' takes one size; [height, width] goes with 'stretch' or 'fit-pad'")
        return self

    def height_width(self) -> Pair:
        """The size as [height, width]; one number stands for both."""
        assert self.size is not None
        return self.size if isinstance(self.size, tuple) else (self.size, self.size)


class Crop(_Part):
    size: Pair


class Values(_Part):
    scale: float = 1.0 / 255.0
    mean: list[float] = [0.0]
    std: list[Annotated[float, Field(gt=0)]] = [1.0]


class Tensor(_Part):
    order: Literal["NCHW", "NHWC"] = "NCHW"
    dtype: Literal["float32", "float16", "uint8"] = "float32"
    input: str = ""
    output: str = ""


class Scores(_Part):
    kind: Literal["auto", "logits", "probabilities", "sigmoid"] = "auto"


class Recipe(_Part):
    """How a picture file becomes a tensor, and how the answer is read."""

    format: Literal["mivrat-recipe/1"] = "mivrat-recipe/1"
    picture: Picture = Picture()
    resize: Resize = Resize()
    crop: Crop | None = None
    values: Values = Values()
    tensor: Tensor = Tensor()
    scores: Scores = Scores()

    @model_validator(mode="after")
    def _channels_agree(self) -> Recipe:
        for name, given in (
            ("values.mean", self.values.mean),
            ("values.std", self.values.std),
            ("resize.pad_value", self.resize.pad_value),
        ):
            if len(given) not in (1, self.channels) and not (name == "resize.pad_value" and given == [0.0, 0.0, 0.0]):
                raise ValueError(
                    f"{name} has {len(given)} numbers, mode {self.picture.mode} has {self.channels} channel{'s' if self.channels > 1 else ''}"
                )
        return self

    @property
    def channels(self) -> int:
        return 1 if self.picture.mode == "L" else 3

    def output_size(self) -> Pair | None:
        """Height and width of what the network receives, or None where they follow the picture."""
        if self.crop is not None:
            return self.crop.size
        return self.resize.height_width() if self.resize.rule in ("stretch", "fit-pad") else None

    def summary(self) -> str:
        """A few words for a title line, such as ``96 px, RGB, -1…1``."""
        size = self.output_size()
        if size is None and self.resize.size is not None:
            size = self.resize.height_width()
        side = "own size" if size is None else f"{size[0]} px" if size[0] == size[1] else f"{size[1]} × {size[0]} px"
        ranges = self.value_ranges()
        low, high = min(low for low, _ in ranges), max(high for _, high in ranges)
        return minus(f"{side}, {self.picture.mode}, {low:.3g}…{high:.3g}")

    def value_ranges(self) -> list[tuple[float, float]]:
        """What 0 and 255 become, channel by channel in the order of ``mode``."""
        return [((0 - m) / s, (255 * self.values.scale - m) / s) for m, s in zip(*self._mean_std(), strict=True)]

    def _mean_std(self) -> tuple[list[float], list[float]]:
        def spread(v: list[float]) -> list[float]:
            return v * self.channels if len(v) == 1 else v

        return spread(self.values.mean), spread(self.values.std)


def parse_recipe(text: str, where: object = "recipe") -> Recipe:
    """A recipe from TOML text; InputError naming the entry that is wrong."""
    try:
        data: dict[str, Any] = tomllib.loads(text)
    except RecursionError as error:
        raise InputError("is nested too deep", where=where, hint="write entries as in docs/recipes.md") from error
    except ValueError as error:  # also a number of thousands of digits, or a date that is none
        raise InputError(f"is not valid TOML ({str(error)[:160]})", where=where, hint="correct that line") from error
    if data.get("format") != FORMAT:
        raise InputError(
            f"has format {data.get('format')!r}", where=where, hint=f'begin the recipe with format = "{FORMAT}"'
        )
    return recipe_from(data, where)


def recipe_from(data: dict[str, Any], where: object = "recipe") -> Recipe:
    """A recipe from its entries; InputError naming the entry that is wrong."""
    try:
        return Recipe.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        entry = (
            ".".join(
                str(part) for part in first["loc"] if not str(part).startswith(("constrained", "tuple", "function"))
            )
            or "the recipe"
        )
        message = first["msg"].removeprefix("Value error, ")
        raise InputError(
            f"{entry}: {message[:1].lower()}{message[1:]} (given: {_given(first.get('input'))})"
            if first["type"] != "value_error"
            else f"{entry}: {message}",
            where=where,
            hint="see docs/recipes.md for what each entry may hold",
        ) from error


def _given(value: object) -> str:
    """A wrong entry as an error shows it; a huge number cannot even be written out."""
    try:
        shown = repr(value)
    except (ValueError, RecursionError):
        return "a value too long to be shown"
    return shown if len(shown) <= 80 else f"{shown[:80]}…"


def read_recipe(path: Path) -> Recipe:
    """Read a recipe file."""
    return parse_recipe(read_text(path, "the recipe", "name a recipe file (TOML)"), path)


def recipe_to_toml(recipe: Recipe) -> str:
    """The recipe as TOML text; parse_recipe gives it back."""
    return _toml(recipe.model_dump())


def _toml(entries: dict[str, Any]) -> str:
    lines: list[str] = []
    tables: dict[str, dict[str, Any]] = {}
    for key, value in entries.items():
        if isinstance(value, dict):
            tables[key] = value
        elif value is not None:
            lines.append(f"{key} = {toml_value(value)}")
    for name, table in tables.items():
        lines += ["", f"[{name}]"] + [
            f"{key} = {toml_value(value)}" for key, value in table.items() if value is not None
        ]
    return "\n".join(lines) + "\n"


# What a recipe's identity has always written out, in this order. It never grows: an entry that comes later stands in the identity
# only where it is not left at its default, so that a recipe written before keeps its hash, and a study its answers and findings.
_ALWAYS: dict[str, tuple[str, ...]] = {
    "picture": ("mode", "exif_rotate"),
    "resize": ("rule", "size", "filter", "antialias", "pad_value"),
    "crop": ("size",),
    "values": ("scale", "mean", "std"),
    "tensor": ("order", "dtype", "input", "output"),
    "scores": ("kind",),
}


def canonical(recipe: Recipe) -> str:
    """What a recipe is, as text: equal for recipes that say the same, and unchanged by entries that later versions add."""
    whole, given = recipe.model_dump(), recipe.model_dump(exclude_defaults=True)
    entries: dict[str, Any] = {"format": FORMAT}
    for name, keys in _ALWAYS.items():
        if whole[name] is not None:
            entries[name] = {key: whole[name][key] for key in keys}
    for name, value in given.items():
        if name not in _ALWAYS and name != "format":
            entries[name] = value
        elif isinstance(value, dict):
            entries[name] |= {key: one for key, one in value.items() if key not in entries[name]}
    return _toml(entries)


def guess_recipe(shape: tuple[int | None, ...], dtype: str, input_name: str = "") -> Recipe:
    """A recipe guessed from a model's input shape (4 axes, None where free) and type; to be said to be a guess.

    The shorter side is resized to the network's larger side and the centre cropped; values go to 0..1 (0..255 for uint8).
    """
    nhwc = shape[1] not in (1, 3) and shape[3] in (1, 3)
    channels, height, width = (shape[3], shape[1], shape[2]) if nhwc else (shape[1], shape[2], shape[3])
    height, width = height or width or 224, width or height or 224
    return Recipe(
        picture=Picture(mode="L" if channels == 1 else "RGB"),
        resize=Resize(rule="shorter-side", size=max(height, width)),
        crop=Crop(size=(height, width)),
        values=Values(scale=1.0 if dtype == "uint8" else 1.0 / 255.0),
        tensor=Tensor(order="NHWC" if nhwc else "NCHW", dtype=dtype, input=input_name),  # type: ignore[arg-type]
    )
