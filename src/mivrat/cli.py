"""The command line: parses what was typed, runs the command, and turns whatever ends it into one line and an exit code."""

from __future__ import annotations

import argparse
import io
import sqlite3
import sys
from collections.abc import Sequence
from typing import Any, NoReturn

from mivrat.commands.catalogue import BY_NAME, COMMANDS, OneOf
from mivrat.commands.telling import BAD_INPUT, DONE, INSIDE, STOPPED, drop_output, say, write_out
from mivrat.core.base.errors import InputError, NotAgreed
from mivrat.core.base.job import Stopped
from mivrat.core.base.log import begin_logging, log_path, log_uncaught
from mivrat.core.base.text import printable
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


class _Versions(argparse.Action):
    def __call__(self, parser: argparse.ArgumentParser, *_: Any) -> None:
        from mivrat.commands.versions import versions

        write_out(versions())
        parser.exit()


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="mivrat",
        description="Finds out how good a trained image classifier is, where it fails, and why. Without a command it opens the window.",
    )
    parser.add_argument(
        "--version", action=_Versions, nargs=0, help="the version, and those of what figures rest on; then end"
    )
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)
    for command in COMMANDS:
        own = commands.add_parser(command.name, help=command.help)
        for one in command.options:
            if isinstance(one, OneOf):
                group = own.add_mutually_exclusive_group()
                for option in one.options:
                    group.add_argument(option.name, **option.settings)
            else:
                own.add_argument(one.name, **one.settings)
    return parser


def run_command(arguments: Sequence[str]) -> int:
    """Run one command and return its exit code; InputError goes through."""
    args = _parser().parse_args(arguments)
    if getattr(args, "agree", None):
        from mivrat.core.models.service.agreement import agree, read_agreement

        for text in args.agree:
            agree(read_agreement(text))
    command = BY_NAME[args.command or "open"]  # without a command: the start page
    return command.function(args)


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
