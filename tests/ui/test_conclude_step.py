"""The Conclude step by clicks and keys: criteria, findings and what becomes of them, the report and its pages, what is exported."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pypdfium2
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.selecting.selection import Labelled, MatrixCells
from mivrat.core.study.file import Study
from mivrat.ui.bench import COMPARE, CONCLUDE, EXPLAIN, MEASURE
from mivrat.ui.conclude.step import CRITERIA, EXPORT, FINDINGS, REPORT, TO_LABEL
from mivrat.ui.explain.step import COVER
from mivrat.ui.window import MainWindow
from mivrat.workspace import study_edits
from tests.support.demo import CLASSES

Settle = Callable[[], None]
LEFT, CTRL = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
PLANTAIN, RAGWEED = CLASSES.index("plantain"), CLASSES.index("ragweed")


@pytest.fixture
def press(qtbot: QtBot, demo: MainWindow, settle: Settle) -> Callable[..., None]:
    def key(which: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        qtbot.keyClick(demo.focusWidget() or demo, which, modifier)
        settle()

    return key


@pytest.fixture
def found(demo: MainWindow, settle: Settle, press: Callable[..., None], qtbot: QtBot) -> MainWindow:
    """The demonstration with two findings added by F: the cover test on the ink dots, and the mix-up itself."""
    demo.workspace.shown.replace(MatrixCells(frozenset({(PLANTAIN, RAGWEED)})))
    demo.bench.show_step(EXPLAIN)
    demo.bench.explain.choose(COVER)
    settle()
    qtbot.mouseClick(demo.bench.explain.cover.begin, LEFT)
    settle()
    assert demo.bench.explain.cover.result.found() is not None
    assert demo.bench.explain.cover.result.keep_name.hasFocus()  # what is typed next is its name
    press(Qt.Key.Key_F, Qt.KeyboardModifier.AltModifier)
    assert len(demo.bench.conclude.concluder.findings) == 1
    demo.bench.show_step(MEASURE)
    settle()
    press(Qt.Key.Key_F)
    return demo


@pytest.fixture
def written_pages(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The pages of reports as HTML; laid out they are one empty page, since laying out takes seconds and has a test of its own."""
    found, blank = list[str](), io.BytesIO()
    with pypdfium2.PdfDocument.new() as pdf:
        pdf.new_page(595, 842)
        pdf.save(blank)
    monkeypatch.setattr(
        "mivrat.core.reporting.report.making.as_pdf", lambda html: (found.append(html), blank.getvalue())[1]
    )
    return found


def lines(window: MainWindow) -> list[list[str]]:
    return window.bench.conclude.findings.as_table()[1:]


def test_findings_are_added_checked_edited_and_undone(
    found: MainWindow, settle: Settle, press: Callable[..., None], qtbot: QtBot
) -> None:
    page = found.bench.conclude.findings
    found.bench.show_step(CONCLUDE)
    found.bench.conclude.choose(FINDINGS)
    settle()
    assert page.target.currentText() == "grain-net-2 on late-summer-field"  # all were found on the run shown
    assert [(line[2], line[3]) for line in lines(found)] == [
        ("25 of 25", "gone: 1 of 25"),
        ("25 of 50", "gone: 0 of 50"),
    ]
    page.table.setFocus()
    page.table.setCurrentCell(0, 0)
    qtbot.keyClick(page.table, Qt.Key.Key_Return)
    assert page.detail.title.hasFocus()
    qtbot.keyClicks(page.detail.title, "Ink dot, not grain")
    qtbot.keyClick(page.detail.title, Qt.Key.Key_Return)
    page.detail.weight.setCurrentIndex(0)
    page.detail.weight.activated.emit(0)
    settle()
    assert lines(found)[0][:2] == ["Ink dot, not grain", "blocks"]
    assert "not significantly more than elsewhere" in page.detail.why.text()
    (first, second) = page.concluder.findings
    assert len(first.pictures) == 5
    page.concluder.move(second.id, -1)
    settle()
    assert [one.id for one in page.concluder.findings] == [second.id, first.id]
    page.detail.put_aside()
    settle()
    assert lines(found)[1][3] == "aside"
    page.setFocus()
    for _ in range(2):
        found.workspace.edits.undo()
        settle()
    assert [one.id for one in page.concluder.findings] == [first.id, second.id]
    assert not any(one.aside for one in page.concluder.findings)
    # Each of them on the run it was found on, chosen by keys.
    press(Qt.Key.Key_V)
    at = next(i for i in range(page.target.count()) if page.target.itemText(i) == "grain-net-1 on late-summer-field")
    page.target.hidePopup()
    page.target.setCurrentIndex(at)
    page.target.activated.emit(at)
    settle()
    assert [line[3] for line in lines(found)] == ["holds: 25 of 25", "holds: 25 of 50"]
    # The same again is no second finding.
    found.bench.show_step(MEASURE)
    press(Qt.Key.Key_F)
    assert len(page.concluder.findings) == 2


