"""The headless commands; the window is opened from here too, and only then is the interface toolkit loaded."""

from __future__ import annotations

import argparse
import io
import os
import sqlite3
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn

from mivrat import __version__
from mivrat.commands.telling import BAD_INPUT, DONE, INSIDE, STOPPED, drop_output, say, write_out
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.job import Stopped
from mivrat.core.base.log import begin_logging, log_path, log_uncaught
from mivrat.core.base.text import printable
from mivrat.core.heatmaps.methods import METHODS
from mivrat.core.study.places import NotAllowed, allow_folders


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        one_line = " ".join(message.split())
        self.exit(BAD_INPUT, printable(f"{self.prog}: {one_line}. See '{self.prog} --help'\n"))

    def _print_message(self, message: str, file: Any = None) -> None:
        if message and file is sys.stdout:
            write_out(message)
        elif message:
            say(message.rstrip("\n"))


def _whole(least: int) -> Any:
    def number(text: str) -> int:
        if not text.isascii() or not text.isdigit() or len(text) > 18 or int(text) < least:
            raise argparse.ArgumentTypeError(f"{text!r} is not a whole number of at least {least}")
        return int(text)

    return number


def _ks(text: str) -> list[int]:
    return sorted({_whole(1)(part.strip()) for part in text.split(",")})


