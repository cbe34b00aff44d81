"""Kills runs at random moments, takes them up again, and holds the final answers against an undisturbed run's, bit for bit."""

from __future__ import annotations

import hashlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from mivrat.core.study.file import Study
from mivrat.core.study.runs import list_runs, load_run
from mivrat.demo.study import DATA, demo_inputs

KILLS = 200


def command(study: Path, out: Path) -> list[str]:
    options = {
        "model": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "spring-check.csv",
        "out": out,
        "study": study,
        "batch": 8,
    }
    return [sys.executable, "-m", "mivrat", "evaluate", *(p for k, v in options.items() for p in (f"--{k}", str(v)))]


def content(study_path: Path) -> str:
    """A digest of every answer, its state and reason."""
    study = Study.open(study_path)
    record = load_run(study, 1)
    answers = record.answers
    assert not len(answers.pending)
    digest = hashlib.sha256(
        answers.rows.tobytes() + answers.state.tobytes() + repr(sorted(answers.reasons.items())).encode()
    )
    digest.update(repr(study.db.execute("SELECT COUNT(*) FROM answer").fetchone()).encode())
    study.close()
    return digest.hexdigest()


def main() -> None:
    wanted_kills = 20 if "--quick" in sys.argv else KILLS
    rng = random.Random(0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        began = time.perf_counter()
        subprocess.run(command(folder / "whole.mivrat", folder / "whole"), check=True, **quiet)
        usual = time.perf_counter() - began
        wanted = content(folder / "whole.mivrat")
        kills = landed = finished = 0
        progress: list[int] = []
        while kills < wanted_kills:
            study = folder / f"run {finished}.mivrat"
            while kills < wanted_kills:
                process = subprocess.Popen(command(study, folder / "out"), start_new_session=True, **quiet)
                # Most of a run is start-up; half of the moments are drawn from the time in which answers are written.
                time.sleep(rng.uniform(0.2, usual) if rng.random() < 0.5 else rng.uniform(0.6, 1.0) * usual)
                if process.poll() is not None:
                    break
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
                kills += 1
                if study.exists():
                    opened = Study.open(study)
                    done = len(demo_inputs().sets["spring-check"].items)
                    if list_runs(opened):
                        done -= len(load_run(opened, 1).answers.pending)
                        landed += 0 < done < 400
                        progress.append(done)
                    opened.close()
            subprocess.run(command(study, folder / "out"), check=True, **quiet)
            assert content(study) == wanted, "the answers differ from those of an undisturbed run"
            finished += 1
        print(
            f"{kills} kills over {finished} runs ({landed} of them with some, not all, of 400 images answered): every study opened, "
            "every run ended with answers identical bit for bit to an undisturbed run's"
        )


if __name__ == "__main__":
    main()
