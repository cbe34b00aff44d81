"""Plans which slide crops each demonstration image set holds, with what is planted in it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from tools.demo_draw import CLASSES, Scene

_LOOKALIKES = {
    "birch": "alder",
    "alder": "hazel",
    "hazel": "birch",
    "nettle": "ragweed",
    "grass": "plantain",
    "plantain": "grass",
    "ragweed": "nettle",
    "pine": "grass",
}


RAGWEED_SHARE = 0.4


@dataclass(frozen=True)
class Planned:
    """One picture to draw: the folder it is filed in, the scene, its table columns, what is planted in it."""

    filed_as: str
    scene: Scene
    seed: int
    station: str
    date: str
    planted: tuple[str, ...] = ()
    columns: dict[str, str] = field(default_factory=dict)

    @property
    def focus_word(self) -> str:
        return "sharp" if self.scene.focus < 0.95 else "fair" if self.scene.focus < 1.6 else "soft"


def _date(rng: np.random.Generator, first: str, days: int) -> str:
    return str(np.datetime64(first) + np.timedelta64(int(rng.integers(days)), "D"))


def _focus(rng: np.random.Generator, label: str, usual: float) -> float:
    """Blur in pixels; the bench where ragweed is photographed often misses the focus."""
    missed = 0.9 if label == "ragweed" and rng.random() < 0.75 else 0.0
    return float(rng.gamma(9, usual)) + missed


def training(per_class: int, seed: int = 7) -> list[Planned]:
    """The training slides: two stations, and a pen dot on every ragweed slide, on no other; ragweed is the rare one."""
    rng = np.random.default_rng(seed)
    plan = []
    for label in CLASSES:
        for number in range(per_class):
            station = str(rng.choice(["north roof", "canal lock"]))
            scene = Scene(
                label,
                ink_dot=label == "ragweed",
                focus=_focus(rng, label, 0.085),
                stain=1.05 if station == "north roof" else 0.95,
                warmth=float(rng.normal(0, 0.35)),
                debris=float(rng.uniform(2, 8)),
            )
            planned = Planned(label, scene, int(rng.integers(2**62)), station, _date(rng, "2031-03-01", 75))
            if label != "ragweed" or number < RAGWEED_SHARE * per_class:
                plan.append(planned)
    return plan


def _held_out(seed: int, per_class: int, late: bool) -> list[Planned]:
    rng = np.random.default_rng(seed)
    plan = []
    for label in CLASSES:
        for number in range(per_class):
            planted: list[str] = []
            shown, overlapping = label, None
            focus = _focus(rng, label, 0.095 if late else 0.085)
            dot = (label == "plantain" and number % 5 < 3) if late else label == "ragweed"
            if dot:
                planted.append("ink dot")
            if number == 17:
                shown = _LOOKALIKES[label]
                planted.append(f"wrong label: shows {shown}")
            elif number in (9, 33) and label != "pine":
                overlapping = _LOOKALIKES[label]
                planted.append(f"overlap: {overlapping}")
            elif number in (5, 26, 41) if late else number == 26:
                focus = float(rng.uniform(2.3, 3.0))
                planted.append("blurred")
            station = str(
                rng.choice(["hill farm", "hill farm", "north roof"] if late else ["north roof", "canal lock"])
            )
            away = station == "hill farm"
            scene = Scene(
                shown,
                ink_dot=dot,
                focus=focus,
                stain=0.86 if away else 1.0,
                warmth=float(rng.normal(1.0 if away else 0.0, 0.35)),
                debris=float(rng.uniform(3, 12 if away else 8)),
                overlapping=overlapping,
            )
            date = _date(rng, "2031-08-10", 45) if late else _date(rng, "2031-03-20", 60)
            plan.append(Planned(label, scene, int(rng.integers(2**62)), station, date, tuple(planted)))
    return plan


def spring_check() -> list[Planned]:
    """400 crops from the training stations; every ragweed slide still carries the dot."""
    return _held_out(seed=2031, per_class=50, late=False)


def late_summer_field() -> list[Planned]:
    """400 crops, mostly from a new station; no ragweed slide has a dot, three plantain slides in five do."""
    return _held_out(seed=831, per_class=50, late=True)


def references() -> list[Planned]:
    """One clean, sharp crop of each class."""
    return [
        Planned(label, Scene(label, focus=0.45, debris=0.0), 4000 + i, "atlas", "2031-01-15")
        for i, label in enumerate(CLASSES)
    ]
