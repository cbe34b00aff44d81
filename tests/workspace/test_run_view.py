"""What is shown of a run: selections in order, what is picked, steps, and another set."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mivrat.core.selecting.ordering import AS_LISTED, BY_ROLE, NO_BANDS, ORDERS
from mivrat.core.selecting.selection import About, Labelled, MatrixCells, Outcome, Picked, Predicted
from mivrat.workspace.workspace import Workspace
from tests.support.workspaces import made_up_run, show


@pytest.mark.parametrize("order", ORDERS)
def test_a_selection_is_in_order_whatever_was_selected_before(workspace: Workspace, order: str) -> None:
    workspace.shown.set_order(order)
    judged, everything = workspace.shown.snapshot.judged, workspace.shown.to_arrange().arranged(order).positions
    for conditions in ((), (Labelled(frozenset({1, 3})),), (Outcome(frozenset({"wrong"})),), ()):
        workspace.shown.replace(*conditions)
        mask = workspace.shown.selection.mask(judged)
        assert workspace.shown.images.tolist() == everything[mask[everything]].tolist()


def test_what_is_picked_is_shown_as_listed_and_the_order_comes_back(workspace: Workspace) -> None:
    workspace.shown.set_order("least confident first")
    workspace.shown.choose(Picked("copies", (9, 2, 30)))
    assert (workspace.shown.order.by, workspace.shown.images.tolist()) == ("as listed", [9, 2, 30])
    workspace.shown.set_order("name")
    assert sorted(workspace.shown.images.tolist()) == [2, 9, 30]
    workspace.shown.clear()
    assert workspace.shown.order.by == "name"
    workspace.shown.choose(Picked("copies", (9, 2, 30)))
    workspace.shown.clear()
    assert workspace.shown.order.by == "name"


def test_another_set_forgets_what_was_picked_in_this_one(workspace: Workspace, tmp_path: Path) -> None:
    workspace.shown.choose(Picked("copies", (1,)), Labelled(frozenset({2})))
    other = made_up_run(tmp_path, 5, 40, seed=1)
    object.__setattr__(other.info, "set_id", 2)
    object.__setattr__(other.info, "id", 2)
    show(workspace, other)
    assert workspace.shown.conditions == (Labelled(frozenset({2})),)
    assert workspace.shown.focus.current is None


def test_steps_stay_inside_and_mistakes_are_found(workspace: Workspace) -> None:
    wrong = workspace.shown.snapshot.judged.wrong
    workspace.shown.set_order("name")
    workspace.shown.focus.step(0)
    assert workspace.shown.focus.position == 0
    workspace.shown.focus.step(-5)
    assert workspace.shown.focus.position == 0
    workspace.shown.focus.step(10_000)
    assert workspace.shown.focus.position == len(workspace.shown.images) - 1
    assert not workspace.shown.step_mistake(1)
    found = []
    while workspace.shown.step_mistake(-1):
        found.append(workspace.shown.focus.current)
    ahead = workspace.shown.images[:-1]
    assert found == ahead[wrong[ahead]][::-1].tolist()


@given(st.lists(st.tuples(st.integers(0, 5), st.integers(0, 4), st.booleans()), max_size=6))
@settings(deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_figure_and_the_images_it_shows_agree(workspace: Workspace, clicks: list[tuple[int, int, bool]]) -> None:
    """A figure of all images shows just its own, one of the selection its own among those shown; Ctrl narrows what is shown."""
    shown = workspace.shown
    judged, everything = shown.judged, shown.results.measured
    shown.clear()
    for what, k, of_selection in clicks:
        shown.results.measured = replace(everything, of_selection=of_selection)
        kinds = (
            Labelled(frozenset({k})),
            Predicted(frozenset({k})),
            Outcome(frozenset({"wrong"})),
            About(frozenset({k})),
            MatrixCells(frozenset({(k, (k + 1) % 5)})),
            Picked("hand", (k, 7, 60)),
        )
        new = kinds[what : what + 2]
        before = shown.shown_mask()
        among = before if of_selection else np.ones(80, bool)
        figure = np.logical_and.reduce([one.mask(judged) for one in new]) & among
        if shown.are_chosen(new):
            continue  # a second click takes it away
        shown.choose(*new)
        assert np.array_equal(shown.shown_mask(), figure)
        assert shown.are_chosen(new) or not of_selection or all(one in shown.conditions for one in new)
        narrower = Outcome(frozenset({"right"}))
        if not any(one.kind in ("outcome", "cells") for one in shown.conditions):
            shown.choose(narrower, beside=True)
            assert np.array_equal(shown.shown_mask(), figure & narrower.mask(judged))
    shown.results.measured = everything


def test_what_is_chosen_twice_is_looked_at_where_there_is_anything(workspace: Workspace) -> None:
    """Enter on a figure selects its images; again, the first of them is looked at. Of no image nothing is."""
    wanted: list[bool] = []
    workspace.topics.look_wanted.connect(lambda: wanted.append(True))
    some, none = Picked("some", (7, 3)), Picked("none", ())
    workspace.shown.enter(some)
    assert (wanted, workspace.shown.images.tolist()) == ([], [7, 3])
    workspace.shown.enter(some)
    assert (len(wanted), workspace.shown.focus.current) == (1, 7)
    workspace.shown.enter(none)
    workspace.shown.enter(none)
    assert (len(wanted), workspace.shown.images.tolist()) == (1, [])


def test_what_is_marked_goes_with_what_is_looked_at(workspace: Workspace) -> None:
    shown, told = workspace.shown, list[int | None]()
    workspace.topics.current.connect(lambda: told.append(shown.focus.current))
    shown.focus.look_at(4)
    shown.focus.look_at(4)
    assert (shown.focus.marked, told) == (frozenset({4}), [4])
    shown.focus.look_at(6, frozenset({4, 6}))
    assert (shown.focus.current, shown.focus.marked, told) == (6, frozenset({4, 6}), [4, 6])
    shown.focus.look_at(None)
    assert (shown.focus.current, shown.focus.marked, told) == (None, frozenset(), [4, 6, None])


def test_marks_reach_from_where_marking_began_and_leave_with_what_is_shown(workspace: Workspace) -> None:
    shown = workspace.shown
    order = shown.images.tolist()
    shown.focus.look_at(order[3])
    shown.focus.mark_up_to(6)
    assert (shown.focus.acted_on, shown.focus.current) == (order[3:7], order[6])
    shown.focus.mark_up_to(1)
    assert (shown.focus.acted_on, shown.focus.current) == (order[1:4], order[1])
    shown.replace(Picked("hand", tuple(order[2:4])))
    assert (shown.focus.current, shown.focus.marked) == (None, frozenset(order[2:4]))
    shown.focus.clear()
    assert shown.focus.acted_on == []
    shown.focus.mark_up_to(1)  # nothing was looked at before
    assert shown.focus.marked == frozenset(shown.images[1:2].tolist())


def test_bands_by_role_end_with_the_class_they_are_about_and_those_before_come_back(workspace: Workspace) -> None:
    shown, order = workspace.shown, workspace.shown.order
    shown.set_bands("label")
    shown.show_called_and_labelled(2)
    assert (order.band_by, order.about) == (BY_ROLE, 2)
    shown.clear()
    assert (order.band_by, order.about) == ("label", None)
    shown.show_called_and_labelled(2)
    shown.set_order(AS_LISTED)
    shown.replace(Picked("hand", (5, 3)))  # what something lists stands as listed, without bands
    assert (order.by, order.band_by, shown.images.tolist()) == (AS_LISTED, NO_BANDS, [5, 3])
    shown.clear()
    assert (order.by, order.band_by) == (AS_LISTED, NO_BANDS)
