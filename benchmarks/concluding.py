"""Reports of a small study, of one with many pictures and of a very large one: seconds and size; peak memory of a long contact sheet."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

from benchmarks.opening import CLASSES, IMAGES, make_study
from benchmarks.pictures import write_jpegs
from mivrat.core.concluding.findings import Draft, FindingClaim, FindingPicture, as_text
from mivrat.core.concluding.of_study import ground_of, make_finding, read_snapshot
from mivrat.core.heatmaps.pool import MakerPool
from mivrat.core.study.file import Study
from mivrat.core.study.kept_findings import KeptFinding, save_findings
from mivrat.core.study.settings import save_criteria
from mivrat.demo.study import demo_study_path, make_demo_study

PICTURES, SHEET = 500, 10_000
_MEASURED = """
import resource, sys, time
from mivrat.cli import run_command
began = time.perf_counter()
run_command(sys.argv[1:])
print(time.perf_counter() - began, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""
_SHEET = """
import datetime, resource, sys, time
from pathlib import Path
import numpy as np
from mivrat.core.answers.answers import Answers, ScoredBatch
from mivrat.core.answers.judging import judge
from mivrat.core.pictures.image_sets import ImageItem, ImageSet
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.reporting.exporting import Handed, Source, contact_sheet
from mivrat.core.study.records import RunInfo, RunRecord
from mivrat.core.study.reviews import Reviews
folder, out, number = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
files = sorted(folder.glob("*.jpg"))
items = [ImageItem(files[i % len(files)].name, i % 8) for i in range(number)]
answers = Answers(number, 8, "logits")
answers.add(ScoredBatch(np.arange(number), np.random.default_rng(0).normal(0, 1, (number, 8)).astype(np.float32), {}))
images = ImageSet("set", folder, items)
record = RunRecord(RunInfo(1, "net", "set", 1, 1), [f"c{k}" for k in range(8)], folder / "m.onnx", Recipe(), True, images, answers)
source = Source("study", "net", "set", "all", datetime.date(2031, 1, 1))
before, began = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, time.perf_counter()
for _ in contact_sheet(Handed(source, record, judge(answers, images.labels), Reviews(), list(range(number))), out):
    pass
print(time.perf_counter() - began, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024, before)
"""


def _run(script: str, *words: object) -> list[float]:
    done = subprocess.run([sys.executable, "-c", script, *map(str, words)], capture_output=True, text=True, check=True)
    return [float(one) for one in done.stdout.splitlines()[-1].split()]


def _report(what: str, study: Path, run: str, out: Path) -> None:
    for ending in ("html", "pdf"):
        path = out / f"report.{ending}"
        seconds, peak = _run(_MEASURED, "report", study, "--run", run, "--out", path)
        print(f"{what}, {ending}: {seconds:.1f} s, {path.stat().st_size / 1e6:.2f} MB, peak {peak:.0f} MB", flush=True)


def _with_pictures(study: Path) -> None:
    """A finding with a picture of every image, and one with heatmaps, of the first run."""
    ground = ground_of(study, read_snapshot(study, 1), MakerPool())
    names, items = ground.names, ground.snapshot.record.image_set.items
    one = make_finding(ground, Draft("Wrong", "", FindingClaim("criterion", "top1 >= 0.9")), None)
    assert one is not None
    plain = tuple(FindingPicture(names[i]) for i in range(len(items)))
    heated = tuple(FindingPicture(names[i], True) for i in range(PICTURES - len(items)))
    with Study.open(study) as kept:
        save_criteria(kept, 1, ["top1 >= 0.9"])
        save_findings(
            kept,
            [
                KeptFinding(i + 1, as_text(replace(one, title=f"{i}", pictures=some)))
                for i, some in enumerate((plain, heated))
            ],
        )


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ |= {
            one: str(folder / one) for one in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME")
        }
        study = demo_study_path()
        list(make_demo_study(study))
        run = "grain-net-1 on late-summer-field"
        _report("400 images x 8 classes", study, run, folder)
        _with_pictures(study)
        _report(f"the same with {PICTURES} pictures", study, run, folder)
        (folder / "jpegs").mkdir()
        write_jpegs(folder / "jpegs", 200)
        for ending in ("pdf", "png"):
            seconds, peak, before = _run(_SHEET, folder / "jpegs", folder / f"sheet.{ending}", SHEET)
            print(
                f"contact sheet of {SHEET} images, {ending}: {seconds:.0f} s, peak {peak:.0f} MB ({before:.0f} before)",
                flush=True,
            )
        if "--quick" not in sys.argv:
            big = folder / "big.mivrat"
            make_study(big)
            _report(f"{IMAGES} images x {CLASSES} classes", big, "made up", folder)


if __name__ == "__main__":
    main()
