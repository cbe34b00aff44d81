"""What other readers have decided of the image looked at, and what is agreed on where they differ."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.concluding.two_readers import HERE
from mivrat.core.study.decisions import Agreed, Decision
from mivrat.ui import words
from mivrat.ui.parts.widgets import button, clear, label, tip
from mivrat.ui.parts.wrapping import Flow
from mivrat.workspace.reader_edits import settle
from mivrat.workspace.workspace import Workspace


def said_of_label(label_is: str, other: str | None) -> str:
    """What a reader says of a label, as a few words."""
    if label_is == "wrong":
        return f"it is {words.clipped(other, 30)}" if other else "the label is wrong"
    return "the label is right" if label_is == "right" else "unsure"


def in_words(decision: Decision) -> str:
    """A decision as a line of text."""
    parts = [said_of_label(decision.label_is, decision.label), *decision.causes]
    return "; ".join([*parts, f"“{words.clipped(decision.note, 60)}”"] if decision.note else parts)


class OtherReaders(QWidget):
    """A line for each reader who has decided of this image, and a button for each way to agree where they differ; nothing while answers
    are hidden, or nobody else has decided."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.told = label(soft=True, wrap=True)
        self._flow = Flow(6)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.told)
        layout.addLayout(self._flow)
        for topic in (workspace.topics.current, workspace.topics.reviews, workspace.topics.blind, workspace.topics.run):
            topic.connect(self.refresh)

    def refresh(self) -> None:
        shown = self.workspace.shown
        image = shown.focus.current
        some = shown.reviews.decisions_of(image) if image is not None and not shown.blind else {}
        agreed = shown.reviews.agreed.get(image) if image is not None and not shown.blind else None
        others = {name: one for name, one in some.items() if name != shown.reviews.reader}
        clear(self._flow)
        self.setVisible(bool(others or agreed))
        if image is None or not (others or agreed):
            return
        lines = [f"{words.clipped(name or HERE, 30)}: {in_words(one)}" for name, one in some.items()]
        if agreed is not None:
            who = " and ".join(words.clipped(name or HERE, 30) for name in agreed.readers)
            lines.append(f"Agreed by {who}: {said_of_label(agreed.label_is, agreed.label)}")
        self.told.setText("\n".join(lines))
        if agreed is not None:
            drop = button("Agreed no longer", partial(self._settle, image, None), kind="small")
            tip(drop, "Take away what was agreed on; what each reader decided stays")
            self._flow.addWidget(drop)
        elif shown.reviews.in_conflict(image):
            for label_is, other in sorted({(one.label_is, one.label) for one in some.values()}, key=str):
                if label_is != "unsure":
                    made = Agreed(label_is=label_is, label=other, readers=sorted(some))
                    agree = button(
                        f"Agree: {said_of_label(label_is, other)}", partial(self._settle, image, made), kind="small"
                    )
                    tip(agree, "Keep this as agreed on by all who decided; what each of them decided stays")
                    self._flow.addWidget(agree)

    def _settle(self, image: int, agreed: Agreed | None) -> None:
        name = words.clipped(self.workspace.shown.name_of(image), 30)
        settle(self.workspace, f"agreed on {name}" if agreed else f"nothing agreed on {name}", {image: agreed})
