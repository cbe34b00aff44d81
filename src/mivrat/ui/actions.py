"""Every command of the window in one table: its key, its words, where it holds, when it can be used, and what it does.

Menus, tooltips, the foot's hints and the key sheet are drawn from it. A record without ``do`` is a key that a view answers to
itself, so that the sheet tells of it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence, QShortcut
from PySide6.QtWidgets import QMenu, QWidget

from mivrat.core.base.text import clipped
from mivrat.ui.command_targets import WindowCommands

Where = Literal["window", "bench", "close look", "explain", "view"]
Standard = QKeySequence.StandardKey


@dataclass(frozen=True)
class Action:
    """One command.

    ``text`` is what a menu says, ``about`` what a tooltip does; ``group`` and ``sheet`` where the key sheet tells of it and in
    which words, those with the same ``line`` in one. ``hint`` is what the foot says.
    """

    id: str
    key: str | QKeySequence.StandardKey = ""
    where: Where = "view"
    do: Callable[[WindowCommands], object] | None = None
    text: str = ""
    about: str = ""
    group: str = ""
    sheet: str = ""
    line: str = ""
    hint: str = ""
    menu: Literal["", "main", "images"] = ""
    enabled: Callable[[WindowCommands], bool] = lambda window: True
    shown_key: str = ""

    @property
    def key_text(self) -> str:
        """The key as it is told."""
        if self.shown_key or isinstance(self.key, str):
            return self.shown_key or str(self.key)
        return QKeySequence(self.key).toString(QKeySequence.SequenceFormat.PortableText)

    @property
    def tooltip(self) -> str:
        return f"{self.about} ({self.key_text})"


def _is_open(window: WindowCommands) -> bool:
    return window.workspace.is_open


ANYWHERE, FIGURES, TABLE, REVIEW, CLOSE, EXPLAIN, STUDIES = (
    "Anywhere",
    "Figures",
    "Light table",
    "Review",
    "Close look",
    "Explain",
    "Studies",
)


def _put_down_to(number: int) -> Callable[[WindowCommands], object]:
    return lambda window: window.bench.reviewer.toggle_key(number)


def _show_step(number: int) -> Callable[[WindowCommands], object]:
    return lambda window: window.bench.show_step(number - 1, True)


# fmt: off
_ALL = (
    # --- the menu, part by part; None separates ---
    Action("new", Standard.New, "window", lambda w: w.new_study(), "New study…", group=STUDIES, sheet="new study",
           line="files", hint="new study", menu="main", shown_key="Ctrl+N"),
    Action("open", Standard.Open, "window", lambda w: w.choose_study(), "Open a study…", group=STUDIES,
           sheet="open a study", line="files", hint="open", menu="main", shown_key="Ctrl+O"),
    Action("demo", "", "window", lambda w: w.open_demo(), "Open the demonstration", menu="main"),
    Action("save as", Standard.SaveAs, "window", lambda w: w.save_as(), "Save the study as…", menu="main",
           enabled=_is_open),
    Action("close", "Ctrl+W", "window", lambda w: w.close_study(), "Close the study", menu="main", enabled=_is_open),
    None,
    Action("undo", Standard.Undo, "window", lambda w: w.undo(), "Undo", group=ANYWHERE, sheet="take a decision back",
           line="edits", menu="main", shown_key="Ctrl+Z"),
    Action("redo", Standard.Redo, "window", lambda w: w.redo(), "Redo", group=ANYWHERE, sheet="take it again",
           line="edits", menu="main", shown_key="Ctrl+Shift+Z"),
    None,
    Action("menu", "Alt+M", "bench", lambda w: w.bench.show_menu(), about="Studies, theme, keys",
           group=STUDIES, sheet="the menu", line="menus"),
    Action("runs", "Alt+R", "bench", lambda w: w.bench.show_runs(),
           about="The run shown: a model on an image set. Click to show another", group=STUDIES,
           sheet="the runs of this study", line="menus"),
    Action("hold", "A", "bench", lambda w: w.bench.show_other_runs(),
           about="Hold another model or image set against this run", group=ANYWHERE,
           sheet="compare with another run", line="held", hint="compare with"),
    # While something is being typed, too.
    Action("hold, typing", "Alt+A", "bench", lambda w: w.bench.show_other_runs()),
    Action("stop comparing", "Shift+A", "bench", lambda w: w.bench.clear_comparison(), about="Clear comparison",
           group=ANYWHERE, sheet="clear comparison", line="held"),
    Action("finding", "F", "bench", lambda w: w.bench.add_finding(), "Add to a finding",
           about="Add what is on screen as a finding, with all that checking it again takes", group=ANYWHERE,
           sheet="add what is on screen to the findings", line="findings", hint="add to a finding", menu="images"),
    Action("finding, typing", "Alt+F", "bench", lambda w: w.bench.add_finding()),
    Action("check findings", "V", "bench", lambda w: w.bench.check_findings(),
           about="Check the findings on another run", group=ANYWHERE, sheet="check them on another run",
           line="findings", hint="check findings"),
    Action("report", Standard.Print, "bench", lambda w: w.bench.show_report(), about="The report of this run",
           group=ANYWHERE, sheet="the report", line="findings", hint="report", shown_key="Ctrl+P"),
    Action("cluster", "", "window", lambda w: w.score_on_cluster(), "Score on a cluster…", menu="main",
           enabled=lambda w: w.can_score_elsewhere),
    Action("theme", "Ctrl+Shift+T", "window", lambda w: w.switch_theme(), "Theme: paper or lamp", group=STUDIES,
           sheet="theme: paper or lamp", menu="main"),
    Action("keys", Standard.HelpContents, "window", lambda w: w.show_keys(), "Keys", group=ANYWHERE, sheet="this sheet",
           hint="keys", menu="main", shown_key="F1"),
    Action("log", "", "window", lambda w: w.show_log(), "Where the log is", menu="main"),
    None,
    Action("quit", "Ctrl+Q", "window", lambda w: w.close(), "Quit", menu="main"),
    Action("close, quit", group=STUDIES, sheet="close the study, quit", shown_key="Ctrl+W, Ctrl+Q"),
    # --- anywhere on the bench ---
    Action("remove condition", "Backspace", "bench", lambda w: w.workspace.shown.remove_last(), group=ANYWHERE,
           sheet="remove the last condition"),
    Action("selection before", "Alt+Left", "bench", lambda w: w.workspace.shown.back(),
           about="Back to the selection before", group=ANYWHERE, sheet="selection before", line="history"),
    Action("selection after", "Alt+Right", "bench", lambda w: w.workspace.shown.forward(), about="Forward again",
           group=ANYWHERE, sheet="selection after", line="history"),
    Action("tab before", "Ctrl+PgUp", "bench", lambda w: w.bench.step_tab(-1), group=ANYWHERE,
           sheet="figures: tab before", line="tabs"),
    Action("tab after", "Ctrl+PgDown", "bench", lambda w: w.bench.step_tab(1), group=ANYWHERE, sheet="tab after",
           line="tabs", shown_key="Ctrl+PgDown"),
    Action("other pane", "F6", "bench", lambda w: w.bench.other_pane(), group=ANYWHERE,
           sheet="between figures and pictures", hint="other pane"),
    Action("steps", group=ANYWHERE, shown_key="Ctrl+1 to"),
    Action("next mistake", "M", "bench", lambda w: w.bench.step_mistake(1), about="Next mistake", group=ANYWHERE,
           sheet="next mistake", line="mistakes"),
    Action("previous mistake", "Shift+M", "bench", lambda w: w.bench.step_mistake(-1), about="Previous mistake",
           group=ANYWHERE, sheet="previous mistake", line="mistakes"),
    Action("stop", "Ctrl+.", "window", lambda w: w.stop_job(),
           about="Stop after the current batch; what is done is kept", group=ANYWHERE, sheet="stop the job"),
    # --- figures ---
    Action("figures tab", group=FIGURES, sheet="to the next table, matrix or diagram", shown_key="Tab"),
    Action("figures arrows", group=FIGURES, sheet="move over rows, cells and bins", shown_key="arrows"),
    Action("figures enter", group=FIGURES, sheet="select, then look at the images; with Ctrl: add beside",
           shown_key="Enter"),
    # --- light table ---
    Action("travel", group=TABLE, sheet="travel", shown_key="arrows, PgUp, PgDown, Home, End"),
    Action("look closely", group=TABLE, sheet="close look", hint="close look", shown_key="Enter"),
    Action("mark", group=TABLE, sheet="mark several, mark one, mark all", shown_key="Shift with arrows, Space, Ctrl+A"),
    Action("more like these", "S", "bench", lambda w: w.bench.more_like_these(), "More like these", group=TABLE,
           sheet="more like these", line="light table", menu="images"),
    Action("beside labelled", "B", "bench", lambda w: w.bench.show_called_and_labelled(),
           "Predicted beside labelled", group=TABLE, sheet="predicted beside labelled", line="light table",
           menu="images"),
    Action("keep marked", "K", "bench", lambda w: w.bench.keep_marked(), "Keep only those marked", group=TABLE,
           sheet="keep only those marked", menu="images"),
    # --- review ---
    *(Action(f"cause {i}", str(i), "bench", _put_down_to(i)) for i in range(1, 10)),
    Action("causes", group=REVIEW, sheet="assign a cause, or take it back", hint="cause", shown_key="1 to 9"),
    Action("next unreviewed", "N", "bench", lambda w: w.bench.next_unreviewed(),
           about="Look at the next mistake that has not been reviewed yet", group=REVIEW,
           sheet="next unreviewed mistake", hint="next unreviewed"),
    Action("reviewed", "R", "bench", lambda w: w.bench.reviewer.toggle_reviewed(), group=REVIEW,
           sheet="reviewed or not", line="review", hint="reviewed"),
    Action("note", "E", "bench", lambda w: w.bench.write_note(), group=REVIEW, sheet="write a note", line="review"),
    Action("blind", "Shift+B", "bench", lambda w: w.bench.toggle_blind(), "Read blind",
           about="Hide what models answer and other readers have decided, or show it again", group=REVIEW,
           sheet="read blind, or see answers again", menu="images"),
    # --- close look ---
    Action("image before", "Left", "close look", lambda w: w.workspace.shown.focus.step(-1), group=CLOSE,
           sheet="image before", line="images"),
    Action("image after", "Right", "close look", lambda w: w.workspace.shown.focus.step(1), group=CLOSE, sheet="image after",
           line="images"),
    Action("heat", "H", "close look", lambda w: w.bench.close_look.toggle_heat(), group=CLOSE, sheet="heat on or off",
           hint="heat"),
    Action("rather", "T", "close look", lambda w: w.bench.close_look.toggle_rather(), group=CLOSE,
           sheet="each class rather than the other, or by itself"),
    Action("layer to image", "L", "close look", lambda w: w.bench.close_look.step_layer(1), group=CLOSE,
           sheet="layer nearer to the image", line="layers", hint="layer"),
    Action("layer to scores", "Shift+L", "close look", lambda w: w.bench.close_look.step_layer(-1), group=CLOSE,
           sheet="nearer to the scores", line="layers"),
    Action("enlarge", "Z", "close look", lambda w: w.bench.toggle_enlarged(),
           about="Give the close look the whole width, or give it back", group=CLOSE,
           sheet="the whole width, and back"),
    Action("larger", "+", "close look", lambda w: w.bench.close_look.zoom.by(1.5), group=CLOSE, sheet="larger",
           line="zoom"),
    Action("larger too", "=", "close look", lambda w: w.bench.close_look.zoom.by(1.5)),
    Action("smaller", "-", "close look", lambda w: w.bench.close_look.zoom.by(1 / 1.5), group=CLOSE, sheet="smaller",
           line="zoom", shown_key="−"),
    Action("whole", "0", "close look", lambda w: w.bench.close_look.zoom.reset(), group=CLOSE,
           sheet="the whole picture", line="zoom"),
    Action("light table", "Escape", "close look", lambda w: w.bench.leave_close_look(),
           about="Back to the thumbnails", group=CLOSE, sheet="back to the light table", hint="light table",
           shown_key="Esc"),
    # --- explain ---
    Action("board", group=EXPLAIN, sheet="board: move, one map large, all again", shown_key="arrows, Enter, Esc"),
    Action("board target", group=EXPLAIN, sheet="board: next target, next layer", shown_key="T, L (with Shift: back)"),
    Action("region", group=EXPLAIN, sheet="region: put, move, resize, clear", shown_key="Enter, arrows, + −, Delete"),
    Action("heat thumbs", "Shift+H", "bench", lambda w: w.bench.toggle_heat(), group=EXPLAIN,
           sheet="heat on the light table"),
)
# fmt: on

ACTIONS: dict[str, Action] = {action.id: action for action in _ALL if action is not None}
GROUPS = (ANYWHERE, FIGURES, TABLE, REVIEW, CLOSE, EXPLAIN, STUDIES)


def tooltip(action: str) -> str:
    """What a button for a command says: what it does, and its key."""
    return ACTIONS[action].tooltip


def hints(*actions: str) -> list[tuple[str, str]]:
    """Keys and meanings of some commands for the foot."""
    return [(ACTIONS[one].key_text, ACTIONS[one].hint) for one in actions]


def sheet(steps: Sequence[str]) -> list[tuple[str, list[tuple[str, str]]]]:
    """The key sheet: by group the keys with what they do; ``steps`` are the names of the steps of the job."""
    found = []
    for group in GROUPS:
        lines: dict[str, tuple[list[str], list[str]]] = {}
        for one in ACTIONS.values():
            if one.group == group:
                keys, meanings = lines.setdefault(one.line or one.id, ([], []))
                of_steps = one.id == "steps"
                keys.append(f"{one.key_text} {len(steps)}" if of_steps else one.key_text)
                meanings.append(", ".join(steps) if of_steps else one.sheet)
        found.append((group, [(", ".join(keys), ", ".join(meanings)) for keys, meanings in lines.values()]))
    return found


def bind(window: WindowCommands, widgets: Mapping[Where, QWidget], menu: QMenu, steps: int) -> None:
    """Give the window its keys and its menu; Ctrl and a digit show each of so many steps. ``widgets`` says what has the focus
    where a key holds."""
    entries: dict[str, QAction] = {}
    to_steps = [Action(f"step {i}", f"Ctrl+{i}", "bench", _show_step(i)) for i in range(1, steps + 1)]
    for one in (*_ALL, *to_steps):
        if one is None:
            menu.addSeparator()
        elif one.do is not None and one.menu == "main":
            entries[one.id] = _entry(window, widgets["window"], menu, one)
        elif one.do is not None and one.where in widgets:
            shortcut = QShortcut(QKeySequence(one.key), widgets[one.where])
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(lambda one=one: _run(window, one))
    menu.aboutToShow.connect(lambda: _show_state(window, entries))
    # An entry that is disabled gives no key either: while the menu is not shown all are enabled, and ask when they are used.
    menu.aboutToHide.connect(lambda: _enable_all(entries))


def _run(window: WindowCommands, action: Action) -> None:
    if action.do is not None and action.enabled(window):
        action.do(window)


def _entry(window: WindowCommands, widget: QWidget, menu: QMenu, action: Action) -> QAction:
    entry = QAction(action.text, widget)
    entry.triggered.connect(lambda: _run(window, action))
    if isinstance(action.key, QKeySequence.StandardKey):
        entry.setShortcuts(action.key)  # all that are usual, such as both for redo
    elif action.key:
        entry.setShortcut(QKeySequence(action.key))
    menu.addAction(entry)
    widget.addAction(entry)
    return entry


def _show_state(window: WindowCommands, made: dict[str, QAction]) -> None:
    """Before the menu is shown: what can be used, and what would be taken back or again."""
    edits = window.workspace.edits
    for name, edit in (("undo", edits.last), ("redo", edits.next)):
        plain = ACTIONS[name].text
        text = f"{plain}: {clipped(edit.words, 40)}" if edit else plain
        made[name].setText(text.replace("&", "&&"))
    for name, entry in made.items():
        entry.setEnabled(ACTIONS[name].enabled(window))


def _enable_all(made: dict[str, QAction]) -> None:
    for entry in made.values():
        entry.setEnabled(True)


def fill_images_menu(window: WindowCommands, menu: QMenu) -> None:
    """What can be done with the images shown or marked."""
    for one in ACTIONS.values():
        if one.menu == "images":
            menu.addAction(f"{one.text} ({one.key_text})").triggered.connect(lambda _=False, one=one: _run(window, one))
    menu.addSeparator()
