"""The sentences on top: what may be claimed of what is held, and what may not; or that nothing is held, and what can be."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QFrame, QVBoxLayout

from mivrat.core.comparing.claims import About
from mivrat.ui import words
from mivrat.ui.actions import tooltip
from mivrat.ui.held import LONGEST
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.widgets import button, clear, label, restyle, row, tip
from mivrat.ui.theme import theme
from mivrat.workspace.comparing import Comparer
from mivrat.workspace.workspace import Workspace

# So many runs are offered by a button each; the menu has them all.
OFFERED = 6


class Verdict(QFrame):
    """Says what may be claimed; while nothing is held it offers what can be."""

    def __init__(self, workspace: Workspace, comparer: Comparer, *about: About) -> None:
        """``about``: the sentences that a page is about; all without any."""
        super().__init__()
        self.setObjectName("claims")
        self.workspace, self.comparer, self._about = workspace, comparer, about
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(12, 8, 12, 8)
        self._layout.setSpacing(3)
        self.sentences: list[str] = []
        self._late = Late(self, self.refresh, workspace.topics.compared, workspace.topics.contents, theme.changed)

    def refresh(self) -> None:
        t, shown = theme.tokens, self.workspace.shown
        side = t.second if shown.held is not None else t.line
        restyle(
            self,
            f"#claims {{ background: {t.accent_wash if shown.held is not None else 'transparent'}; border-left: 3px solid {side}; }}",
        )
        clear(self._layout)
        self.sentences = []
        if shown.held is None:
            self._offer()
            return
        compared = shown.compared
        if compared is None:
            self._say(f"Comparing with {words.clipped(shown.held.names.b, LONGEST)} …", "")
            return
        if compared.told_of_all:
            self._say(compared.told_of_all, "look")
        elif compared.of_selection:
            self._say("Of the selection only:", "soft")
        some = [one for one in compared.claims if not self._about or one.about in self._about] or compared.claims[:1]
        for i, claim in enumerate(some):
            self._say(claim.text, "lead" if not i and claim.holds else "" if claim.holds else "soft")

    def _say(self, text: str, how: str) -> None:
        self.sentences.append(text)
        made = label(text, "look" if how == "look" else "", soft=how == "soft", wrap=True)
        if how == "lead":
            restyle(made, "font-weight: 600;")
        self._layout.addWidget(made)

    def _offer(self) -> None:
        self._say("This run is not compared with another one yet.", "lead")
        choices = self.comparer.choices()
        if not choices:
            self._say(
                "This study has no other run. Add another model, a table of predictions made elsewhere or another image set "
                "under Prepare, and score it; then it can be compared with this one here.",
                "soft",
            )
            return
        self._say(
            "Hold another model's answers to the same images against it, or the same model on other images:", "soft"
        )
        for _title, runs in choices:
            for run in runs[:OFFERED]:
                name = self.comparer.name_of(run)
                one = button(words.clipped(name, 48), partial(self.comparer.hold, run), kind="small")
                tip(one, f"Hold {name} against this run. {tooltip('hold')}")
                self._layout.addLayout(row(one, None))
