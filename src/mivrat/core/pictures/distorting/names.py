"""What the kinds of distortion are called in commands and files."""

from __future__ import annotations

NAMES = (
    "brightness",
    "contrast",
    "gamma",
    "cast",
    "saturation",
    "uneven",
    "blur",
    "motion",
    "resolution",
    "jpeg",
    "noise",
    "shot",
    "faulty",
    "rotation",
    "tilt",
    "shift",
    "zoom",
    "mirror-across",
    "mirror-down",
    "cover",
    "mark",
)
# What is tried where nothing was chosen.
USUAL = ("brightness", "blur", "jpeg", "noise", "rotation")
