"""Goes through the Python blocks of a page in order, and holds what they show against what the page says they do."""

from __future__ import annotations

import ast
import contextlib
import io
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class Block:
    """Some lines of Python, what the page says they show (None: it does not say), and the line they begin on."""

    code: str
    shown: str | None
    line: int


def blocks_of(page: Path) -> Iterator[Block]:
    """The Python blocks of a page, each with the text block right under it."""
    text = page.read_text(encoding="utf-8")
    for found in re.finditer(r"^```python\n(.*?)^```\n(?:\n```text\n(.*?)^```\n)?", text, re.MULTILINE | re.DOTALL):
        yield Block(found[1], found[2], text.count("\n", 0, found.start()) + 2)


def shown_by(code: str, names: dict[str, Any]) -> str:
    """What some lines print, and the value of the last one where that is an expression."""
    tree, out = ast.parse(code), io.StringIO()
    last = tree.body.pop() if isinstance(tree.body[-1], ast.Expr) else None
    with contextlib.redirect_stdout(out):
        exec(compile(tree, "page", "exec"), names)
        if last is not None:
            value = eval(compile(ast.Expression(last.value), "page", "eval"), names)
            if value is not None:
                print(repr(value) if not hasattr(value, "write_csv") else value)
    return out.getvalue()