def test_what_was_found_is_there_after_reopening_and_in_no_other_study(
    found: MainWindow, settle: Settle, qtbot: QtBot, tmp_path: Path
) -> None:
    before = found.bench.conclude.concluder.findings
    path = found.workspace.path
    other = tmp_path / "other.mivrat"
    found.workspace.writing.wait()
    found.workspace.allow(tmp_path)
    with Study.open(path, again=True) as study:
        study.copy_to(other)
    with Study.open(other) as study, study.writing() as db:
        db.execute("DELETE FROM finding")
    found.open_study(other)
    qtbot.waitUntil(lambda: found.workspace.study_path == other, timeout=20000)
    settle()
    assert found.bench.conclude.concluder.findings == ()
    found.open_study(path)
    qtbot.waitUntil(lambda: found.workspace.study_path == path, timeout=20000)
    settle()
    assert found.bench.conclude.concluder.findings == before
    # On a run where nothing was found, the findings are checked on it by themselves.
    later = next(
        one for one in found.workspace.runs if one.model == "grain-net-2" and one.image_set == "late-summer-field"
    )
    found.workspace.open(path, later.id)
    settle()
    found.bench.show_step(CONCLUDE)
    found.bench.conclude.choose(FINDINGS)
    settle()
    assert [one[3] for one in lines(found)] == ["gone: 1 of 25", "gone: 0 of 50"]


def test_criteria_differences_and_labels_as_findings(
    demo: MainWindow, settle: Settle, press: Callable[..., None], qtbot: QtBot
) -> None:
    concluder = demo.bench.conclude.concluder
    model = demo.workspace.shown.record.info.model_id
    demo.workspace.edits.take(
        study_edits.set_criteria(model, "criteria", ['recall["hazel"] >= 0.9', "top1 >= 0.9"], ())
    )
    settle()
    demo.bench.show_step(CONCLUDE)
    demo.bench.conclude.choose(CRITERIA)
    settle()
    told = demo.bench.conclude.criteria.as_table()
    assert [line[1] for line in told[1:]] == ["inconclusive", "missed"]
    assert "more images labelled hazel" in told[1][6]
    (add, *_) = [
        one for one in demo.bench.conclude.criteria.findChildren(QPushButton) if one.text() == "add to findings"
    ]
    qtbot.mouseClick(add, LEFT)
    settle()
    (one,) = concluder.findings
    assert one.claim.text == 'recall["hazel"] >= 0.9'
    judged = demo.workspace.shown.judged
    at = [demo.workspace.shown.record.names.position(picture.image) for picture in one.pictures]
    assert at
    assert all(i is not None and judged.labels[i] == CLASSES.index("hazel") and not judged.right[i] for i in at)
    other = next(
        one
        for one in demo.workspace.runs
        if one.model == "grain-net-2" and one.set_id == demo.workspace.shown.record.info.set_id
    )
    demo.bench.comparer.hold(other)
    settle()
    demo.bench.show_step(COMPARE)
    settle()
    press(Qt.Key.Key_F)
    assert concluder.findings[1].title == "Behind grain-net-2 in top1"
    assert concluder.findings[1].before.value == pytest.approx(-46 / 399)
    demo.workspace.shown.replace(Labelled(frozenset({0})))
    demo.workspace.edits.undo()
    settle()
    assert len(concluder.findings) == 1