def _share(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number from 0 to 1")
    return value


def _seconds(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value <= 3600:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of seconds")
    return value


def _costs(text: str) -> tuple[float, float]:
    try:
        alarm, miss = (float(part) for part in text.split(","))
    except ValueError:
        alarm = miss = -1.0
    if not (0 <= alarm < float("inf") and 0 <= miss < float("inf")):
        raise argparse.ArgumentTypeError(f"{text!r} is not two costs such as 1,5")
    return alarm, miss


def _names(text: str) -> list[str]:
    from mivrat.core.checks.catalogue import BY_NAME

    names = [part.strip() for part in text.split(",") if part.strip()]
    for name in names:
        if name not in BY_NAME:
            raise argparse.ArgumentTypeError(f"unknown check {name!r}; the checks are {', '.join(BY_NAME)}")
    return names


def _model_place(text: str) -> Path:
    if not text.startswith(("https://", "http://")):
        return Path(text)
    from mivrat.core.models.service.places import place_of

    try:
        return place_of(text)
    except InputError as error:
        raise argparse.ArgumentTypeError(error.line()) from None


MODEL = "M.onnx|TABLE|SERVICE"


def _agreeing_to_folders(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--agree-folder",
        type=Path,
        action="append",
        default=[],
        metavar="DIR",
        help="the study may read models and images from this folder; needed for a study that was made elsewhere, may be repeated",
    )


def _agreeing() -> _Parser:
    """The option of all commands that may ask a service."""
    agreeing = _Parser(add_help=False)
    agreeing.add_argument(
        "--agree",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="images may be sent to this prediction service, now and later, such as https://host:443; a key too where its header and "
        "variable stand behind, in quotes",
    )
    return agreeing


def _run_options() -> _Parser:
    """What a run is made of: options that evaluate and check share."""
    run = _Parser(add_help=False, parents=[_agreeing()])
    run.add_argument(
        "--model",
        type=_model_place,
        required=True,
        metavar=MODEL,
        help="an ONNX file, a table of predictions made elsewhere, or a prediction service: its address "
        "(https://host/v2/models/NAME) or its description (service.toml)",
    )
    run.add_argument(
        "--images",
        type=Path,
        required=True,
        metavar="DIR|TABLE",
        help="one folder per class, or a table with path and label columns",
    )
    run.add_argument("--classes", type=Path, required=True, metavar="FILE", help="class names in the model's order")
    run.add_argument(
        "--recipe",
        type=Path,
        metavar="R.toml",
        help="the preprocessing; guessed from the model's input, and said so, where it is not given",
    )
    run.add_argument(
        "--study", type=Path, metavar="FILE.mivrat", help="keep the run in a study; a stopped run goes on from there"
    )
    run.add_argument("--batch", type=_whole(1), default=32, metavar="N")
    run.add_argument("--threads", type=_whole(1), default=0, metavar="N")
    run.add_argument("--seed", type=_whole(0), default=0, metavar="N", help="seed for everything that is sampled")
    return run


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="mivrat",
        description="Finds out how good a trained image classifier is, where it fails, and why. Without a command it opens the window.",
    )
    parser.add_argument("--version", action="version", version=f"mivrat {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)

    commands.add_parser("demo", help="open the demonstration study")
    opening = commands.add_parser("open", help="open a study")
    opening.add_argument("study", type=Path, metavar="FILE.mivrat")

    run = _run_options()
    evaluating = commands.add_parser("evaluate", parents=[run], help="score images and write the figures")
    evaluating.add_argument("--out", type=Path, required=True, metavar="DIR")
    evaluating.add_argument("--top", type=_ks, metavar="1,3,5")
    evaluating.add_argument(
        "--group", metavar="COLUMN", help="figures by this column (dates by month); no interval changes by it"
    )
    evaluating.add_argument(
        "--together",
        metavar="COLUMN",
        help="images with the same value here are related (one slide, patient, burst): intervals and tests are over these",
    )
    evaluating.add_argument(
        "--threshold", type=_share, metavar="T", help="two classes: call the second one from this probability on"
    )
    evaluating.add_argument(
        "--families", type=Path, metavar="TABLE", help="coarser groups of classes: a table with class and family"
    )
    evaluating.add_argument(
        "--costs", type=_costs, metavar="FALSE_ALARM,MISS", help="two classes: what either kind of mistake costs"
    )
    subset = evaluating.add_mutually_exclusive_group()
    subset.add_argument("--per-class", type=_whole(1), metavar="N", help="score only N images of each class, sampled")
    subset.add_argument("--sample", type=_whole(1), metavar="N", help="score only N images, sampled")
    evaluating.add_argument(
        "--require",
        action="append",
        default=[],
        metavar="'top1 >= 0.9'",
        help="exit with 1 where this does not hold; may be repeated",
    )
    evaluating.add_argument(
        "--junit", type=Path, metavar="FILE.xml", help="write the requirements as JUnit XML, for build servers"
    )

    comparing = commands.add_parser(
        "compare",
        parents=[_agreeing()],
        help="compare two runs: two models on the same images, or one model on two sets",
    )
    comparing.add_argument(
        "--a",
        required=True,
        metavar="RUN",
        help="a model (net.onnx, or net.onnx,recipe.toml), a table of predictions, or a service (its address or service.toml)",
    )
    comparing.add_argument(
        "--b",
        action="append",
        metavar="RUN",
        help="what is compared with a. May be repeated. With --images-b it may be left out: then it is a",
    )
    comparing.add_argument("--images", type=Path, required=True, metavar="DIR|TABLE")
    comparing.add_argument("--images-b", type=Path, metavar="DIR|TABLE", help="another image set, for b")
    comparing.add_argument(
        "--classes", type=Path, required=True, metavar="FILE", help="class names in the model's order"
    )
    comparing.add_argument("--classes-b", type=Path, metavar="FILE", help="b's, where they differ: matched by name")
    comparing.add_argument("--group", metavar="COLUMN", help="the difference by this column, on the same images")
    comparing.add_argument(
        "--together", metavar="COLUMN", help="images with the same value here are related: intervals are over these"
    )
    comparing.add_argument(
        "--margin", type=_share, default=0.01, metavar="SHARE", help="a loss of at most this counts as not worse"
    )
    comparing.add_argument("--batch", type=_whole(1), default=32, metavar="N")
    comparing.add_argument("--threads", type=_whole(1), default=0, metavar="N")
    comparing.add_argument("--seed", type=_whole(0), default=0, metavar="N", help="seed for everything that is sampled")
    comparing.add_argument(
        "--require",
        action="append",
        default=[],
        metavar="'low(difference(top1)) >= -0.01'",
        help="exit with 1 where this does not hold; may be repeated",
    )
    comparing.add_argument(
        "--junit", type=Path, metavar="FILE.xml", help="write the requirements as JUnit XML, for build servers"
    )
    comparing.add_argument("--out", type=Path, required=True, metavar="DIR")

    checking = commands.add_parser("check", parents=[run], help="check inputs for mismatches before trusting a figure")
    checking.add_argument(
        "--training", type=Path, metavar="DIR|TABLE", help="training images, to look for copies of them"
    )
    checking.add_argument("--only", type=_names, metavar="NAME,…", help="only these checks")
    checking.add_argument("--quick", action="store_true", help="leave out those that read every file or try recipes")
    checking.add_argument("--json", action="store_true", help="print the results as JSON instead of sentences")
    checking.add_argument("--out", type=Path, metavar="FILE", help="write the results as JSON")

    reporting = commands.add_parser("report", help="write the report of a run in a study")
    reporting.add_argument("study", type=Path, metavar="STUDY.mivrat")
    reporting.add_argument(
        "--out",
        type=Path,
        required=True,
        action="append",
        metavar="FILE",
        help=".html, .pdf, .json (its figures), .xml (JUnit), .md (a model card) or .csv (the list of its images); may be repeated",
    )
    _agreeing_to_folders(reporting)
    reporting.add_argument(
        "--run", metavar="NAME", help="a model, an image set, or 'MODEL on SET'; without it the latest run"
    )
    reporting.add_argument(
        "--against",
        action="append",
        default=[],
        metavar="RUN",
        help="compare it with this run of the study, as its baseline; may be repeated",
    )
    reporting.add_argument(
        "--candidate",
        action="append",
        default=[],
        metavar="RUN",
        help="compare this run with it, which is the baseline then; may be repeated",
    )
    verifying = commands.add_parser(
        "verify",
        parents=[_agreeing()],
        help="check the next model, or other images, against the criteria and findings of a study",
    )
    _agreeing_to_folders(verifying)
    verifying.add_argument("study", type=Path, metavar="STUDY.mivrat")
    verifying.add_argument("--model", type=_model_place, required=True, metavar=MODEL)
    verifying.add_argument(
        "--recipe",
        type=Path,
        metavar="R.toml",
        help="without it the study's recipe for this model, or the one before it",
    )
    verifying.add_argument(
        "--images", type=Path, metavar="DIR|TABLE", help="without it the images that the study concluded on"
    )
    verifying.add_argument("--batch", type=_whole(1), default=32, metavar="N")
    verifying.add_argument("--threads", type=_whole(1), default=0, metavar="N")
    verifying.add_argument("--out", type=Path, required=True, metavar="DIR")

    listing = commands.add_parser("layers", help="list the layers a heatmap can be taken from")
    listing.add_argument("model", type=_model_place, metavar="M.onnx")
    listing.add_argument("--recipe", type=Path, metavar="R.toml")
    listing.add_argument("--json", action="store_true")

    mapping = commands.add_parser("heatmap", parents=[_agreeing()], help="write heatmaps of single images")
    mapping.add_argument(
        "--model", type=_model_place, required=True, metavar="M.onnx|SERVICE", help="of a service: occlusion and masks"
    )
    mapping.add_argument("--recipe", type=Path, metavar="R.toml")
    mapping.add_argument("--image", type=Path, required=True, nargs="+", action="extend", metavar="FILE")
    mapping.add_argument("--classes", type=Path, metavar="FILE")
    mapping.add_argument("--layer", action="append", metavar="TENSOR", help="may be repeated: the maps are combined")
    mapping.add_argument(
        "--target",
        action="append",
        metavar="predicted|CLASS|A:B",
        help="target class. A:B explains A rather than B. May be repeated: the maps are combined",
    )
    mapping.add_argument(
        "--method",
        default="gradient",
        metavar="|".join(METHODS),
    )
    mapping.add_argument("--seed", type=_whole(0), default=0, metavar="N", help="for random masks")
    mapping.add_argument("--scale", default="heat", choices=("heat", "grey"), help="colours of maps without a sign")
    mapping.add_argument(
        "--over", default="photo", choices=("photo", "edges"), help="the photo or a drawing of its edges"
    )
    mapping.add_argument(
        "--legend", action="store_true", help="write <stem>-legend.png too: the overlay with its scale"
    )
    mapping.add_argument(
        "--board",
        choices=("png", "svg"),
        help="write <stem>-board.png or .svg too: layers (without --layer, one of each stage) by targets",
    )
    mapping.add_argument("--out", type=Path, required=True, metavar="DIR")
    covering = commands.add_parser(
        "cover", parents=[_agreeing()], help="hide a region of many images, score again, and test what changed"
    )
    covering.add_argument("--model", type=_model_place, required=True, metavar="M.onnx|SERVICE")
    covering.add_argument("--images", type=Path, required=True, metavar="DIR|TABLE")
    covering.add_argument("--classes", type=Path, required=True, metavar="FILE")
    covering.add_argument("--recipe", type=Path, metavar="R.toml")
    covering.add_argument("--labelled", metavar="CLASS", help="only images with this label")
    covering.add_argument("--predicted", metavar="CLASS", help="only images called this class")
    covering.add_argument("--region", metavar="LEFT,TOP,RIGHT,BOTTOM", help="as shares of the network input, 0 to 1")
    covering.add_argument(
        "--shapes",
        type=Path,
        metavar="FILE.json",
        help="a list of shapes: rectangle, ellipse, lasso, brush; points as shares",
    )
    covering.add_argument(
        "--hottest", type=float, metavar="SHARE", help="each image's hottest share of the area, such as 0.1"
    )
    covering.add_argument(
        "--colour",
        metavar="RRGGBB|IMAGE:LEFT,TOP,RIGHT,BOTTOM",
        help="in each image the pixels of this colour, or of the colour of a patch of an image",
    )
    covering.add_argument(
        "--tolerance", type=float, default=18.0, metavar="DE", help="how far from it, in CIE 1976 Delta E"
    )
    covering.add_argument(
        "--like", metavar="IMAGE:LEFT,TOP,RIGHT,BOTTOM", help="in each image the places like this patch of an image"
    )
    covering.add_argument("--alike", type=float, default=0.6, metavar="COSINE", help="how like it at least, -1 to 1")
    covering.add_argument(
        "--layer", metavar="TENSOR", help="the layer the heat, or what a place is like, is taken from"
    )
    covering.add_argument(
        "--heat-from", type=Path, metavar="M.onnx", help="take the heat from another model, by the same recipe"
    )
    covering.add_argument("--target", default="predicted", metavar="predicted|CLASS")
    covering.add_argument("--hide", default="blur", choices=("blur", "mean", "patch"))
    covering.add_argument("--seed", type=_whole(0), default=0, metavar="N")
    covering.add_argument("--out", type=Path, required=True, metavar="DIR")
    serving = commands.add_parser(
        "serve",
        help="put a model file behind the Open Inference Protocol: a stand-in to try out how services are asked",
    )
    serving.add_argument("--model", type=Path, required=True, metavar="M.onnx")
    serving.add_argument("--name", metavar="NAME", help="what the model is called; without it, what its file is")
    serving.add_argument("--port", type=_whole(0), default=8740, metavar="PORT", help="0: one that is free")
    serving.add_argument(
        "--host", default="127.0.0.1", metavar="ADDRESS", help="who may ask; without it this machine alone"
    )
    serving.add_argument(
        "--recipe", type=Path, metavar="R.toml", help="how pictures are prepared that are sent encoded"
    )
    serving.add_argument("--classes", type=Path, metavar="FILE", help="for answers that name the classes")
    serving.add_argument("--pictures", action="store_true", help="take encoded pictures in place of tensors")
    serving.add_argument("--no-metadata", action="store_true", help="do not describe inputs and outputs")
    serving.add_argument("--no-binary", action="store_true", help="take tensors as JSON only")
    serving.add_argument(
        "--version", default="1", metavar="VERSION", help="the version that the server reports for the model"
    )
    serving.add_argument(
        "--new-version-after", type=_whole(1), default=0, metavar="N", help="answer as another version from then on"
    )
    serving.add_argument("--delay", type=_seconds, default=0.0, metavar="SECONDS", help="wait before each answer")
    serving.add_argument(
        "--trouble",
        action="append",
        default=[],
        metavar="KIND:N",
        help="fail on purpose: busy:10 for every tenth request, busy:0.02 for two in a hundred. KIND is one of busy, limit, gateway, "
        "cut, hang, refuse, shape, nan, json, endless and slow. May be repeated",
    )
    serving.add_argument("--seed", type=_whole(0), default=0, metavar="N", help="for trouble at random")
    return parser


def _has_display() -> bool:
    """Whether a window can really be opened, tried in a process of its own: the toolkit aborts where it cannot."""
    if not any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        return False
    attempt = "from PySide6.QtGui import QGuiApplication; QGuiApplication([])"
    try:
        return (
            subprocess.run([sys.executable, "-c", attempt], capture_output=True, timeout=30, check=False).returncode
            == 0
        )
    except subprocess.TimeoutExpired:
        return False


def _window(command: str | None, study: Path | None) -> int:
    if study is not None and not study.is_file():
        raise InputError("the study does not exist", where=study, hint="name a .mivrat file")
    if not _has_display():
        if command == "demo":
            from mivrat.demo.headless import run_headless

            folder = Path("mivrat-demonstration").resolve()
            say(f"mivrat: no display was found for a window; running the demonstration headless, into {folder}")
            run_headless(folder)
            return DONE
        raise InputError(
            "no display was found for a window, or a system library for it is missing",
            hint="evaluate, compare, check, report, verify, layers, heatmap and cover work without; tools/setup.sh names missing libraries",
        )
    from mivrat.ui.application import run

    return run(command, study)


def run_command(arguments: Sequence[str]) -> int:
    """Run one command and return its exit code; InputError goes through."""
    args = _parser().parse_args(arguments)
    if getattr(args, "agree", None):
        from mivrat.core.models.service.agreement import agree, read_agreement

        for text in args.agree:
            agree(read_agreement(text))
    # What a command takes is loaded when it is asked for: the others answer without.
    if args.command in ("evaluate", "check"):
        from mivrat.commands import evaluating

        return {"evaluate": evaluating.evaluate, "check": evaluating.check}[args.command](args)
    if args.command == "compare":
        from mivrat.commands import comparing

        return comparing.compare(args)
    if args.command in ("report", "verify"):
        from mivrat.commands import concluding

        return {"report": concluding.report, "verify": concluding.verify}[args.command](args)
    if args.command == "serve":
        from mivrat.commands import serving

        return serving.serve(args)
    if args.command in ("layers", "heatmap", "cover"):
        from mivrat.commands import explaining

        return {"layers": explaining.layers, "heatmap": explaining.heatmap, "cover": explaining.cover}[args.command](
            args
        )
    return _window(args.command, getattr(args, "study", None))


def _agrees(asked: NotAgreed | NotAllowed) -> bool:
    """Ask on a terminal whether images may be sent, or folders read; without one the answer is no."""
    if not (sys.stdin is not None and sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    from mivrat.core.models.service.agreement import agree

    say(f"mivrat: {asked.question}")
    sys.stderr.write("yes or no? ")
    sys.stderr.flush()
    if sys.stdin.readline().strip().lower() not in ("y", "yes"):
        return False
    if isinstance(asked, NotAllowed):
        allow_folders(*asked.places)
    else:
        agree(asked.agreement)
    return True


def _code_of(arguments: Sequence[str]) -> int:
    """Run one command; whatever ends it becomes one line on standard error and an exit code."""
    try:
        try:
            return run_command(arguments)
        except (NotAgreed, NotAllowed) as error:
            if not _agrees(error):
                raise
            return run_command(arguments)
    except InputError as error:
        say(f"mivrat: {error.line()}")
        return BAD_INPUT
    except (KeyboardInterrupt, Stopped):
        return STOPPED
    except BrokenPipeError:
        drop_output()  # whoever read it has seen enough
        return DONE
    except SystemExit as ended:
        return ended.code if isinstance(ended.code, int) else DONE
    except sqlite3.Error as error:
        log_uncaught(type(error), error, error.__traceback__, f"mivrat {' '.join(arguments[:1])}")
        say(f"mivrat: a study or cache cannot be read or written ({error}). The details are in the log, {log_path()}")
        return BAD_INPUT
    except BaseException as error:
        log_uncaught(type(error), error, error.__traceback__, f"mivrat {' '.join(arguments[:1])}")
        say(
            f"mivrat: something went wrong inside Mivrat ({type(error).__name__}: {str(error)[:200]}). The details are in the log, {log_path()}"
        )
        return INSIDE


def main() -> NoReturn:
    """The ``mivrat`` command."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # names of files may hold anything
    begin_logging()
    code = _code_of(sys.argv[1:])
    try:
        write_out("")
    except (InputError, BrokenPipeError) as error:
        drop_output()
        if isinstance(error, InputError) and code == DONE:
            say(f"mivrat: {error.line()}")
            code = BAD_INPUT
    sys.exit(code)
