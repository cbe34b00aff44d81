"""What the pages of the Compare step share: the difference that they show can become a finding."""

from __future__ import annotations

from mivrat.core.comparing.comparison import Comparison
from mivrat.core.concluding.evaluation_context import reference_of
from mivrat.core.figures.differences import Difference
from mivrat.ui.parts.page import Page
from mivrat.workspace.concluding import Concluder
from mivrat.workspace.workspace import Workspace


class ComparedPage(Page):
    """A page of what two runs come to together."""

    workspace: Workspace

    def figure_shown(self, found: Comparison) -> tuple[str, Difference]:
        """The figure that a finding is about, as criteria name it, and its difference."""
        return "top1", found.either.top1

    def finding(self, concluder: Concluder) -> bool:
        shown = self.workspace.shown
        if shown.held is None or shown.held.on_images is None or shown.compared is None:
            return False
        figure, difference = self.figure_shown(shown.compared.found)
        value = None if difference.value is None else -difference.value
        concluder.add_difference(figure, value, reference_of(shown.held.b.record))
        return True
