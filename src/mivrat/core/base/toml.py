"""Writes values as TOML."""

from __future__ import annotations

from typing import Any


def toml_value(value: Any) -> str:
    """A text, number, truth value, list or table as it stands behind ``key =``."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        escaped = value.replace("\\", "\\\\").replace('"', '\\"')
        return '"' + "".join(c if c >= " " and c != "\x7f" else f"\\u{ord(c):04x}" for c in escaped) + '"'
    if isinstance(value, list | tuple):
        return "[" + ", ".join(toml_value(v) for v in value) + "]"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{toml_value(str(key))} = {toml_value(one)}" for key, one in value.items()) + "}"
    return repr(value)
