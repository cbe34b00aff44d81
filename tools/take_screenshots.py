"""Draws docs/screenshots anew: the main views on the demonstration, in both themes, without a screen."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"
home = tempfile.mkdtemp(prefix="mivrat-screenshots-")
for folder in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
    os.environ[folder] = home

from PySide6.QtCore import QSettings  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from mivrat.core.models.onnx_model import OnnxModel  # noqa: E402
from mivrat.core.models.service.agreement import agree, read_agreement  # noqa: E402
from mivrat.core.pictures.classes import read_class_list  # noqa: E402
from mivrat.core.selecting.selection import Labelled, Outcome, OutcomeOfBoth, Picked, Predicted  # noqa: E402
from mivrat.demo.study import DATA, demo_inputs  # noqa: E402
from mivrat.service.stand_in import StandIn  # noqa: E402
from mivrat.ui.application import make_application  # noqa: E402
from mivrat.ui.bench import CHECK, COMPARE, CONCLUDE, EXAMINE, EXPLAIN, MEASURE, PREPARE  # noqa: E402
from mivrat.ui.conclude.step import REPORT, TO_LABEL  # noqa: E402
from mivrat.ui.explain.step import BOARD, COVER, SHEET  # noqa: E402
from mivrat.ui.prepare.step import RECIPE  # noqa: E402
from mivrat.ui.window import BENCH, MainWindow  # noqa: E402
from mivrat.workspace import study_edits  # noqa: E402

OUT = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
# Views drawn in the dark theme; every other one is drawn in the light one.
IN_LAMP = ("service",)
CLASSES = read_class_list(DATA / "classes.txt")
RAGWEED, PLANTAIN = CLASSES.index("ragweed"), CLASSES.index("plantain")


def pause(milliseconds: int) -> None:
    """Let the window live for a while; workers run while this sleeps, as they would not in the test library's own wait."""
    until = time.monotonic() + milliseconds / 1000
    while time.monotonic() < until:
        QApplication.processEvents()
        time.sleep(0.01)


def wait(condition: Callable[[], bool], seconds: float = 120) -> None:
    until = time.monotonic() + seconds
    while not condition():
        if time.monotonic() > until:
            raise TimeoutError
        pause(20)


