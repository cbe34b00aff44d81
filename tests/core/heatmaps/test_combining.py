"""Maps put together, their mean and their spread by hand."""

from __future__ import annotations

import numpy as np

from mivrat.core.heatmaps.combining import combined, mean_map, spread_of


def test_maps_together_by_hand() -> None:
    one, other = np.array([[2.0, 0.0]], np.float32), np.array([[1.0, -4.0]], np.float32)
    np.testing.assert_allclose(combined([one, other]), [[(1 + 0.25) / 2, (0 - 1) / 2]])
    np.testing.assert_allclose(combined([one, other], [3, 1]), [[(3 + 0.25) / 4, -0.25]])
    fine = np.array([[4.0, 4.0, 0.0, 0.0]], np.float32)
    assert combined([one, fine]).shape == (1, 4)
    mean = mean_map([one, np.zeros((1, 2), np.float32)])
    assert (mean.total, mean.zero, mean.heat.tolist()) == (2, 1, [[0.5, 0.0]])
    spread = spread_of([one, other, np.zeros((1, 2), np.float32), np.array([[1.0, 1.0]], np.float32)])
    np.testing.assert_allclose(spread @ spread[3], [np.sqrt(0.5), np.sqrt(0.5), 0, 1], rtol=1e-6)
    # On a coarser grid a little evidence beside much that speaks against it stays evidence.
    fine = np.full((24, 24), -1.0, np.float32)
    fine[0, 0] = 0.1
    assert spread_of([fine])[0].nonzero()[0].tolist() == [0]
