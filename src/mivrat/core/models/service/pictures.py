"""What goes out for one image: its tensor, or the picture encoded."""

from __future__ import annotations

import io
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mivrat.core.pictures.decode import picture_faults
from mivrat.core.pictures.recipe import Picture, Recipe, Tensor, Values

# So good that what is lost cannot be seen; the picture's colours are not thinned out.
QUALITY = 95

# A tensor of one prepared image, or the bytes of a picture file.
Payload = NDArray[Any] | bytes


def picture_recipe(given: Recipe | None) -> tuple[Recipe, bool]:
    """The recipe by which pictures are made that are sent encoded: size and colours as given, bytes from 0 to 255; and
    whether anything of the recipe given had to be left out."""
    if given is None:
        return Recipe(values=Values(scale=1.0), tensor=Tensor(order="NHWC", dtype="uint8")), False
    colours = given.picture.model_copy(update={"mode": "RGB"}) if given.picture.mode == "BGR" else given.picture
    made = given.model_copy(
        update={
            "picture": Picture.model_validate(colours.model_dump()),
            "values": Values(scale=1.0),
            "tensor": Tensor(order="NHWC", dtype="uint8", input=given.tensor.input, output=given.tensor.output),
        }
    )
    return made, made != given


def encoded(pixels: NDArray[Any], form: Literal["jpeg", "png"]) -> bytes:
    """Prepared pixels (height x width x channels, 0 to 255) as a picture file, the same bytes each time."""
    whole = np.ascontiguousarray(pixels, np.uint8)
    picture = Image.fromarray(whole[..., 0] if whole.shape[2] == 1 else whole)
    out = io.BytesIO()
    with picture_faults("cannot be encoded"):  # a JPEG file has at most 65,535 pixels on a side
        if form == "jpeg":
            picture.save(out, "JPEG", quality=QUALITY, subsampling=0)
        else:
            picture.save(out, "PNG", compress_level=1)
    return out.getvalue()
