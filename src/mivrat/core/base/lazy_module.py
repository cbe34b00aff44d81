"""Modules that take long to load and that not every start needs: loaded when something of them is first used."""

from __future__ import annotations

from importlib import import_module
from threading import Thread
from typing import Any


class LazyModule:
    """Stands for a module until something of it is asked for; from then on it gives what the module gives. Several threads
    may ask at once: the import system lets one of them load it."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, what: str) -> Any:
        found = getattr(import_module(self._name), what)
        setattr(self, what, found)  # the next time it is found without a look
        return found


def load(*names: str) -> None:
    """Load modules, one after the other."""
    for name in names:
        import_module(name)


# Parts of NumPy that are loaded when something of them is first used. Asked for in one thread while another is loading the same one,
# they look for themselves without end (a RecursionError in numpy.__getattr__): so they are loaded before there is a second thread.
_PARTS = ("numpy.linalg", "numpy.random", "numpy.fft", "numpy.ma")


def load_shared() -> None:
    """Load what a thread that loads modules and the one that goes on would both ask for."""
    load(*_PARTS)


def load_meanwhile(*names: str) -> None:
    """Begin to load modules in a thread of its own, while this one goes on with what does not need them."""
    load_shared()
    Thread(target=load, args=names, name="loading", daemon=True).start()
