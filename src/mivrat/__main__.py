"""Lets ``python -m mivrat`` do what the ``mivrat`` command does."""

from mivrat.cli import main

main()
