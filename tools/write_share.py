"""Writes the manual page and the completions, from the records of the commands, to where they are shipped."""

from __future__ import annotations

from mivrat.commands.shells import bash, fish, manual, zsh
from mivrat.core.base.files import write_whole
from mivrat.share import SHARE

WRITTEN = {
    "man/man1/mivrat.1": manual,
    "bash-completion/completions/mivrat": bash,
    "zsh/site-functions/_mivrat": zsh,
    "fish/vendor_completions.d/mivrat.fish": fish,
}


def main() -> None:
    for name, write in WRITTEN.items():
        write_whole(SHARE / name, write())


if __name__ == "__main__":
    main()
