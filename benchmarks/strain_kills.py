"""Kills a strain test at random moments and takes it up again: the files written in the end are those of an undisturbed one, and no answer is kept twice."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from mivrat.core.study.file import Study
from mivrat.demo.study import DATA

KILLS = 50
KINDS = ("blur:0.5,1,2", "mark:0.05,0.1")


def command(study: Path, out: Path) -> list[str]:
    given = {
        "model": "grain-net-1.onnx",
        "recipe": "recipe.toml",
        "classes": "classes.txt",
        "images": "spring-check.csv",
    }
    words = [part for name, file in given.items() for part in (f"--{name}", str(DATA / file))]
    words += [part for kind in KINDS for part in ("--kind", kind)]
    return [sys.executable, "-m", "mivrat", "strain", *words, "--study", str(study), "--out", str(out)]


def written(folder: Path) -> tuple[bytes, ...]:
    return tuple((folder / name).read_bytes() for name in ("strain.json", "strain.csv"))


def kept(path: Path) -> int:
    """How many answers to distorted pictures a study has; they are keyed by what they are of, so none is there twice."""
    with Study.open(path) as study:
        return int(study.rows("SELECT COUNT(*) FROM strain_answer")[0][0])


def main() -> None:
    wanted_kills, rng = 5 if "--quick" in sys.argv else KILLS, random.Random(0)
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        began = time.perf_counter()
        subprocess.run(command(folder / "whole.mivrat", folder / "whole"), check=True, **quiet)
        usual, wanted, all_kept = time.perf_counter() - began, written(folder / "whole"), kept(folder / "whole.mivrat")
        kills = landed = finished = 0
        while kills < wanted_kills:
            study, out = folder / f"run {finished}.mivrat", folder / f"out {finished}"
            for _ in range(rng.randint(1, 4)):
                process = subprocess.Popen(command(study, out), start_new_session=True, **quiet)
                time.sleep(rng.uniform(0.2, usual))
                if process.poll() is not None:
                    break
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
                kills += 1
                if study.exists():
                    landed += 0 < kept(study) < all_kept
            subprocess.run(command(study, out), check=True, **quiet)
            assert written(out) == wanted, "the files differ from those of an undisturbed test"
            assert kept(study) == all_kept
            finished += 1
        print(
            f"{kills} kills over {finished} tests ({landed} of them with some, not all, of {all_kept} answers kept): every study opened, every "
            "test ended with the same files, byte for byte, and as many answers kept"
        )


if __name__ == "__main__":
    main()
