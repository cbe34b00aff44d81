"""A prediction service in the real window: from an address to figures, agreed to first; what it cannot do is said in a sentence."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from mivrat.core.heatmaps.answers_only import answers_taken
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.service import client
from mivrat.core.models.service.agreement import agree, agreed_to, read_agreement
from mivrat.core.study.file import Study
from mivrat.service.stand_in import Manner, StandIn
from mivrat.service.trouble import Trouble
from mivrat.ui import words
from mivrat.ui.bench import CHECK, COMPARE, EXPLAIN, PREPARE
from mivrat.ui.prepare.step import INPUTS
from mivrat.ui.window import BENCH, NEW, SERVICE, MainWindow
from mivrat.workspace.study_jobs import NewStudy
from tests.support.kept_window import KeptWindow
from tests.support.services import network_with_images
from tests.support.sets import CLASSES

Settle = Callable[[], None]
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def model(tmp_path: Path) -> OnnxModel:
    """A network, its recipe beside it, its class list, and a set of 15 images."""
    return network_with_images(tmp_path)


@pytest.fixture(autouse=True)
def form_of_its_own(kept_window: KeptWindow) -> Iterator[None]:
    """The form of a service keeps what was typed: each test begins with an empty one."""
    yield
    kept_window.drop()


@pytest.fixture
def service(model: OnnxModel) -> Iterator[StandIn]:
    with StandIn(model, "net", CLASSES, Manner(version="3")) as made:
        yield made


def seen(widget: QWidget) -> str:
    return "\n".join(one.text() for one in widget.findChildren(QLabel) if one.isVisible())


def fill_in(window: MainWindow, folder: Path) -> None:
    """Name everything a new study needs but its model."""
    window.new_study()
    page = window.new_page
    page.classes.set_path(folder / "classes.txt")
    page.recipe.set_path(folder / "recipe.toml")
    page.images.set_path(folder / "set")


def test_from_an_address_to_figures_agreed_to_once(
    qtbot: QtBot, window: MainWindow, settle: Settle, service: StandIn, tmp_path: Path
) -> None:
    fill_in(window, tmp_path)
    page = window.new_page
    qtbot.keyClicks(page.model.edit, service.address)
    qtbot.waitUntil(page.start.isEnabled, timeout=10000)
    assert "as version 3" in page.message.text()
    assert "none has been sent" in page.message.text()
    qtbot.mouseClick(page.start, LEFT)
    qtbot.waitUntil(window.agreement.isVisible, timeout=10000)
    for part in ("15 images", service.root.removeprefix("http://"), "as the numbers"):
        assert part in window.agreement.question.text()
    qtbot.keyClick(window.agreement.no, Qt.Key.Key_Escape)
    settle()
    assert not window.agreement.isVisible()
    assert (service.images, agreed_to()) == ([], {})
    assert not (tmp_path / "set.mivrat").exists(), "refusing leaves nothing behind"
    qtbot.mouseClick(page.start, LEFT)
    qtbot.waitUntil(window.agreement.isVisible, timeout=10000)
    qtbot.keyClick(window.agreement.no, Qt.Key.Key_Tab)
    qtbot.keyClick(window.agreement.yes, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    assert window.workspace.shown.snapshot.counts.evaluated == 15
    assert len(set(service.images)) == len(service.images) == 15
    assert "(service)" in window.bench.header.facts.full_text
    assert (tmp_path / "net.service.toml").is_file()
    window.bench.show_step(PREPARE)
    settle()
    assert f"a prediction service at {service.root.removeprefix('http://')}" in seen(window.bench.prepare)


def test_the_form_tries_one_image_and_shows_both_sides(
    qtbot: QtBot, window: MainWindow, settle: Settle, service: StandIn, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("OURS", "k3y-of-0urs")
    object.__setattr__(service.manner, "key", "Bearer k3y-of-0urs")
    fill_in(window, tmp_path)
    qtbot.mouseClick(window.new_page.service, LEFT)
    settle()
    form = window.service
    assert window.pages.currentIndex() == SERVICE
    qtbot.keyClicks(form.address, f"{service.root}/score")
    assert form.sends.currentData() == "json"
    qtbot.keyClicks(form.pointer, "/no/such/place")
    for field, text in ((form.header, "Authorization"), (form.scheme, "Bearer"), (form.environment, "OURS")):
        qtbot.keyClicks(field, text)
    form.encoding.setCurrentIndex(form.encoding.findData("png"))
    qtbot.mouseClick(form.try_button, LEFT)
    qtbot.waitUntil(window.agreement.isVisible, timeout=10000)
    assert "OURS" in window.agreement.question.text()
    qtbot.mouseClick(window.agreement.yes, LEFT)
    settle()
    assert "'/no/such/place' leads nowhere" in form.message.text()
    assert '"scores"' in form.answer.toPlainText()
    form.pointer.clear()
    qtbot.mouseClick(form.try_button, LEFT)
    settle()
    assert "It answers" in form.message.text()
    assert "Authorization: Bearer •••" in form.request.toPlainText()
    shown = form.request.toPlainText() + form.answer.toPlainText() + seen(form)
    assert "k3y-of-0urs" not in shown
    assert any(name in form.ranked.text() for name in CLASSES)
    qtbot.mouseClick(form.use, LEFT)
    assert window.pages.currentIndex() == NEW
    qtbot.waitUntil(window.new_page.start.isEnabled, timeout=10000)
    qtbot.mouseClick(window.new_page.service, LEFT)  # back in the form, as it was
    assert form.address.text() == f"{service.root}/score"
    assert form.encoding.currentData() == "png"
    qtbot.mouseClick(form.cancel, LEFT)
    qtbot.mouseClick(window.new_page.start, LEFT)
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    assert window.workspace.shown.snapshot.counts.evaluated == 15


def test_what_is_wrong_in_the_form_is_said_beside_it(
    qtbot: QtBot, window: MainWindow, settle: Settle, model: OnnxModel, tmp_path: Path
) -> None:
    fill_in(window, tmp_path)
    qtbot.mouseClick(window.new_page.service, LEFT)
    settle()
    form = window.service
    for address, told in (
        ("host", "not a service address"),
        ("https://host/v2", "agree to the host"),
        ("https://host/v2/models/", "names a model"),
        ("https://host/v2/models/m?api_key=1", "holds a key"),
        ("http://127.0.0.1:9/v2/models/m", "the server does not answer"),
    ):
        form.address.setText(address)
        qtbot.mouseClick(form.try_button, LEFT)
        settle()
        assert told in form.message.text()


@pytest.fixture
def judged(qtbot: QtBot, window: MainWindow, settle: Settle, service: StandIn, tmp_path: Path) -> MainWindow:
    """The window on a run of the service."""
    agree(read_agreement(service.root))
    files = (tmp_path / "classes.txt", tmp_path / "recipe.toml", tmp_path / "set", tmp_path / "s.mivrat")
    window.start_study(NewStudy(service.address, *files))
    qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=10000)
    settle()
    window.workspace.shown.focus.look_at(0)
    return window


def test_what_takes_layers_is_said_and_what_takes_answers_is_counted(
    qtbot: QtBot, judged: MainWindow, settle: Settle, service: StandIn
) -> None:
    explain = judged.bench.explain
    judged.bench.show_step(EXPLAIN)
    settle()
    board, sent = explain.board, service.trouble.requests
    wanted = answers_taken("occlusion", 16, 16)
    assert f"{wanted} requests" in board.note.text()
    assert board.view.board.cells == []
    qtbot.wait(200)
    assert service.trouble.requests == sent, "nothing is sent unasked"
    qtbot.mouseClick(board.ask_button, LEFT)
    qtbot.waitUntil(lambda: service.trouble.requests - sent >= wanted - 3, timeout=20_000)
    settle()
    assert all(cell.heat is not None for line in board.view.board.cells for cell in line if cell.note != "…")
    assert wanted - 3 <= service.trouble.requests - sent <= wanted  # the image itself is known
    assert "answers so far" in board.told.text() or board.view.board.cells
    board.way.setCurrentIndex(0)
    board.way.activated.emit(0)
    assert "Layers and gradients need the ONNX model" in board.note.text()
    judged.bench.look_closely()
    settle()
    sent = service.trouble.requests
    assert "gradients need the ONNX model" in judged.bench.close_look.heat_predicted.message
    for name, told in (
        ("Where", f"{words.count(15 * wanted)} requests"),
        ("Trust", "only deletion and insertion"),
        ("Layers", "A prediction service has no layers"),
        ("Cover test", "draw"),
    ):
        explain.choose(explain.tabs.names.index(name))
        settle()
        assert told in seen(explain), name
    assert service.trouble.requests == sent


def test_a_region_drawn_is_tested_over_the_selection(
    qtbot: QtBot, judged: MainWindow, settle: Settle, service: StandIn
) -> None:
    explain = judged.bench.explain
    judged.bench.show_step(EXPLAIN)
    explain.choose(explain.tabs.names.index("Cover test"))
    settle()
    cover, canvas, sent = explain.cover, explain.cover.preview.canvas, service.trouble.requests
    canvas.setFocus()
    qtbot.keyClick(canvas, Qt.Key.Key_Return)
    settle()
    assert "45 requests" in cover.begin.text()
    assert service.trouble.requests == sent
    qtbot.mouseClick(cover.begin, LEFT)
    settle()
    found = explain.explainer.test
    assert found is not None
    assert len(found.found) == 15
    assert service.trouble.requests - sent <= 45


def test_it_is_checked_and_held_against_its_file(
    qtbot: QtBot, judged: MainWindow, settle: Settle, service: StandIn, tmp_path: Path
) -> None:
    judged.bench.show_step(CHECK)
    settle()
    step = judged.bench.check
    assert step.rows["service"].isVisibleTo(step)
    qtbot.mouseClick(step.all, LEFT)
    settle()
    kept = judged.workspace.shown.results.checks["service"].result
    assert kept.state == "fine"
    for part in ("ready", "version 3", "to the last bit", "several images in one request"):
        assert part in kept.sentence
    judged.bench.show_step(PREPARE)
    judged.bench.prepare.choose(INPUTS)
    judged.bench.prepare.inputs.add_model(tmp_path / "net.onnx")
    settle()
    (score,) = [one for one in judged.bench.prepare.inputs.findChildren(QPushButton) if one.text() == "Score"]
    qtbot.mouseClick(score, LEFT)
    settle()
    judged.bench.show_step(CHECK)
    assert not step.rows["service"].isVisibleTo(step)
    judged.bench.show_step(COMPARE)
    comparer = judged.bench.comparer
    comparer.hold(comparer.choices()[0][1][0])
    settle()
    assert "exactly the same probabilities" in seen(judged.bench.compare)
    assert "net (service)" in seen(judged.bench)


def test_retries_and_refusals_are_told_while_it_goes_and_kept(
    qtbot: QtBot, window: MainWindow, settle: Settle, model: OnnxModel, tmp_path: Path
) -> None:
    manner = Manner(troubles=(Trouble("gateway", every=4), Trouble("refuse", every=7)), delay=0.05)
    with StandIn(model, "net", CLASSES, manner) as service:
        agree(read_agreement(service.root))
        told: list[str] = []
        window.workspace.jobs.progress.connect(lambda event: told.append(event.sentence()))
        files = (tmp_path / "classes.txt", tmp_path / "recipe.toml", tmp_path / "set", tmp_path / "s.mivrat")
        window.start_study(NewStudy(service.address, *files))
        qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=20000)
        settle()
        assert any("asked again" in one for one in told)
        assert any("refused or given up" in one for one in told)
        counts = window.workspace.shown.snapshot.counts
        assert counts.failed >= 1
        assert counts.failed + counts.evaluated == 15
        with Study.open(tmp_path / "s.mivrat") as study:
            reasons = [text for (text,) in study.rows("SELECT reason FROM answer WHERE reason IS NOT NULL")]
        assert reasons == ["the service refused it: 422 this picture is not to our liking"] * counts.failed
        service.trouble.troubles = ()
        sent = service.trouble.requests
        assert window.foot.resume.text() == f"Ask again for {counts.failed} failed"
        qtbot.mouseClick(window.foot.resume, LEFT)
        settle()
        assert service.trouble.requests - sent == counts.failed
        assert window.workspace.shown.snapshot.counts.evaluated == 15
        assert not window.foot.resume.isVisible()


def test_what_gets_no_answer_is_shown_as_not_scored_and_gone_on_with(
    qtbot: QtBot, window: MainWindow, settle: Settle, model: OnnxModel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(client, "RetryPolicy", partial(client.RetryPolicy, 2, 0.01, 0.02))
    with StandIn(model, "net", CLASSES, Manner(troubles=(Trouble("gateway", share=0.7),), seed=5)) as service:
        agree(read_agreement(service.root))
        files = (tmp_path / "classes.txt", tmp_path / "recipe.toml", tmp_path / "set", tmp_path / "s.mivrat")
        window.start_study(NewStudy(service.address, *files))
        qtbot.waitUntil(lambda: window.pages.currentIndex() == BENCH, timeout=20000)
        settle()
        counts = window.workspace.shown.snapshot.counts
        assert counts.pending > 0
        assert counts.evaluated > 0
        assert f"{counts.pending} image" in window.foot.problem.full_text
        assert "got no answer" in window.foot.problem.full_text
        service.trouble.troubles = ()
        qtbot.mouseClick(window.foot.resume, LEFT)
        settle()
        assert window.workspace.shown.snapshot.counts.evaluated == 15


def test_agreement_can_be_taken_back(
    qtbot: QtBot, judged: MainWindow, settle: Settle, service: StandIn, own_folders: Path
) -> None:
    judged.bench.show_step(PREPARE)
    judged.bench.prepare.choose(INPUTS)
    settle()
    judged.bench.prepare.inputs._withdraw(service.root)
    assert agreed_to() == {}
    kept = own_folders / "xdg_config_home" / "mivrat" / "agreed-hosts.json"
    assert json.loads(kept.read_text()) == {}
    judged.bench.show_step(EXPLAIN)
    settle()
    qtbot.mouseClick(judged.bench.explain.board.ask_button, LEFT)
    qtbot.waitUntil(judged.agreement.isVisible, timeout=5000)
    sent = service.trouble.requests
    qtbot.mouseClick(judged.agreement.no, LEFT)
    settle()
    assert judged.bench.explain.board.ask_button.isVisible()
    assert service.trouble.requests == sent
    qtbot.mouseClick(judged.bench.explain.board.ask_button, LEFT)
    qtbot.waitUntil(judged.agreement.isVisible, timeout=5000)
    qtbot.mouseClick(judged.agreement.yes, LEFT)
    settle()
    assert service.trouble.requests > sent
    assert judged.bench.explain.board.view.board.cells