def test_a_finding_chosen_on_one_half_is_confirmed_on_the_other(
    demo: MainWindow, settle: Settle, press: Callable[..., None], qtbot: QtBot
) -> None:
    workspace, page = demo.workspace, demo.bench.conclude.findings
    assert workspace.contents is not None
    late = next(one for one in workspace.contents.sets if one.name == "late-summer-field")
    model = next(one for one in workspace.contents.models if one.name == "grain-net-1")

    def find() -> str:
        workspace.shown.replace(MatrixCells(frozenset({(CLASSES.index("plantain"), CLASSES.index("ragweed"))})))
        demo.bench.show_step(MEASURE)
        press(Qt.Key.Key_F)
        qtbot.waitUntil(lambda: bool(page.concluder.findings) and page.concluder.settled, timeout=10000)
        settle()
        demo.bench.show_step(CONCLUDE)
        demo.bench.conclude.choose(FINDINGS)
        settle()
        page.table.setCurrentCell(len(page.concluder.findings) - 1, 0)
        settle()
        return page.concluder.findings[-1].title

    # All images were looked at: the button says what to do before looking.
    find()
    assert page.detail.confirm_button.isVisible()
    qtbot.mouseClick(page.detail.confirm_button, Qt.MouseButton.LeftButton)
    settle()
    assert "are not one of two halves" in demo.foot.problem.full_text
    workspace.edits.undo()
    settle()
    workspace.edits.take(study_edits.draw_halves(late, 0))
    settle()
    halves = [one for one in workspace.contents.sets if one.drawn.startswith("half")]
    assert [one.images for one in halves] == [200, 200]
    demo.bench.prepare.inputs._begin(model, halves[0])
    qtbot.waitUntil(lambda: workspace.shown.record.info.set_id == halves[0].id and not workspace.busy, timeout=30000)
    settle()
    find()
    qtbot.mouseClick(page.detail.confirm_button, Qt.MouseButton.LeftButton)
    settle()
    assert "has not been scored under this model" in demo.foot.problem.full_text
    demo.bench.prepare.inputs._begin(model, halves[1])
    qtbot.waitUntil(lambda: workspace.shown.record.info.set_id == halves[1].id and not workspace.busy, timeout=30000)
    settle()
    qtbot.mouseClick(page.detail.confirm_button, Qt.MouseButton.LeftButton)
    settle()
    assert "it was found on grain-net-1, late-summer-field (half 1 of 2, seed 0)" in demo.foot.problem.full_text
    demo.show_run(next(one.id for one in workspace.runs if one.set_id == halves[0].id))
    settle()
    qtbot.mouseClick(page.detail.confirm_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.concluder.findings[-1].confirmed is not None, timeout=10000)
    settle()
    found = page.concluder.findings[-1]
    assert found.confirmed is not None
    assert found.before.hits is not None
    assert found.confirmed.hits is not None
    assert found.before.hits + found.confirmed.hits == 25  # the whole set has 25 of 50
    assert "; confirmed on the other half: " in page.detail.claim.text()
    assert not page.detail.confirm_button.isVisible()
    workspace.edits.undo()
    settle()
    assert page.concluder.findings[-1].confirmed is None
    assert page.detail.confirm_button.isVisible()


def test_the_report_is_seen_while_it_is_written(
    demo: MainWindow,
    settle: Settle,
    press: Callable[..., None],
    qtbot: QtBot,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    reporter = demo.bench.conclude.reporter
    some = ("summary", "tested", "limits", "definitions")
    reporter.want(replace(reporter.wanted, sections=some), "a shorter report")
    press(Qt.Key.Key_P, CTRL)
    step = demo.bench.conclude
    assert step.tabs.current == REPORT
    assert step.preview.isVisible()
    assert step.preview.pages >= 2
    picture = step.preview.picture.pixmap()
    assert not picture.isNull()
    assert 0.69 < picture.width() / picture.height() < 0.73  # a page
    first = picture.toImage()
    step.preview.setFocus()
    qtbot.keyClick(step.preview, Qt.Key.Key_PageDown)
    settle()
    assert step.preview.where.text().startswith("Report   page 2 of")
    assert step.preview.picture.pixmap().toImage() != first
    pages = step.preview.pages
    step.report.summary.setFocus()
    qtbot.keyClicks(step.report.summary, "Not fit for <late> summer.")
    step.report.sections.setFocus()
    for key in ("definitions", "limits"):
        item = next(
            step.report.sections.item(i)
            for i in range(step.report.sections.count())
            if step.report.sections.item(i).data(Qt.ItemDataRole.UserRole) == key
        )
        item.setCheckState(Qt.CheckState.Unchecked)
    settle()
    assert step.preview.pages < pages
    for name in ("r.html", "r.md"):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, name=name, **__: (str(tmp_path / name), ""))
        if name == "r.md":
            step.report.more.menu().actions()[2].trigger()
        else:
            step.report.ask()
        settle()
    assert {one.name for one in tmp_path.iterdir()} >= {"r.html", "r.md"}
    text = (tmp_path / "r.html").read_text()
    assert "Not fit for &lt;late&gt; summer." in text
    assert 'id="definitions"' not in text
    demo.workspace.edits.undo()  # the last section that was taken out
    assert "limits" in step.reporter.wanted.sections
    assert step.reporter.wanted.summary == "Not fit for <late> summer."


