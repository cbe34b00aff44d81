"""What every page of a step can do; a page overrides what it has."""

from __future__ import annotations


class Page:
    """Put before the widget that a page is: ``class Headline(Page, QWidget)``."""

    @property
    def settled(self) -> bool:
        """Whether nothing is still being computed for it."""
        return True

    def stop(self) -> None:
        """Stop what is computed for it, and wait for the end."""

    def begin_anew(self) -> None:
        """Another study is open: nothing of how the one before was looked at is taken over."""

    def undo(self) -> bool:
        """Undo the last step on the page, where it has steps of its own; whether there was one."""
        return False

    def redo(self) -> bool:
        """Redo the step undone last; whether there was one."""
        return False

    def as_table(self) -> list[list[str]] | None:
        """What it shows, line by line, the headings first; None where it is not a table."""
        return None
