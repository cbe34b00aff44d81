"""One image at each level of a kind of distortion, as the network receives it, with the answer where it is known."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout, QWidget

from mivrat.core.base.text import clipped, minus
from mivrat.core.pictures.decode import Pixels, UnreadablePicture, read_file
from mivrat.core.pictures.distorting.kinds import BY_KEY, Distortion
from mivrat.core.pictures.prepare import fitted_pixels
from mivrat.core.pictures.recipe import Recipe
from mivrat.core.straining.strained import decoded_photo, distorted
from mivrat.ui.parts.picture_panel import PicturePanel
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.widgets import Elided, row
from mivrat.workspace.executors import LatestOnly, Task
from mivrat.workspace.straining import Strainer
from mivrat.workspace.workspace import Workspace

# So many levels are shown beside the untouched image.
MOST = 5


@dataclass(frozen=True)
class Strained:
    """An image untouched and at some levels, or why it cannot be shown."""

    image: int
    strains: tuple[Distortion, ...]
    pictures: tuple[Pixels, ...]
    problem: str = ""


class StrainPreview(QWidget):
    """A row of pictures under a line that says what they are."""

    def __init__(self, workspace: Workspace, strainer: Strainer) -> None:
        super().__init__()
        self.workspace, self.strainer = workspace, strainer
        self.shown: Strained | None = None
        self._kind = ""
        self._workers = workspace.group(1)
        self._making = LatestOnly(self._workers)
        self._soon = workspace.soon(60, self._make)
        self.told = Elided(mode=Qt.TextElideMode.ElideMiddle)
        self.told.setProperty("soft", True)
        self.panels = [PicturePanel() for _ in range(MOST + 1)]
        pictures = row(*self.panels, spacing=8)
        for at, panel in enumerate(self.panels):
            pictures.setStretch(at, 1)
            panel.setMinimumWidth(60)
            panel.setFixedHeight(142)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.told)
        layout.addLayout(pictures)
        workspace.topics.current.connect(self.refresh)

    def begin_anew(self) -> None:
        """Another study is open."""
        self._kind, self.shown = "", None

    def show_level(self, strain: Distortion) -> None:
        """Show the kind of this distortion."""
        if strain.kind != self._kind:
            self._kind = strain.kind
            self.refresh()

    def _strains(self) -> tuple[Distortion, ...]:
        """The levels to show: those of the kind looked at, else of the first one wished for."""
        found = self.strainer.found
        if found is None:
            return ()
        some = [one for one in found.sweep.plan.strains if one.kind == self._kind]
        if not some:
            first = found.sweep.plan.strains[0].kind
            some = [one for one in found.sweep.plan.strains if one.kind == first]
        return tuple(some[:MOST])

    def refresh(self) -> None:
        """Make the pictures anew, as soon as nothing changes any more."""
        self.setVisible(bool(self.strainer.found is not None and self._strains()))
        if self.isVisible():
            self._soon.start()

    def _make(self) -> None:
        if not self.isVisible() or not self.workspace.is_open:
            return
        self._making.cancel()
        shown = self.workspace.shown
        image = shown.focus.current
        if image is None:
            image = int(shown.images[0]) if len(shown.images) else None
        strains = self._strains()
        if image is None or not strains:
            return
        number, record = image, shown.record
        path, recipe = record.image_set.file(number), record.recipe

        def make(task: Task) -> Strained:
            try:
                file = read_file(path)
                photo = decoded_photo(file, recipe)
                content = file.stamp.content
                pictures = [photo, *(distorted(photo, one, recipe, content, 0) for one in strains)]
                return Strained(number, strains, tuple(_received(one, recipe) for one in pictures))
            except UnreadablePicture as error:
                return Strained(number, strains, (), str(error))

        self._making.start(make, done=self._take)

    def _take(self, found: Strained) -> None:
        self.shown = found
        shown, kind = self.workspace.shown, BY_KEY[found.strains[0].kind]
        self.told.set_text(f"{kind.name}, {kind.unit}: {shown.name_of(found.image)}, as the network receives it")
        captions = ["untouched", *(minus(f"{one.level:g}") for one in found.strains)]
        answers = self._answers(found)
        for at, panel in enumerate(self.panels):
            there = at < len(found.pictures)
            panel.setVisible(there or (at == 0 and bool(found.problem)))
            if there:
                panel.caption, panel.emphasis = captions[at], ""
                panel.note = answers[at]
                panel.show_image(to_image(found.pictures[at]))
            elif found.problem and not at:
                panel.caption = panel.note = ""
                panel.show_image(None, found.problem)

    def _answers(self, found: Strained) -> list[str]:
        """What is predicted untouched, and at each level (empty where it is not known), shortened."""
        shown, known = self.workspace.shown, self.strainer.found
        before = int(shown.judged.predicted[found.image])
        called = [before]
        if known is not None and found.image in known.sweep.plan.images:
            answered = known.sweep.answered(found.image)
            # The levels wished for may have changed since the pictures were asked for.
            place = {one: s for s, one in enumerate(known.sweep.plan.strains)}
            called += [int(answered[place[one]]) if one in place else -1 for one in found.strains]
        called += [-1] * (1 + len(found.strains) - len(called))
        return [clipped(shown.classes[k], 16) if k >= 0 else "" for k in called]

    @property
    def settled(self) -> bool:
        return not self._workers.busy and not self._soon.waiting

    def stop(self) -> None:
        self._soon.stop()
        self._workers.stop_all()


def _received(photo: Pixels, recipe: Recipe) -> Pixels:
    """What the network receives of a photo, before value scaling, in RGB or grey."""
    fitted = fitted_pixels(photo, recipe)[0]
    return fitted if fitted.shape[2] == 3 else fitted.repeat(3, axis=2)
