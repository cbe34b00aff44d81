"""Peak memory and time of `mivrat evaluate` on 2,000 and on 50,000 images."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.networks import CLASSES, RECIPE, mobile
from benchmarks.pictures import write_jpegs, write_table
from mivrat.core.pictures.recipe import recipe_to_toml

SIZES = (2_000, 50_000)
_MEASURED = """
import resource, sys
from mivrat.cli import run_command
code = run_command(sys.argv[1:])
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
sys.exit(code)
"""


def main() -> None:
    sizes = (400, 4_000) if "--quick" in sys.argv else SIZES
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "jpegs").mkdir()
        files = write_jpegs(folder / "jpegs", max(sizes))
        (folder / "classes.txt").write_text("\n".join(f"c{i}" for i in range(CLASSES)), encoding="utf-8")
        (folder / "recipe.toml").write_text(recipe_to_toml(RECIPE), encoding="utf-8")
        model = mobile(folder)
        for number in sizes:
            table = write_table(folder / f"{number}.csv", files[:number])
            arguments = {
                "model": model.path,
                "recipe": folder / "recipe.toml",
                "classes": folder / "classes.txt",
                "images": table,
                "out": folder / "out",
                "study": folder / f"{number}.mivrat",
            }
            options = [part for key, value in arguments.items() for part in (f"--{key}", str(value))]
            began = time.perf_counter()
            done = subprocess.run(
                [sys.executable, "-c", _MEASURED, "evaluate", *options], capture_output=True, text=True, check=True
            )
            seconds = time.perf_counter() - began
            print(
                f"{number} images, {CLASSES} classes: peak {done.stdout.split()[-1]} MB, "
                f"{1000 * seconds / number:.1f} ms an image, study {table.with_suffix('.mivrat').stat().st_size / 1e6:.0f} MB",
                flush=True,
            )


if __name__ == "__main__":
    main()
