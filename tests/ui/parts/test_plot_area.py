"""One plot of a diagram, as its window comes and goes."""

from __future__ import annotations

from mivrat.ui.parts.plot_area import PlotArea


def test_a_range_that_python_has_taken_apart_still_tells_its_bounds(qapp: object) -> None:
    area = PlotArea()
    area.resize(200, 100)
    view = area.getViewBox()
    before = view.boundingRect()
    for name in ("_previousGeometry", "_boundingRectCache", "_painterPathCache"):
        vars(view).pop(name, None)
    assert view.boundingRect() == before
    assert view.shape().boundingRect() == before
