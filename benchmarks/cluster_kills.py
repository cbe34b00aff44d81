"""Workers, scheduler or client of a cluster killed at a random moment of `mivrat evaluate`: the same command again ends with the same files."""

from __future__ import annotations

import random
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from mivrat.demo.study import DATA

RUNS = 100
# Seconds of a run within which something is killed, and in which a command has to end.
WITHIN, PATIENCE = 4.0, 90.0
WHO = ("worker", "scheduler", "client")


class Cluster:
    """A scheduler and two workers as processes of their own, started again where they have ended."""

    def __init__(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.parts: dict[str, subprocess.Popen[bytes]] = {}

    @property
    def address(self) -> str:
        return f"tcp://127.0.0.1:{self.port}"

    def start(self) -> None:
        """See to it that all of it runs."""
        scheduler = self.parts.get("scheduler")
        if scheduler is None or scheduler.poll() is not None:
            self.stop()
            self._run("scheduler", "scheduler", "--host", "127.0.0.1", "--port", self.port, "--no-dashboard")
        for name in ("worker 1", "worker 2"):
            one = self.parts.get(name)
            if one is None or one.poll() is not None:
                self._run(name, "worker", self.address, "--nthreads", 1, "--no-nanny", "--no-dashboard")

    def _run(self, name: str, *words: object) -> None:
        command = [sys.executable, "-m", "distributed.cli.dask_" + str(words[0]), *map(str, words[1:])]
        quiet = subprocess.DEVNULL
        self.parts[name] = subprocess.Popen(command, stdout=quiet, stderr=quiet)

    def kill(self, who: str, choose: random.Random) -> None:
        name = choose.choice(["worker 1", "worker 2"]) if who == "worker" else who
        self.parts[name].send_signal(signal.SIGKILL)
        self.parts[name].wait()

    def stop(self) -> None:
        for one in self.parts.values():
            one.kill()
            one.wait()
        self.parts.clear()


def command(folder: Path, *more: str) -> list[str]:
    given = {
        "model": DATA / "grain-net-1.onnx",
        "recipe": DATA / "recipe.toml",
        "classes": DATA / "classes.txt",
        "images": DATA / "late-summer-field.csv",
        "out": folder / "out",
    }
    words = [word for key, value in given.items() for word in (f"--{key}", str(value))]
    return [sys.executable, "-m", "mivrat", "evaluate", *words, "--batch", "8", "--threads", "1", *more]


def files_of(folder: Path) -> dict[str, bytes]:
    return {one.name: one.read_bytes() for one in sorted((folder / "out").iterdir())}


def main() -> None:
    runs = 5 if "--quick" in sys.argv else RUNS
    choose, told = random.Random(0), Counter[str]()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE, "text": True}
        subprocess.run(command(folder / "alone"), check=True, **quiet)  # type: ignore[call-overload]
        wanted, cluster = files_of(folder / "alone"), Cluster()
        try:
            for number in range(runs):
                cluster.start()
                here, who = folder / str(number), choose.choice(WHO)
                here.mkdir()
                words = command(here, "--study", str(here / "s.mivrat"), "--cluster", cluster.address)
                running = subprocess.Popen(words, **quiet)  # type: ignore[call-overload]
                time.sleep(choose.uniform(0.5, WITHIN))
                if running.poll() is not None:
                    told["ended before"] += 1
                elif who == "client":
                    running.kill()
                else:
                    cluster.kill(who, choose)
                _, said = running.communicate(timeout=PATIENCE)
                told[f"{who}: exit {running.returncode}"] += 1
                if "Traceback" in said:
                    told["tracebacks"] += 1
                for _ in range(3):
                    if running.returncode == 0:
                        break
                    cluster.start()
                    running = subprocess.run(words, timeout=PATIENCE, **quiet)  # type: ignore[call-overload]
                told["identical" if running.returncode == 0 and files_of(here) == wanted else "DIFFERENT"] += 1
        finally:
            cluster.stop()
    print(f"{runs} kills: " + ", ".join(f"{what} {count}" for what, count in sorted(told.items())))


if __name__ == "__main__":
    main()
