"""The command completion, and the manual page: both written from the records of the commands."""

from __future__ import annotations

import argparse
import textwrap
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from mivrat import __version__
from mivrat.commands.catalogue import COMMANDS, Command, OneOf, Option
from mivrat.commands.telling import DONE, write_out


def completion(args: argparse.Namespace) -> int:
    """Print what a shell completes by."""
    write_out({"bash": bash, "zsh": zsh, "fish": fish}[args.shell]())
    return DONE


def options_of(command: Command) -> Iterator[Option]:
    """Every option of a command, those of which only one may be given included; positional values too."""
    for one in command.options:
        yield from one.options if isinstance(one, OneOf) else (one,)


def _choices(option: Option) -> Sequence[str]:
    return [str(one) for one in option.settings.get("choices") or ()]


def _takes_value(option: Option) -> bool:
    return option.settings.get("action") not in ("store_true", "store_false", "store_const")


def _is_file(option: Option) -> bool:
    """Whether files are completed: a path, or what may be one."""
    kind = option.settings.get("type")
    return kind is Path or getattr(kind, "__name__", "") == "model_place"


def _named(command: Command) -> list[Option]:
    return [one for one in options_of(command) if one.name.startswith("-")]


def _first_sentence(text: str | None) -> str:
    return (text or "").split("; ")[0].split(". ")[0].rstrip(".")


# --- bash ---


def bash() -> str:
    """Completion for bash (4 or later), without any library of completions."""
    lines = ["# Completion of the command mivrat for bash.", "_mivrat() {"]
    lines += [
        '  local current="${COMP_WORDS[COMP_CWORD]}" before="${COMP_WORDS[COMP_CWORD-1]}" command="${COMP_WORDS[1]}"',
        "  COMPREPLY=()",
        '  if [ "$COMP_CWORD" -eq 1 ]; then',
        f'    COMPREPLY=($(compgen -W "{" ".join(one.name for one in COMMANDS)} --help --version" -- "$current"))',
        "    return",
        "  fi",
        '  case "$command $before" in',
    ]
    for command in COMMANDS:
        for option in _named(command):
            if _choices(option):
                words = " ".join(_choices(option))
                lines.append(
                    f'    \'{command.name} {option.name}\') COMPREPLY=($(compgen -W "{words}" -- "$current")); return;;'
                )
            elif _takes_value(option):
                files = (
                    'compopt -o filenames 2>/dev/null; mapfile -t COMPREPLY < <(compgen -f -- "$current"); '
                    if _is_file(option)
                    else ""
                )
                lines.append(f"    '{command.name} {option.name}') {files}return;;")
    lines += ["  esac", '  case "$command" in']
    for command in COMMANDS:
        words = " ".join([*(one.name for one in _named(command)), "--help"])
        plain = " ".join(word for one in options_of(command) if not one.name.startswith("-") for word in _choices(one))
        lines.append(f'    {command.name}) local options="{words}" values="{plain}";;')
    lines += [
        '    *) local options="--help" values="";;',
        "  esac",
        '  if [ "${current#-}" != "$current" ]; then',
        '    COMPREPLY=($(compgen -W "$options" -- "$current"))',
        '  elif [ -n "$values" ] && [ "$COMP_CWORD" -eq 2 ]; then',
        '    COMPREPLY=($(compgen -W "$values" -- "$current"))',
        "  else",
        "    compopt -o filenames 2>/dev/null",
        '    mapfile -t COMPREPLY < <(compgen -f -- "$current")',
        "  fi",
        "}",
        "complete -F _mivrat mivrat",
    ]
    return "\n".join(lines) + "\n"


# --- zsh ---


def _zsh_text(text: str) -> str:
    """A description as it may stand in brackets within single quotes."""
    for mark in ("\\", "[", "]", ":"):
        text = text.replace(mark, f"\\{mark}")
    return text.replace("'", "'\\''")


def _zsh_option(option: Option) -> str:
    told = _zsh_text(_first_sentence(option.settings.get("help")))
    repeated = "*" if option.settings.get("action") == "append" else ""
    what = ""
    if _takes_value(option):
        values = f"({' '.join(_choices(option))})" if _choices(option) else "_files" if _is_file(option) else " "
        what = f":{_zsh_text(str(option.settings.get('metavar') or 'value'))}:{values}"
    return f"'{repeated}{option.name}[{told}]{what}'"


