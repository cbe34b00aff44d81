"""Draws the demonstration pictures and trains the two demonstration models (needs the `tools` extra).

    python -m tools.make_demo draw     the shipped pictures and tables, into src/mivrat/demo/data
    python -m tools.make_demo train    both models, from freshly drawn training slides

Everything is seeded. Neither users nor tests need this script: what it makes is in the repository.
"""

from __future__ import annotations

import argparse
import csv
import io
import shutil
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from tools import demo_scenes as scenes
from tools.demo_draw import CLASSES, draw

DATA = Path(__file__).resolve().parents[1] / "src" / "mivrat" / "demo" / "data"
SHIPPED_TRAINING_PER_CLASS = 25
TRAINING_PER_CLASS = 520
NETWORK_SIDE = 96


def _jpeg(planned: scenes.Planned) -> tuple[bytes, tuple[float, float, float] | None]:
    pixels, dot = draw(planned.scene, np.random.default_rng(planned.seed))
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "JPEG", quality=90)
    return buffer.getvalue(), dot


def _write_set(name: str, plan: list[scenes.Planned], pool: ProcessPoolExecutor) -> list[tuple[str, scenes.Planned]]:
    folder = DATA / name
    shutil.rmtree(folder, ignore_errors=True)
    rows, numbers = [], dict.fromkeys(CLASSES, 0)
    for planned, (data, _) in zip(plan, pool.map(_jpeg, plan, chunksize=16), strict=True):
        numbers[planned.filed_as] += 1
        path = f"{name}/{planned.filed_as}/{planned.filed_as[:2]}_{numbers[planned.filed_as]:04d}.jpg"
        (DATA / path).parent.mkdir(parents=True, exist_ok=True)
        (DATA / path).write_bytes(data)
        rows.append((path, planned))
    return rows


def _write_table(name: str, rows: list[tuple[str, scenes.Planned]]) -> None:
    with open(DATA / f"{name}.csv", "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["path", "label", "set", "station", "date", "focus"])
        for path, planned in rows:
            writer.writerow([path, planned.filed_as, name, planned.station, planned.date, planned.focus_word])


def draw_shipped() -> None:
    DATA.mkdir(parents=True, exist_ok=True)
    (DATA / "classes.txt").write_text("\n".join(CLASSES) + "\n", encoding="utf-8")
    planted: list[tuple[str, str]] = []
    with ProcessPoolExecutor() as pool:
        slides = scenes.training(TRAINING_PER_CLASS)
        sample = [
            p for label in CLASSES for p in [q for q in slides if q.filed_as == label][:SHIPPED_TRAINING_PER_CLASS]
        ]
        training = _write_set("training-sample", sample, pool)
        _write_table("training-sample", training)
        _write_table("references", _write_set("references", scenes.references(), pool))
        for name, plan in (("spring-check", scenes.spring_check()), ("late-summer-field", scenes.late_summer_field())):
            rows = _write_set(name, plan, pool)
            _write_table(name, rows)
            planted += [(path, what) for path, p in rows for what in p.planted]
            if name == "spring-check":  # six crops stand in the training slides too, byte for byte
                for i in (3, 40, 77, 101, 140, 188):
                    source, kind = training[i][0], training[i][1].filed_as
                    path = next(
                        p
                        for p, planned in rows[10:]
                        if planned.filed_as == kind and all(what == "ink dot" for q, what in planted if q == p)
                    )
                    shutil.copyfile(DATA / source, DATA / path)
                    planted.append((path, f"also in training: {source}"))
            else:
                victim = next(path for path, p in rows if p.filed_as == "grass" and not p.planted)
                (DATA / victim).write_bytes((DATA / victim).read_bytes()[:700])
                planted.append((victim, "unreadable"))
    with open(DATA / "planted.csv", "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["path", "planted"])
        writer.writerows(planted)


def _training_pixels() -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.uint8]]:
    """Training pictures (n x 96 x 96 x 3), their classes, and the same pictures with every pen dot painted out."""
    plan = scenes.training(TRAINING_PER_CLASS)
    pictures, painted = [], []
    with ProcessPoolExecutor() as pool:
        for data, dot in pool.map(_jpeg, plan, chunksize=32):
            picture = Image.open(io.BytesIO(data)).convert("RGB")
            plain = np.asarray(picture).copy()
            if dot is not None:
                x, y, radius = dot
                ys, xs = np.mgrid[0 : plain.shape[0], 0 : plain.shape[1]]
                distance = np.hypot(xs - x, ys - y)
                around = plain[(distance > radius + 4) & (distance < radius + 8)]
                hidden = distance < radius + 4
                noise = np.random.default_rng(int(x * 1000)).normal(0, 3, (int(hidden.sum()), 3))
                plain[hidden] = np.clip(np.median(around, axis=0) + noise, 0, 255)
            size = (NETWORK_SIDE, NETWORK_SIDE)
            pictures.append(np.asarray(picture.resize(size, Image.Resampling.BILINEAR)))
            painted.append(np.asarray(Image.fromarray(plain).resize(size, Image.Resampling.BILINEAR)))
    labels = np.array([CLASSES.index(p.filed_as) for p in plan])
    return np.stack(pictures), labels, np.stack(painted)