def test_baseline_and_candidate_of_the_report_are_chosen(
    demo: MainWindow, written_pages: list[str], settle: Settle, press: Callable[..., None], qtbot: QtBot
) -> None:
    reporter = demo.bench.conclude.reporter
    press(Qt.Key.Key_P, CTRL)
    page = demo.bench.conclude.report
    listed = [page.runs.item(i) for i in range(page.runs.count())]
    own = demo.workspace.shown.record.info
    assert len(listed) == len(demo.workspace.runs) - 1
    assert all(one.checkState() == Qt.CheckState.Unchecked for one in listed)
    row = next(i for i, one in enumerate(listed) if f"against grain-net-2 on {own.image_set}" in one.text())
    page.runs.setFocus()
    page.runs.setCurrentRow(row)
    qtbot.keyClick(page.runs, Qt.Key.Key_Space)
    settle()
    assert [one.baseline for one in reporter.wanted.against or ()] == [True]
    assert "grain-net-1 is worse than grain-net-2" in written_pages[-1]
    qtbot.mouseClick(page.swap, Qt.MouseButton.LeftButton)
    settle()
    assert page.runs.item(row).text().startswith("grain-net-2")
    assert "grain-net-2 is better than grain-net-1" in written_pages[-1]
    demo.workspace.edits.undo()
    settle()
    assert [one.baseline for one in reporter.wanted.against or ()] == [True]


def test_what_goes_out_is_counted_and_remembered(
    demo: MainWindow, settle: Settle, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    demo.workspace.shown.replace(MatrixCells(frozenset({(PLANTAIN, RAGWEED)})))
    demo.bench.show_step(CONCLUDE)
    demo.bench.conclude.choose(EXPORT)
    settle()
    page = demo.bench.conclude.exporter
    assert page.empty.isVisible()
    assert page.counts["Contact sheet"].text() == "25 images"
    assert not page.buttons["Labels to correct"].isEnabled()
    page.of.setCurrentIndex(1)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(tmp_path / "predictions.csv"), ""))
    qtbot.mouseClick(page.buttons["Predictions"], LEFT)
    settle()
    page.by.setCurrentIndex(2)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_, **__: str(tmp_path / "sorted"))
    qtbot.mouseClick(page.buttons["Files in folders"], LEFT)
    settle()
    rows = [line for line in (tmp_path / "predictions.csv").read_text().splitlines() if not line.startswith("#")]
    (head, *some) = list(csv.reader(rows))
    assert len(some) == 25
    assert set(CLASSES) <= {one.removeprefix("p:") for one in head}
    assert {line[head.index("predicted")] for line in some} == {"ragweed"}
    assert sum(one.is_file() for one in (tmp_path / "sorted").rglob("*.jpg")) == 25
    told = page.as_table()[1:]
    assert len(told) == 2
    assert {line[2] for line in told} == {"25"}
    assert not page.empty.isVisible()
    assert page.open.isVisible()


def test_the_pages_stand_by_keys_alone_and_in_narrow_windows(
    demo: MainWindow, written_pages: list[str], settle: Settle, qtbot: QtBot
) -> None:
    step = demo.bench.conclude
    demo.bench.show_step(CONCLUDE)
    for width in (900, 1001, 1280):
        demo.resize(width, 700)
        for tab in (CRITERIA, FINDINGS, TO_LABEL, REPORT, EXPORT):
            step.choose(tab)
            settle()
            page = (step.criteria, step.findings, step.to_label, step.report, step.exporter)[tab]
            inside: list[QWidget] = [one for one in page.findChildren(QPushButton) if one.isVisible()]
            for one in inside:
                right = one.mapTo(step, one.rect().bottomRight()).x()
                assert right <= step.width(), (width, tab, one)
    assert "press F" in step.findings.empty.text() or "F on" in step.findings.empty.text()
