"""What every page of a step can do; a page overrides what it has."""

from __future__ import annotations

from typing import ClassVar

from mivrat.workspace.concluding import Concluder


class Page:
    """Put before the widget that a page is: ``class Headline(Page, QWidget)``.

    ``title`` stands on its tab; ``place_id`` stands for it in a study's bookmark and never changes, whatever the tab is called.
    ``help`` says in a sentence or two what it is for: over its tab, and above the keys.
    """

    title: ClassVar[str]
    place_id: ClassVar[str]
    help: ClassVar[str]

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

    def finding(self, concluder: Concluder) -> bool:
        """Make a finding of what it shows; False where it has nothing of its own, so that the selection is made one."""
        return False

    def as_table(self) -> list[list[str]] | None:
        """What it shows, line by line, the headings first; None where it is not a table."""
        return None