def zsh() -> str:
    """Completion for zsh."""
    lines = [
        "#compdef mivrat",
        "# Completion of the command mivrat for zsh.",
        "",
        "_mivrat() {",
        "  local -a commands",
        "  commands=(",
        *(f"    '{one.name}:{_zsh_text(_first_sentence(one.help))}'" for one in COMMANDS),
        "  )",
        "  if (( CURRENT == 2 )); then",
        "    _describe 'command' commands",
        "    return",
        "  fi",
        "  local command=$words[2]",
        "  shift words",
        "  (( CURRENT-- ))",
        "  case $command in",
    ]
    for command in COMMANDS:
        given = [_zsh_option(one) for one in _named(command)]
        for one in options_of(command):
            if not one.name.startswith("-"):
                values = f"({' '.join(_choices(one))})" if _choices(one) else "_files"
                given.append(f"':{_zsh_text(str(one.settings.get('metavar') or one.name))}:{values}'")
        lines += [f"    {command.name})", "      _arguments -s \\", *(f"        {one} \\" for one in given)]
        lines += ["        '--help[show all options]'", "      ;;"]
    lines += ["  esac", "}", "", '_mivrat "$@"']
    return "\n".join(lines) + "\n"


# --- fish ---


def _fish_text(text: str) -> str:
    return text.replace("\\", "\\\\").replace("'", "\\'")


def fish() -> str:
    """Completion for fish."""
    lines = [
        "# Completion of the command mivrat for fish.",
        "complete -c mivrat -f -n __fish_use_subcommand -l version",
    ]
    for command in COMMANDS:
        told = _fish_text(_first_sentence(command.help))
        lines.append(f"complete -c mivrat -f -n __fish_use_subcommand -a {command.name} -d '{told}'")
        seen = f"-n '__fish_seen_subcommand_from {command.name}'"
        for one in options_of(command):
            about = _fish_text(_first_sentence(one.settings.get("help")))
            if not one.name.startswith("-"):
                if _choices(one):
                    lines.append(f"complete -c mivrat -f {seen} -a '{' '.join(_choices(one))}' -d '{about}'")
                continue
            how = ""
            if _choices(one):
                how = f" -x -a '{' '.join(_choices(one))}'"
            elif _takes_value(one):
                how = " -r" if _is_file(one) else " -x"
            lines.append(f"complete -c mivrat {seen} -l {one.name.removeprefix('--')}{how} -d '{about}'")
    return "\n".join(lines) + "\n"


# --- the manual page ---


def _roff(text: str) -> str:
    """A text as it stands in a manual page."""
    found = text.replace("\\", "\\e").replace("-", "\\-").replace("\n", " ")
    return f"\\&{found}" if found[:1] in (".", "'") else found


def _usage(option: Option) -> str:
    metavar: Any = option.settings.get("metavar") or "|".join(_choices(option)) or option.name.lstrip("-").upper()
    if not option.name.startswith("-"):
        return f"\\fI{_roff(str(metavar))}\\fR"
    value = f" \\fI{_roff(str(metavar))}\\fR" if _takes_value(option) else ""
    return f"\\fB{_roff(option.name)}\\fR{value}"


def _filled(text: str) -> list[str]:
    """A text in lines of at most 78 characters, none of which begins like a request."""
    return [_roff(line) for line in textwrap.wrap(text, 74, break_long_words=False, break_on_hyphens=False)] or ["\\&"]


def manual() -> str:
    """The manual page mivrat(1)."""
    lines = [
        f'.TH MIVRAT 1 "" "Mivrat {__version__}" "User commands"',
        ".SH NAME",
        "mivrat \\- tell how good an image classifier is, where it fails, and why",
        ".SH SYNOPSIS",
        ".B mivrat",
        ".RI [ command ]",
        ".RI [ options ]",
        ".SH DESCRIPTION",
        "Without a command the window is opened.",
        "With a command the same work is done in a terminal,",
        "and its results are written as files.",
        ".SH COMMANDS",
    ]
    for command in COMMANDS:
        lines += [f".SS {command.name}", *_filled(f"{command.help[:1].upper()}{command.help[1:]}.")]
        for option in options_of(command):
            lines += [".TP", _usage(option), *_filled(option.settings.get("help") or "")]
    lines += [
        ".SH EXIT STATUS",
        *(
            line
            for code, meaning in (
                ("0", "Done."),
                ("1", "Something that was required does not hold."),
                ("2", "The input cannot be used; one line says what, where, and how to correct it."),
                ("70", "Something went wrong inside Mivrat; the details are in its log."),
                ("130", "Stopped; what was done is kept."),
            )
            for line in (".TP", f".B {code}", meaning)
        ),
        ".SH SEE ALSO",
        "The guide and the formats of all files are in the folder docs of the source.",
    ]
    return "\n".join(lines) + "\n"
