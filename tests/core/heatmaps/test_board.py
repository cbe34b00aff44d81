"""A board of many maps against each map made alone."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from mivrat.core.heatmaps.board import BoardColumn, Row, board_cells
from mivrat.core.heatmaps.combining import combined
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from tests.support.networks import classifier, loaded, random_batch


def test_a_board_holds_each_map_where_it_belongs(tmp_path: Path) -> None:
    maker = HeatmapMaker(loaded(classifier(side=16), tmp_path / "m.onnx", 3))
    tensor = random_batch(maker.model, 1)[0]
    early, late = (next(one for one in maker.layers if one.op == op) for op in ("Conv", "Relu"))
    rows = [Row("late", (late,)), Row("both", (early, late))]
    columns = [
        BoardColumn("1", (Target(1),)),
        BoardColumn("2 rather than 0", (Target(2, 0),)),
        BoardColumn("mix", (Target(0), Target(1)), (3, 1)),
    ]
    for method in ("signed", "score"):
        cells = {(c.row, c.column): c.heat for c in board_cells(maker, tensor, rows, columns, method)}  # type: ignore[arg-type]

        def alone(target: Target, layer: object, method: str = method) -> np.ndarray:
            return maker.laid_maps(tensor[None], [target], [layer], method)[0][0]  # type: ignore[arg-type, list-item]

        assert len(cells) == 6
        np.testing.assert_allclose(cells[0, 1], alone(Target(2, 0), late), rtol=1e-5, atol=1e-7)
        np.testing.assert_allclose(
            cells[1, 0], combined([alone(Target(1), early), alone(Target(1), late)]), rtol=1e-4, atol=1e-6
        )
        mixed = combined([alone(Target(0), late), alone(Target(1), late)], (3, 1))
        np.testing.assert_allclose(cells[0, 2], mixed, rtol=1e-4, atol=1e-6)
    (cell,) = board_cells(maker, tensor, [Row("", ())], columns[:1], "occlusion")
    assert cell.heat.shape[0] > 3
