"""The version of Mivrat, and of what its figures rest on."""

from __future__ import annotations

import platform
from importlib.metadata import PackageNotFoundError, version

from mivrat import __version__

# What computes, decodes or draws: another version of one of these may give another last digit.
RESTS_ON = ("numpy", "scipy", "onnxruntime", "onnx", "pillow", "polars", "matplotlib", "PySide6-Essentials")


def versions() -> str:
    """A line each: Mivrat first, then Python, then the libraries."""
    told = [f"mivrat {__version__}", f"Python {platform.python_version()}, {platform.machine()}"]
    for name in RESTS_ON:
        try:
            told.append(f"{name} {version(name)}")
        except PackageNotFoundError:
            told.append(f"{name}: not installed")
    return "\n".join(told) + "\n"