def take_all(theme: str) -> None:
    """The main views in one theme."""
    for folder in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"):
        os.environ[folder] = f"{home}/{theme}"  # a study of its own, as nobody has touched it
    settings = QSettings(f"{home}/{theme}.ini", QSettings.Format.IniFormat)
    settings.setValue("theme", theme)
    window = MainWindow(settings)
    window.resize(1280, 800)
    window.show()

    def take(name: str) -> None:
        if (theme == "lamp") != (name in IN_LAMP):
            return
        pause(80)
        wait(
            lambda: (
                window.bench.thumbnails.settled
                and window.bench.close_look.settled
                and window.bench.prepare.recipe_page.settled
                and window.bench.measure.settled
                and window.bench.examine.settled
                and window.bench.explain.settled
                and window.bench.light_table.settled
                and not window.workspace.reading.busy
            )
        )
        pause(80)
        window.grab().save(str(OUT / f"{name}-{theme}.png"))

    if theme == "lamp":
        service(window, take)
        window.close()
        return
    take("start")
    window.open_demo()
    wait(lambda: window.pages.currentIndex() == BENCH)
    window.bench.show_step(MEASURE)
    take("headline")
    window.bench.measure.tabs.choose(1)
    window.workspace.shown.choose(Labelled(frozenset({PLANTAIN})))
    take("classes")
    window.workspace.shown.clear()
    window.bench.measure.tabs.choose(2)
    window.workspace.shown.choose(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    window.workspace.shown.focus.step(0)
    take("confusions")
    window.bench.look_closely()
    take("close-look")
    window.bench.leave_close_look()
    window.workspace.shown.clear()
    window.bench.measure.tabs.choose(3)
    window.bench.measure.reliability.diagram.select(9, False)
    take("confidence")
    window.workspace.shown.clear()
    strain(window, take)
    compare(window, take)
    examine(window, take)
    window.workspace.shown.clear()
    explain(window, take)
    window.bench.explain.toggle_heat()
    window.workspace.shown.clear()
    window.bench.show_step(PREPARE)
    window.bench.prepare.tabs.choose(RECIPE)
    page = window.bench.prepare.recipe_page
    page._edited("resize", {"rule": "shorter-side", "size": 96})
    page._edited("crop", {"size": (72, 90)})
    take("recipe")
    window.show_run(next(run.id for run in window.workspace.runs if run.image_set == "spring-check"))
    window.bench.show_step(CHECK)
    wait(lambda: not window.workspace.reading.busy)
    window.workspace.jobs.check()
    wait(
        lambda: window.workspace.jobs.going_on is None and not window.workspace.reading.busy, 900
    )  # near copies take minutes
    window.bench.check.rows["training"].images.click()
    window.bench.check.rows["training"].toggle()
    take("check")
    window.close()


def service(window: MainWindow, take: Callable[[str], None]) -> None:
    """The form for a prediction service, with one image tried on the stand-in."""
    inputs = demo_inputs()
    model = OnnxModel(DATA / "grain-net-1.onnx", inputs.recipe, len(inputs.classes))
    with StandIn(model, "grain-net-1", inputs.classes, port=8740) as running:
        agree(read_agreement(running.root))
        window.new_study()
        window.new_page.classes.set_path(DATA / "classes.txt")
        window.new_page.images.set_path(DATA / "spring-check.csv")
        window.describe_service()
        wait(lambda: window.service.image is not None)
        page = window.service
        page.address.setText(f"{running.root}/score")
        page.answers.setCurrentIndex(page.answers.findData("pairs"))
        page.answers.activated.emit(page.answers.currentIndex())
        page.name.setText("/name")
        page.try_one()
        wait(lambda: page.settled)
        take("service")


def strain(window: MainWindow, take: Callable[[str], None]) -> None:
    """The strain test, with a coloured mark among the usual kinds; its curves in sight."""
    page = window.bench.measure.strain
    window.bench.measure.go_to(page.place_id)
    for kind in ("rotation", "jpeg", "brightness", "noise"):
        page.strainer.wish(kind, False)
    page.strainer.wish("mark", True, "0.05, 0.1, 0.15")
    wait(lambda: page.settled)
    page.begin.click()
    wait(lambda: window.workspace.jobs.going_on is None)
    wait(lambda: page.settled)
    page.diagram.select(page.diagram.marks() - 2, False)
    take("strain")
    window.workspace.shown.clear()


def examine(window: MainWindow, take: Callable[[str], None]) -> None:
    """The Examine step: what wrong images have in common, groups by likeness, a review half done."""
    window.bench.show_step(EXAMINE)
    common = window.bench.examine.in_common
    window.bench.examine.go_to(common.place_id)
    wait(lambda: common.traits.found is not None)
    common.properties.setCurrentCell(1, 0)
    common.properties.cellClicked.emit(1, 0)
    take("in-common")
    window.workspace.shown.clear()
    window.workspace.shown.set_order("confident mistakes")
    window.bench.examine.go_to("groups")
    window.workspace.jobs.find_features()
    wait(lambda: window.workspace.shown.results.vectors is not None and window.workspace.jobs.going_on is None)
    wait(lambda: window.bench.examine.settled and len(window.bench.examine.groups.cards) > 2)
    review, workspace = window.bench.examine.review, window.workspace
    window.bench.examine.tabs.choose(0)
    review.name.setText("ink dot")
    review.add_cause()
    review.move_cause(-6)
    dotted, others = window.bench.examine.groups.cards[0].members, window.bench.examine.groups.cards[2].members
    for images, key in ((dotted, 1), (others[1:3], 3), (others[5:6], 6)):
        workspace.shown.replace(Picked("hand", tuple(images)))
        workspace.shown.focus.look_at(images[0], frozenset(images))
        window.bench.reviewer.toggle_key(key)
    window.bench.leave_close_look()
    workspace.shown.replace(Outcome(frozenset({"wrong"})))
    workspace.shown.set_bands("cause")
    window.bench.examine.tabs.choose(0)
    take("review")
    workspace.shown.set_bands("no bands")


def compare(window: MainWindow, take: Callable[[str], None]) -> None:
    """The later model held against the one under test."""
    comparer, shown, step = window.bench.comparer, window.workspace.shown, window.bench.compare

    def hold(name: str) -> None:
        comparer.hold(next(one for _, some in comparer.choices() for one in some if comparer.name_of(one) == name))
        wait(lambda: comparer.settled and shown.compared is not None and shown.compared.found.either.with_intervals)

    window.bench.show_step(COMPARE)
    hold("grain-net-2")
    shown.choose(OutcomeOfBoth(frozenset({"fixed"}), shown.held_other))
    take("difference")
    shown.clear()
    comparer.let_go()
    window.show_run(next(r.id for r in window.workspace.runs if r.image_set == "late-summer-field"))
    wait(lambda: window.settled)
    step.choose(0)


def explain(window: MainWindow, take: Callable[[str], None]) -> None:
    """The views of the Explain step: from one mistake to a tested cause."""
    step, workspace = window.bench.explain, window.workspace

    def job() -> None:
        wait(lambda: window.workspace.jobs.going_on is None and not window.workspace.reading.busy, 600)

    workspace.shown.replace(Labelled(frozenset({PLANTAIN})), Predicted(frozenset({RAGWEED})))
    workspace.shown.focus.step(0)
    window.bench.show_step(EXPLAIN)
    step.tabs.choose(BOARD)
    take("board")
    step.tabs.choose(COVER)
    wait(lambda: step.settled)
    step.cover.cover_selection()
    job()
    step.cover.result.keep_name.setText("ink dot")
    step.cover.result.keep_name.returnPressed.emit()
    take("cover")
    conclude(window, take)
    window.bench.show_step(EXPLAIN)
    workspace.shown.replace(Predicted(frozenset({RAGWEED})))
    step.tabs.choose(SHEET)
    step.sheet.make()
    job()
    take("sheet")


def conclude(window: MainWindow, take: Callable[[str], None]) -> None:
    """Two findings checked on the later model, criteria, and the report with them."""
    step, workspace = window.bench.conclude, window.workspace
    window.bench.add_finding()
    wait(lambda: len(step.concluder.findings) == 1)
    window.bench.show_step(MEASURE)
    window.bench.add_finding()
    wait(lambda: len(step.concluder.findings) == 2)
    first = step.concluder.findings[0]
    step.concluder.weigh(first.id, "blocks")
    criteria = ("top1 >= 0.9", 'recall["ragweed"] >= 0.8', 'recall["hazel"] >= 0.9')
    workspace.edits.take(study_edits.set_criteria(workspace.shown.record.info.model_id, "criteria", criteria, ()))
    step.show_finding(first.id)
    window.bench.show_step(CONCLUDE)
    wait(lambda: window.settled and len(step.concluder.checked) == 2)
    take("findings")
    step.choose(TO_LABEL)
    page = step.to_label
    page.figure.setCurrentIndex(1)
    page.of_class.setCurrentIndex(RAGWEED)
    page.number.setValue(90)
    wait(lambda: page.settled and page.drawn is not None)
    page.show_all.click()
    take("to-label")
    workspace.shown.clear()
    step.choose(REPORT)
    wait(lambda: window.settled and step.preview.pages > 0)
    take("report")


def main() -> None:
    application = make_application()
    OUT.mkdir(parents=True, exist_ok=True)
    for theme in ("paper", "lamp"):
        take_all(theme)
    application.quit()
    print(f"drawn into {OUT}", file=sys.stderr)


if __name__ == "__main__":
    main()
