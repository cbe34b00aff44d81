"""What is loaded in a thread of its own, and what must be there before it begins."""

from __future__ import annotations

import subprocess
import sys


def test_parts_that_look_for_themselves_are_loaded_before_there_is_a_second_thread() -> None:
    """Asked for in two threads at once, NumPy's parts look for themselves without end."""
    asked = (
        "import sys, threading; from mivrat.core.base import lazy_module; "
        "begun = []; start = threading.Thread.start; "
        "lazy_module.Thread.start = lambda self: begun.append(all(part in sys.modules for part in lazy_module._PARTS)); "
        "lazy_module.load_meanwhile('json'); print(begun)"
    )
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True, timeout=60)
    assert done.stdout.strip() == "[True]"
