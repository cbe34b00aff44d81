"""The cover test: a region is drawn or taken from the heat, hidden in the image looked at at once, and in all shown on demand."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QMenu,
    QVBoxLayout,
    QWidget,
)

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Stopped
from mivrat.core.base.text import minus
from mivrat.core.checks.result import in_words
from mivrat.core.covering.cover_test import CoverPlan, RegionPlan, plan_from_text
from mivrat.core.covering.inside import Inside, evidence_inside
from mivrat.core.covering.one_image import HOWS, Hidden
from mivrat.core.covering.regions import KINDS, Shape, mask_of, share_inside
from mivrat.core.figures.covered import CoverResult
from mivrat.core.heatmaps.kept_maps import maps_of_setup
from mivrat.core.heatmaps.maps import WITHOUT_LAYER, HeatmapMaker
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.pictures.prepare import prepare_file, to_tensor
from mivrat.core.reporting import cover_report
from mivrat.core.selecting.selection import Picked
from mivrat.core.study.kept_evidence import EVERY, KeptTest
from mivrat.ui import words
from mivrat.ui.explain.canvas import Canvas
from mivrat.ui.parts.picture_panel import PicturePanel
from mivrat.ui.parts.pictures import to_image
from mivrat.ui.parts.tables import FigureTable
from mivrat.ui.parts.widgets import (
    Choice,
    Elided,
    Scrolled,
    button,
    label,
    more_button,
    offer_by_right_click,
    row,
    spin,
    tip,
)
from mivrat.workspace import heat_jobs
from mivrat.workspace.executors import Task
from mivrat.workspace.explaining import Explainer
from mivrat.workspace.look import Look, look_at

HOTTEST = "the hottest part"
REGIONS = (HOTTEST, *KINDS)
PLACES = ("at the same place in every image", "on each image by itself")
HIDING = ("blurred", "in the mean colour", "from another label")
PREDICTED = "the predicted class"


@dataclass(frozen=True)
class OneCovered:
    """What hiding the region did to the image looked at; ``inside`` is the share of its evidence in the region."""

    look: Look
    hidden: Hidden
    inside: float | None


def _aside(text: str) -> QLabel:
    """A word before a choice; those below each other line up."""
    made = label(text, soft=True)
    made.setFixedWidth(30)
    return made


class CoverPage(QWidget):
    """Region and way of hiding above, this image's answers, the selection's, and the tests that are kept below."""

    def __init__(self, explainer: Explainer) -> None:
        super().__init__()
        self.explainer, self.workspace = explainer, explainer.workspace
        self.one: OneCovered | None = None
        self.inside: Inside | None = None
        self._own = self.workspace.parallel.group(1)
        self._covering: Task | None = None
        self._summing: Task | None = None
        self._soon = self.workspace.soon(60, self._cover_one)
        self._build()
        explainer.regions_changed.connect(self._follow_regions)
        explainer.layers_changed.connect(self.refresh)
        explainer.maps_changed.connect(self._sum_inside)
        explainer.test_changed.connect(self._show_result)
        explainer.tests_changed.connect(self._list_tests)
        self.workspace.topics.current.connect(self.refresh)
        self.workspace.topics.selection.connect(self._tell_button)
        self.workspace.topics.busy.connect(self._tell_button)
        self.workspace.topics.run.connect(self._new_run)

    def _build(self) -> None:
        self.region = Choice(REGIONS, "what to hide: a shape drawn on the image, or the hottest part of its heatmap")
        self.place = Choice(PLACES, "where the region lies in other images")
        self.share = spin(1, 60, 8, "the hottest part, in percent of the area")
        self.share.setSuffix(" %")
        self.hide_as = Choice(HIDING, "how the region is hidden")
        self.target = Choice((PREDICTED,), "whose probability is watched")
        self.target.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.target.setMinimumContentsLength(16)
        self.clear_button = button("clear", lambda: self._take_drawing(()), kind="quiet")
        self.region.activated.connect(lambda _: self._choose_region())
        self.place.activated.connect(lambda _: self._follow_regions())
        for box in (self.hide_as, self.target):
            box.activated.connect(lambda _: self.refresh())
        self.share.valueChanged.connect(lambda _: self.refresh())
        self.canvas = Canvas()
        self.canvas.drawn.connect(self._take_drawing)
        self.hidden, self.control = PicturePanel("region hidden"), PicturePanel("same area elsewhere")
        pictures = row(self.canvas, self.hidden, self.control, spacing=12)
        for i in range(3):
            pictures.setStretch(i, 1)
        self.table_one = QGridLayout()
        self.table_one.setHorizontalSpacing(12)
        self.table_one.setVerticalSpacing(4)
        self.one_cells = [[Elided() for _ in range(4)] for _ in range(4)]
        for r, line in enumerate(self.one_cells):
            for c, cell in enumerate(line):
                cell.setProperty("soft", not r)
                self.table_one.addWidget(cell, r, c)
        self.table_one.setColumnStretch(0, 2)
        for c in (1, 2, 3):
            self.table_one.setColumnStretch(c, 3)
        self.told, self.told_inside = label(wrap=True), label(soft=True, wrap=True)
        self.begin = button("Cover the images shown", self.cover_selection, kind="primary")
        tip(
            self.begin,
            "Hide the region in every image shown, and as a control the same area elsewhere, and score again",
        )
        self.heading, self.about = label("", "heading", wrap=True), label(soft=True, wrap=True)
        self.of_model = label(wrap=True)
        self.result = FigureTable(("", "this region hidden", "same area elsewhere"), (224, 192), "cover test")
        self.result.setFixedHeight(4 * 30 + 6)
        self.sentence = label("", "verdict", wrap=True)
        self.keep_name = QLineEdit()
        self.keep_name.setPlaceholderText("name it, to keep it as evidence (Enter)")
        self.keep_name.setAccessibleName("name of this cover test")
        self.keep_name.setMinimumWidth(250)
        self.keep_name.returnPressed.connect(self._keep)
        self.keep_button = button("Keep", self._keep, kind="small")
        self.changed_button = button("show the changed images", self._show_changed, kind="quiet")
        self.kept_title = label("Kept cover tests", "heading")
        self.kept = FigureTable(
            ("name", "model", "N", "region", "control", "p"), (120, 48, 64, 68, 88), "kept cover tests", (2, 3, 4, 5)
        )
        self.kept.currentCellChanged.connect(lambda line, *_: self._show_kept(line))
        self.kept.cellClicked.connect(lambda line, _: self._show_kept(line))
        self.kept_more = more_button(
            "what to do with this test", "Repeat it on the run shown, rename it, save it, remove it"
        )
        menu = QMenu(self.kept_more)
        for text, wanted in (
            ("Repeat it on the run shown", self.do_again),
            ("Show its images", self._show_images),
            ("Save as files…", self._ask_folder),
            ("Rename…", self._rename),
            ("Remove", self._take_away),
        ):
            menu.addAction(text).triggered.connect(lambda _=False, w=wanted: w())
        self.kept_more.setMenu(menu)
        offer_by_right_click(self.kept_more, self.kept)
        body = self.body = QWidget()
        inside = QVBoxLayout(body)
        inside.setContentsMargins(0, 2, 10, 12)
        inside.setSpacing(8)
        inside.addLayout(pictures)
        inside.addLayout(self.table_one)
        inside.addWidget(self.told)
        inside.addWidget(self.told_inside)
        inside.addLayout(row(self.begin, None))
        inside.addWidget(self.heading)
        inside.addWidget(self.of_model)
        inside.addWidget(self.about)
        inside.addWidget(self.result)
        inside.addWidget(self.sentence)
        inside.addLayout(row(self.keep_name, self.keep_button, self.changed_button, None))
        inside.addSpacing(6)
        inside.addLayout(row(self.kept_title, None, self.kept_more))
        inside.addWidget(self.kept)
        inside.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(row(_aside("hide"), self.region, self.share, self.place, self.clear_button, None, spacing=4))
        layout.addLayout(row(_aside("how"), self.hide_as, label("watching", soft=True), self.target, None, spacing=4))
        self.scrolled = Scrolled(body)
        layout.addWidget(self.scrolled, 1)
        self._choose_region()

    # --- what is to be hidden ---

    def _new_run(self) -> None:
        self._list_tests()
        kept = self.target.currentText()
        self.target.clear()
        self.target.addItems([PREDICTED, *self.workspace.shown.classes])
        self.target.setCurrentIndex(max(0, self.target.findText(kept)))
        self.one, self.inside = None, None
        self._list_tests()
        self.refresh()

    def _choose_region(self) -> None:
        hottest = self.region.currentText() == HOTTEST
        self.share.setVisible(hottest)
        self.place.setVisible(not hottest)
        self.clear_button.setVisible(not hottest)
        self.canvas.kind = None if hottest else KINDS[self.region.currentIndex() - 1]
        self._follow_regions()

    @property
    def _position(self) -> int | None:
        """The position that drawn shapes are kept under: of the image looked at, or of all."""
        return EVERY if self.place.currentIndex() == 0 else self.workspace.shown.current

    def _take_drawing(self, shapes: tuple[Shape, ...]) -> None:
        position = self._position
        if position is not None:
            where = "every image" if position == EVERY else words.clipped(self.workspace.shown.name_of(position), 30)
            what = "Region drawn on" if shapes else "Region taken off"
            self.explainer.keep_regions(f"{what} {where}", {position: tuple(shapes)})

    def _follow_regions(self) -> None:
        position = self._position
        shapes = self.explainer.regions.get(position, ()) if position is not None else ()
        self.canvas.show_shapes(() if self.region.currentText() == HOTTEST else shapes)
        self.refresh()

    def region_plan(self) -> RegionPlan | None:
        """The region as it stands; None where none is drawn."""
        snapshot, setup = self.workspace.shown.snapshot, self.explainer.setup
        if self.region.currentText() == HOTTEST:
            layer = setup.layers[0] if setup.layers else None
            layer = None if setup.method in WITHOUT_LAYER else layer
            share = self.share.value() / 100
            return RegionPlan("hottest", (), {}, share, setup.method, layer, snapshot.record.model_sha256)
        if self.place.currentIndex() == 0:
            shapes = self.explainer.regions.get(EVERY, ())
            return RegionPlan("fixed", shapes) if shapes else None
        each = {i: shapes for i, shapes in self.explainer.regions.items() if i != EVERY}
        return RegionPlan("each", each=each) if each else None

    def plan(self, images: tuple[int, ...]) -> CoverPlan | None:
        """The test as it stands, over some images; None without a region."""
        region = self.region_plan()
        if region is None:
            return None
        if region.place == "each":
            images = tuple(i for i in images if i in region.each)
        target = "predicted" if self.target.currentIndex() <= 0 else self.target.currentText()
        conditions = "; ".join(
            " ".join(one.words(self.workspace.shown.classes)) for one in self.workspace.shown.conditions
        )
        return CoverPlan(images, region, HOWS[self.hide_as.currentIndex()], target, 0, conditions or "all images")

    # --- the image looked at ---

    def showEvent(self, event: object) -> None:  # noqa: N802
        super().showEvent(event)  # type: ignore[arg-type]
        self.explainer.prepare()
        self._follow_regions()
        self._list_tests()

    def refresh(self) -> None:
        """Cover the image looked at anew, as soon as nothing changes any more."""
        if self.isVisible():
            self._tell_button()
            self._sum_inside()
            self._soon.start()

    def _cover_one(self) -> None:
        snapshot, image = self.workspace.shown.snapshot, self.workspace.shown.current
        if not self.isVisible():
            return
        if self._covering is not None:
            self._covering.cancel()
        problem = ""
        if not snapshot.record.kind.can.scores:
            problem = snapshot.record.kind.lacks("A cover test needs")
        elif image is None:
            problem = "Look at an image (M: the next mistake), then draw on it what to hide."
        elif snapshot.judged.predicted[image] < 0:
            problem = "This image has no answer to test."
        if problem or image is None:
            self.one = None
            self.canvas.show_photo(None, None, problem)
            self._show_one()
            return
        plan, record, setup = self.plan((image,)), snapshot.record, self.explainer.setup
        if (
            self.region.currentText() != HOTTEST
            and self.place.currentIndex() == 1
            and image not in self.explainer.regions
        ):
            plan = None
        makers, judged, known = self.workspace.makers, snapshot.judged, self.one.look if self.one is not None else None
        if self.canvas.photo is None or known is None or known.image != image:
            self.canvas.show_photo(None, None, "…")

        def cover(work: Task) -> OneCovered | Look:
            look = known if known is not None and known.image == image else look_at(record, image, 400)
            work.report(look)
            if plan is None:
                return look
            with makers.lend(record) as maker:
                maker.stopped = lambda: work.stop.stopped
                try:
                    return covered(look, maker, plan)
                except Stopped:
                    return look

        def covered(look: Look, maker: HeatmapMaker, plan: CoverPlan) -> OneCovered:
            hidden = heat_jobs.cover_looked(look, maker, record, plan)
            target, inside = MapSetup(of=hidden.answers.target).target(judged, image), None
            if hidden.mask is not None and target is not None:
                heat = maps_of_setup(
                    maker, to_tensor(look.prepared(record.recipe), record.recipe)[None], [target], setup
                )[0]
                inside = share_inside(heat, hidden.mask)
            return OneCovered(look, hidden, inside)

        self._covering = self.explainer.workers.start(
            cover, done=self._covered, failed=self._not_covered, progress=self._looked, priority=4
        )

    def _looked(self, look: object) -> None:
        if isinstance(look, Look):
            self.canvas.show_photo(to_image(look.photo), look.place)

    def _not_covered(self, error: InputError) -> None:
        self.one = None
        self.canvas.show_photo(None, None, f"{error.what}. {error.mend}")
        self._show_one()

    def _covered(self, found: OneCovered | Look) -> None:
        self.one = found if isinstance(found, OneCovered) else None
        if self.one is not None and self.one.hidden.mask is not None and self.region.currentText() == HOTTEST:
            self.canvas.show_mask(self.one.hidden.mask)
        self._show_one()

    def _show_one(self) -> None:
        one, classes = self.one, self.workspace.shown.classes
        answered = one is not None and not one.hidden.answers.problem
        bgr = self.workspace.shown.snapshot.record.recipe.picture.mode == "BGR"
        for panel, at, name in ((self.hidden, 1, "region hidden"), (self.control, 2, "same area elsewhere")):
            if one is None or not answered:
                panel.show_image(None, "nothing hidden yet" if at == 1 else "the control")
                panel.set_caption(name)
                continue
            pixels = one.hidden.pixels[at]
            panel.show_image(to_image(pixels[..., ::-1] if bgr else pixels))
            panel.set_caption(name, classes[one.hidden.answers.predicted[at]])
        for line in self.one_cells:
            for cell in line:
                cell.setVisible(answered)
        if one is None or not answered:
            self.told.setText(
                ""
                if one is None and self.canvas.photo is None
                else "Drag over the image to draw what to hide (with Ctrl: a further shape). With keys: Enter, then arrows, + and −."
            )
            return
        found = one.hidden.answers
        names = ("", "as it is", "region hidden", "same area elsewhere")
        target = classes[found.target]
        lines = (
            names,
            ("answer", *(classes[k] for k in found.predicted)),
            (f"p({target})", *(f"{p:.3f}" for p in found.p)),
            ("its rank", *(f"{rank} of {len(classes)}" for rank in found.rank)),
        )
        for cells, texts in zip(self.one_cells, lines, strict=True):
            for cell, text in zip(cells, texts, strict=True):
                cell.set_text(text)
        told = f"The region takes up {100 * found.area:.1f} % of the image"
        if not found.area:
            told += ": the map has no evidence to hide"
        if one.inside is not None:
            told += f" and holds {100 * one.inside:.0f} % of the evidence for {target}"
        self.told.setText(told + ".")

    # --- the evidence inside, over the selection ---

    def _sum_inside(self) -> None:
        snapshot = self.workspace.shown.snapshot
        if not self.isVisible():
            return
        if self._summing is not None:
            self._summing.cancel()
        self.inside = None
        plan, maps = self.region_plan(), self.explainer.maps
        shown = set(self.workspace.shown.images.tolist())
        some = {i: heat for i, heat in maps.items() if i in shown}
        if plan is None or plan.place == "hottest" or not some:
            self.told_inside.hide()
            return
        judged, record = snapshot.judged, snapshot.record

        def add_up(work: Task) -> Inside:
            if plan.place == "fixed":
                size = record.recipe.output_size()
                size = size or prepare_file(record.image_set.file(next(iter(some))), record.recipe).shape[-2:]
                mask = mask_of(plan.shapes, *size)
                masks = dict.fromkeys(some, mask)
            else:
                size = record.recipe.output_size() or (224, 224)
                masks = {i: mask_of(plan.each[i], *size) for i in some if i in plan.each}
            return evidence_inside(some, masks, judged.right, judged.wrong)

        self._summing = self._own.start(add_up, done=self._show_inside)

    def _show_inside(self, found: Inside) -> None:
        self.inside = found
        parts = [
            f"{100 * one.mean:.0f} % in {name} answers (N = {one.total})"
            for name, one in (("right", found.right), ("wrong", found.wrong))
            if one.mean is not None
        ]
        if not parts:
            self.told_inside.hide()
            return
        test = f"; Mann-Whitney p {in_words(found.p)}" if len(parts) == 2 else ""
        none = f"; {words.images(found.none)} without any evidence left out" if found.none else ""
        whose = self.explainer.setup.in_words(self.workspace.shown.classes)
        self.told_inside.show()
        self.told_inside.setText(
            f"Over the images shown whose map is known, the evidence for {whose} inside, on average: {', '.join(parts)}{test}{none}."
        )

    # --- the selection ---

    def _tell_button(self) -> None:
        if not self.isVisible():
            return
        plan = self.plan(tuple(self.workspace.shown.images.tolist()))
        number = len(plan.images) if plan is not None else 0
        what = "with a region of their own" if plan is not None and plan.region.place == "each" else "shown"
        self.begin.setText(f"Cover the {words.images(number)} {what}" if number else "Cover the images shown")
        self.begin.setEnabled(bool(number) and not self.workspace.busy and self.explainer.can_explain)

    def cover_selection(self) -> None:
        """Do the test over the images shown, in the background."""
        plan = self.plan(tuple(self.workspace.shown.images.tolist()))
        if plan is not None and plan.images:
            self.explainer.cover(plan)

    def _shown_result(self) -> tuple[CoverResult, CoverPlan, float | None, int] | None:
        """The result shown, with its plan, the mean area and how many images were left out."""
        test, kept, snapshot = self.explainer.test, self.explainer.shown_test, self.workspace.shown.snapshot
        if kept is not None:
            try:
                told = cover_report.told_from_text(kept.outcome)
                result = cover_report.result_from_json(told)
                return (
                    result,
                    plan_from_text(kept.plan, snapshot.record.names),
                    told.get("mean_area"),
                    int(told.get("unreadable", 0)),
                )
            except (InputError, ValueError) as error:
                self.explainer.workspace.notices.fail(
                    error if isinstance(error, InputError) else InputError("a kept cover test cannot be read")
                )
                return None
        return (test.result, test.plan, test.mean_area, test.left_out) if test is not None else None

    def _show_result(self) -> None:
        found, fresh = self._shown_result(), self.explainer.shown_test is None
        for shown in (self.heading, self.of_model, self.about, self.result, self.sentence):
            shown.setVisible(found is not None)
        for offered in (self.keep_name, self.keep_button, self.changed_button):
            offered.setVisible(found is not None and fresh)
        if found is None:
            self.body.setMinimumHeight(0)
            return
        result, plan, area, left_out = found
        kept = self.explainer.shown_test
        name = kept.name if kept is not None else "Cover test"
        self.heading.setText(f"{name}, N = {result.total}")
        model = self._model_of(kept)
        self.of_model.setText(model)
        self.of_model.setVisible(bool(model))
        size = f", on average {100 * area:.1f} % of the area" if area is not None else ""
        out = f"; {words.images(left_out)} left out" if left_out else ""
        self.about.setText(f"Hidden: {plan.in_words()}{size}. Images: {plan.selection}{out}. Seed {plan.seed}.")
        both = (result.region, result.control)
        shares = [f"{one.changed.hits} of {one.changed.total}  {words.with_bounds(one.changed)}" for one in both]
        target = "the predicted class" if plan.target == "predicted" else plan.target
        lines = [
            ("answer changes", *shares),
            ("right / wrong", *(f"{one.mended} / {one.broken}   (exact p {in_words(one.p_paired)})" for one in both)),
            ("mean drop of p", *(minus(f"{round(one.mean_drop, 3) + 0.0:.3f}") for one in both)),
        ]
        tips = [
            words.how(result.region.changed),
            "Of the labelled images: how many become right, and how many wrong. Exact paired test (McNemar).",
            f"How far the probability of {target} falls.",
        ]
        self.result.show_lines(lines, tips)
        said = cover_report.in_sentences(result).split("\n")[-1]
        self.sentence.setText(f"{said[0].upper()}{said[1:]}.")
        if fresh:
            QTimer.singleShot(0, self._scroll_to_result)
            focused = QApplication.focusWidget()
            if focused is self.begin or (focused is not None and focused.objectName() == "waiting"):
                self.keep_name.setFocus(Qt.FocusReason.OtherFocusReason)  # what is typed next is its name

    def _scroll_to_result(self) -> None:
        """See to it that a new result is in sight, whole, and no picture above it cut to a strip."""
        shown, bar = self.scrolled.viewport().height(), self.scrolled.verticalScrollBar()
        if self.keep_name.geometry().bottom() > bar.value() + shown:
            self.body.setMinimumHeight(self.begin.y() - 8 + shown)  # room to scroll the pictures away whole
            QTimer.singleShot(0, lambda: bar.setValue(self.begin.y() - 8))

    def _model_of(self, kept: KeptTest | None) -> str:
        """Which model a kept test was done on, and that it is not the one shown where that is so; empty for a new test."""
        if kept is None:
            return ""
        run = next((one for one in self.workspace.runs if one.id == kept.run_id), None)
        name = run.model if run is not None else "a model taken away since"
        shown = self.workspace.shown.snapshot.record.info
        if shown is None or (run is not None and run.model_id == shown.model_id):
            return f"Done on {name}, {kept.day}."
        return f"Done on {name}, {kept.day}, not on {shown.model}, the model shown. Repeat it on that one under ⋯."

    def _show_changed(self) -> None:
        test = self.explainer.test
        if test is not None:
            some = [one.image for one in test.found if not one.problem and one.predicted[1] != one.predicted[0]]
            if some:
                self.workspace.shown.replace(Picked("cover test, answer changed", tuple(some)))

    def _keep(self) -> None:
        test, name = self.explainer.test, self.keep_name.text().strip()
        if test is None or self.explainer.shown_test is not None:
            return
        if not name:
            self.keep_name.setFocus()
            return
        self.explainer.keep_test(test, name)
        self.keep_name.clear()

    # --- kept tests ---

    def _tests(self) -> list[KeptTest]:
        """The tests kept of runs on the image set shown, the latest first."""
        snapshot = self.workspace.shown.snapshot
        set_id = snapshot.record.info.set_id
        runs = {one.id for one in self.workspace.runs if one.set_id == set_id}
        return [one for one in reversed(self.explainer.tests) if one.run_id in runs]

    def _list_tests(self) -> None:
        tests, models = self._tests(), {one.id: one.model for one in self.workspace.runs}
        lines = []
        for one in tests:
            try:
                result = cover_report.result_from_json(cover_report.told_from_text(one.outcome))
                shares = [
                    str(result.total),
                    *(f"{e.changed.hits}" for e in (result.region, result.control)),
                    in_words(result.p),
                ]
            except (InputError, ValueError):
                shares = ["?"] * 4
            lines.append((one.name, models.get(one.run_id, ""), *shares))
        self.kept.show_lines(
            lines, [f"{one.name}, {one.day}\nregion and control: answers that changed" for one in tests]
        )
        self.kept.setFixedHeight(38 + 30 * min(6, max(1, len(tests))))
        for part in (self.kept_title, self.kept, self.kept_more):
            part.setVisible(bool(tests))
        self.workspace.shown.set_tests_kept(len(self.explainer.tests_of_run()))

    def _chosen(self) -> KeptTest | None:
        tests, line = self._tests(), self.kept.currentRow()
        return tests[line] if 0 <= line < len(tests) else None

    def _show_kept(self, line: int) -> None:
        tests = self._tests()
        if 0 <= line < len(tests) and tests[line] != self.explainer.shown_test:
            self.explainer.shown_test = tests[line]
            self._show_result()

    def do_again(self) -> None:
        """Do a kept test again, on the run shown."""
        plan = self._plan_of(self._chosen())
        if plan is not None:
            self.explainer.cover(plan)

    def _plan_of(self, kept: KeptTest | None) -> CoverPlan | None:
        """The plan of a kept test; None, and it is said, where it cannot be read or is of other images."""
        snapshot = self.workspace.shown.snapshot
        if kept is None:
            return None
        try:
            plan = plan_from_text(kept.plan, snapshot.record.names)
        except InputError as error:
            self.explainer.workspace.notices.fail(error)
            return None
        return plan

    def _show_images(self) -> None:
        kept = self._chosen()
        plan = self._plan_of(kept)
        if kept is not None and plan is not None:
            self.workspace.shown.replace(Picked(f"cover test, {kept.name}", plan.images))

    def _rename(self) -> None:
        kept = self._chosen()
        if kept is not None:
            name, given = QInputDialog.getText(self, "Rename", "Name of this cover test", text=kept.name)
            if given and name.strip():
                self.explainer.change_test(kept, name.strip())

    def _take_away(self) -> None:
        kept = self._chosen()
        if kept is not None:
            if self.explainer.shown_test is not None and self.explainer.shown_test.id == kept.id:
                self.explainer.shown_test = None
            self.explainer.change_test(kept, None)
            self._show_result()

    def _ask_folder(self) -> None:
        path = self.workspace.study_path
        found = QFileDialog.getExistingDirectory(
            self, "A folder for cover.json", str(path.parent if path else Path.home())
        )
        if found:
            self.save_kept(Path(found))

    def save_kept(self, folder: Path) -> None:
        """Write the chosen test's outcome, and the list of its images, to a folder."""
        kept, snapshot = self._chosen(), self.workspace.shown.snapshot
        plan = self._plan_of(kept)
        if kept is None or plan is None:
            return
        try:
            items = snapshot.record.image_set.items
            paths = "".join(f"{items[i].path}\n" for i in plan.images)
            write_whole(folder / "cover.json", kept.outcome)
            write_whole(folder / "cover-images.txt", paths)
            self.explainer.workspace.notices.say(f"Written: cover.json and cover-images.txt, in {folder}.", folder)
        except InputError as error:
            self.explainer.workspace.notices.fail(error)

    def as_table(self) -> list[list[str]]:
        """The result shown, else the kept tests, for the clipboard."""
        return self.result.as_lines() if self._shown_result() is not None else self.kept.as_lines()

    @property
    def settled(self) -> bool:
        return not self._soon.waiting and not self._own.busy

    def stop(self) -> None:
        self._own.stop_all()
