"""The part of the Review page about several readers: who reads, blind or not, files in and out, how far readers agree."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from mivrat.core.base.numbers import bounds, percent
from mivrat.core.concluding.two_readers import HERE, QuestionAgreement, agreements, decided
from mivrat.core.selecting.selection import Reviewed
from mivrat.core.study.reviews import AGREED_ON, READERS_DIFFER
from mivrat.ui import words
from mivrat.ui.parts.file_dialogs import ask_to_open, ask_to_save, folder_to_save_in
from mivrat.ui.parts.late import Late
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import button, label, tip
from mivrat.ui.parts.wrapping import flowing
from mivrat.ui.reader_dialog import ReaderDialog
from mivrat.workspace.executors import LatestOnly
from mivrat.workspace.reader_edits import export_reviews, read_blind, reviews_merged
from mivrat.workspace.workspace import Workspace

COLUMNS = ("question", "images", "agree", "kappa")
KINDS = "Reviews (*.json)"


class ReadersSection(QWidget):
    """Whose reviews these are, what others have decided of the same images, and where they differ."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self._workers = workspace.group(1)
        self._working = LatestOnly(self._workers)
        self.told = label(soft=True, wrap=True)
        self.blind = QCheckBox("read blind (Shift+B)")
        tip(
            self.blind,
            "Hide what models answer and other readers have decided, on the light table and in the close look. Pages of figures still "
            "tell what they tell.",
        )
        self.blind.clicked.connect(self._read_blind)
        self.name = button("Name the reader…", self.ask_name, kind="small")
        self.export = button("Export these reviews…", self._export, kind="small")
        self.merge = button("Merge a reader's reviews…", self._merge, kind="small")
        tip(self.export, "What this reader has decided, by image content, for another study of the same images")
        tip(self.merge, "Take in what another reader has exported; nothing decided here is changed")
        self.agreement = FigureTable(COLUMNS, (60, 130, 130), "how far readers agree", (1, 2, 3))
        self.differ = button("", self._choose_differ, kind="small")
        self.settled_ones = button("", self._choose_agreed, kind="small")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(label("Readers", "heading"))
        layout.addWidget(self.told)
        layout.addLayout(flowing(self.blind, self.name, self.export, self.merge))
        layout.addWidget(self.agreement)
        layout.addLayout(flowing(self.differ, self.settled_ones))
        self._late = Late(self, self.refresh, workspace.topics.reviews, workspace.topics.run, workspace.topics.blind)

    def refresh(self) -> None:
        shown = self.workspace.shown
        reviews = shown.reviews
        self.blind.setChecked(shown.blind)
        self.name.setText("Change the reader…" if reviews.reader else "Name the reader…")
        numbers = {reviews.reader or HERE: len(reviews.by_position)}
        numbers |= {name: len(some) for name, some in reviews.others.items()}
        if not reviews.reader and not reviews.others:
            self.told.setText(
                "One reader so far, without a name. Where two review the same images, each in a study of their own, their decisions can be "
                "merged here, and compared."
            )
        else:
            self.told.setText(
                f"Images decided: {'; '.join(f'{name}: {words.count(n)}' for name, n in numbers.items())}."
            )
        self._working.cancel()
        hidden = shown.blind
        for widget in (self.agreement, self.differ, self.settled_ones):
            widget.setVisible(bool(reviews.others) and not hidden)
        if reviews.others and hidden:
            self.told.setText(f"{self.told.text()} How far you agree is shown once you no longer read blind.")
        if reviews.others and not hidden:
            copied = reviews.as_they_are()
            self._working.start(lambda task: (copied.conflicts(), agreements(decided(copied))), done=self._show)

    def _show(self, found: tuple[list[int], list[QuestionAgreement]]) -> None:
        if not self.workspace.is_open:
            return
        differ, lines = found
        several = len({name for one in lines for name in one.readers}) > 2
        self.agreement.show_lines([agreement_line(one, several) for one in lines])
        self.agreement.fit_height()
        agreed = len(self.workspace.shown.reviews.agreed)
        self.differ.setText(f"{words.images(len(differ))} to settle")
        tip(self.differ, "Images on whose label readers differ; the close look offers what to agree on")
        self.differ.setEnabled(bool(differ))
        self.settled_ones.setText(f"{words.images(agreed)} agreed on")
        self.settled_ones.setEnabled(bool(agreed))

    def _choose(self, which: str) -> None:
        shown = self.workspace.shown
        shown.replace(Reviewed(frozenset({which}), shown.reviews))

    def _choose_differ(self) -> None:
        self._choose(READERS_DIFFER)

    def _choose_agreed(self) -> None:
        self._choose(AGREED_ON)

    # --- who reads ---

    def ask_name(self) -> None:
        """Ask who reads."""
        self._ask(None)

    def _ask(self, then: Callable[[], object] | None) -> None:
        ReaderDialog(self.window(), self.workspace, then).open()

    def _named(self, then: Callable[[], object]) -> None:
        """Go on at once where the reader has a name, else once it was given."""
        if self.workspace.shown.reviews.reader:
            then()
        else:
            self._ask(then)

    def _read_blind(self, wanted: bool) -> None:
        read_blind(self.workspace, wanted)

    # --- files ---

    def _export(self) -> None:
        self._named(self._export_now)

    def _export_now(self) -> None:
        folder = folder_to_save_in(self.workspace.study_path)
        target = ask_to_save(self, "Export these reviews", folder / "reviews.json", KINDS)
        if target is not None:
            export_reviews(self.workspace, target)

    def _merge(self) -> None:
        source = ask_to_open(self, "Merge a reader's reviews", folder_to_save_in(self.workspace.study_path), KINDS)
        if source is not None:
            self.merge_from(source)

    def merge_from(self, source: Path) -> None:
        """Take in what another reader has exported."""
        self.workspace.edits.take(reviews_merged(source))

    def stop(self) -> None:
        self._workers.stop_all()

    @property
    def settled(self) -> bool:
        return not self._workers.busy


def agreement_line(one: QuestionAgreement, several: bool) -> list[str]:
    """One question with how far readers agree on it, as a line of the table; who they are where there are ``several``."""
    share = one.found.share
    question = f"{one.question} ({one.who(20)})" if several else one.question
    agree = f"{percent(share.value)} ({bounds(share)})" if share.total else "–"
    return [question, words.count(share.total), agree, one.kappa or "–"]