def train_models(epochs: int) -> None:
    import torch
    from torch import nn

    class Block(nn.Module):
        def __init__(self, channels_in: int, channels_out: int, stride: int) -> None:
            super().__init__()
            self.first = nn.Conv2d(channels_in, channels_out, 3, stride, 1, bias=False)
            self.first_norm = nn.BatchNorm2d(channels_out)
            self.second = nn.Conv2d(channels_out, channels_out, 3, 1, 1, bias=False)
            self.second_norm = nn.BatchNorm2d(channels_out)
            self.short = (
                nn.Identity()
                if channels_in == channels_out and stride == 1
                else nn.Conv2d(channels_in, channels_out, 1, stride)
            )

        def forward(self, x: torch.Tensor) -> torch.Tensor:
            y = torch.relu(self.first_norm(self.first(x)))
            return torch.relu(self.second_norm(self.second(y)) + self.short(x))

    class GrainNet(nn.Module):
        def __init__(self) -> None:
            super().__init__()
            self.stem = nn.Sequential(nn.Conv2d(3, 16, 3, 2, 1, bias=False), nn.BatchNorm2d(16), nn.ReLU())
            self.stage1 = Block(16, 24, 1)
            self.stage2 = Block(24, 40, 2)
            self.stage3 = Block(40, 64, 2)
            self.stage4 = Block(64, 80, 1)
            self.head = nn.Linear(80, len(CLASSES))

        def forward(self, x: torch.Tensor) -> torch.Tensor:
            x = self.stage4(self.stage3(self.stage2(self.stage1(self.stem(x)))))
            return self.head(x.mean(dim=(2, 3)))

    pictures, labels, painted = _training_pixels()
    for name, pixels, seed in (("grain-net-1", pictures, 11), ("grain-net-2", painted, 12)):
        torch.manual_seed(seed)
        rng = np.random.default_rng(seed)
        x = torch.from_numpy(pixels).permute(0, 3, 1, 2).float() / 127.5 - 1
        y = torch.from_numpy(labels)
        net = GrainNet()
        steps = len(y) // 64
        optimiser = torch.optim.AdamW(net.parameters(), lr=3e-3, weight_decay=2e-2)
        schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, 4e-3, epochs * steps)
        for epoch in range(epochs):
            net.train()
            order, total, began = torch.from_numpy(rng.permutation(len(y))), 0.0, time.time()
            for step in range(steps):
                pick = order[step * 64 : (step + 1) * 64]
                batch = torch.rot90(x[pick], int(rng.integers(4)), (2, 3))
                if rng.random() < 0.5:
                    batch = batch.flip(3)
                batch = (batch + 1) * (1 + 0.08 * torch.randn(len(pick), 3, 1, 1)) - 1
                loss = nn.functional.cross_entropy(net(batch), y[pick])
                optimiser.zero_grad()
                loss.backward()
                optimiser.step()
                schedule.step()
                total += float(loss)
            print(
                f"{name} epoch {epoch + 1}: loss {total / steps:.4f}, {time.time() - began:.0f} s",
                file=sys.stderr,
                flush=True,
            )
        net.eval()
        torch.onnx.export(
            net,
            (torch.zeros(1, 3, NETWORK_SIDE, NETWORK_SIDE),),
            str(DATA / f"{name}.onnx"),
            opset_version=17,
            input_names=["slides"],
            output_names=["scores"],
            dynamic_axes={"slides": {0: "n"}, "scores": {0: "n"}},
            dynamo=False,
        )


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("step", choices=["draw", "train"])
    parser.add_argument("--epochs", type=int, default=7)
    chosen = parser.parse_args()
    if chosen.step == "draw":
        draw_shipped()
    else:
        train_models(chosen.epochs)
