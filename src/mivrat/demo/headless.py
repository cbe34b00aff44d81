"""The demonstration without a window: the same walk from headline figure to cause, written to a folder."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.numbers import with_bounds
from mivrat.core.heatmaps.maps import HeatmapMaker, Target
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.reporting.heat_files import HeatmapChoices, write_heatmaps
from mivrat.core.reporting.results import RunResults, write_results
from mivrat.core.running.evaluation import Evaluation
from mivrat.demo.study import DATA, MODELS, SETS, demo_inputs

HEATMAPS = 6


def run_headless(folder: Path, say: Callable[[str], object] = print) -> None:
    """Score both models on both sets, name the commonest mistake, and write the surest such mistakes' heatmaps."""
    inputs = demo_inputs()
    suspect: tuple[EvaluatedRun, OnnxModel] | None = None
    for set_name in SETS:
        for name in MODELS:
            model = OnnxModel(DATA / f"{name}.onnx", inputs.recipe, len(inputs.classes))
            evaluation = Evaluation(model, inputs.sets[set_name])
            for _ in evaluation.run():
                pass
            judged = judge(evaluation.answers, inputs.sets[set_name].labels)
            figures = judged.figures([1, 3, 5])
            results = folder / f"{set_name}, {name}"
            write_results(
                results,
                RunResults(judged, inputs.sets[set_name], inputs.classes, figures, evaluation.answers.reasons),
            )
            top = figures.top_k[1]
            say(f"{set_name}, {name}: top-1 {with_bounds(top)}, N = {top.total}")
            suspect = suspect or (judged, model)
    assert suspect is not None
    judged, model = suspect
    wrong = judged.figures([1], ranked=False).matrix.copy()
    np.fill_diagonal(wrong, 0)
    labelled, predicted = (int(i) for i in np.unravel_index(wrong.argmax(), wrong.shape))
    names = inputs.classes
    say(
        f"most frequent mistake there: {names[labelled]} predicted as {names[predicted]}, {wrong[labelled, predicted]} images"
    )
    found = np.flatnonzero((judged.labels == labelled) & (judged.predicted == predicted))
    found = found[np.argsort(-judged.confidence[found], kind="stable")][:HEATMAPS]
    maker = HeatmapMaker(model)
    files = [inputs.sets[SETS[0]].file(int(i)) for i in found]
    for target in (predicted, labelled):
        out = folder / f"evidence for {names[target]}"
        for _ in write_heatmaps(
            maker, files, out, names, HeatmapChoices([maker.layer(None)], targets=[Target(target)])
        ):
            pass
        say(f"heatmaps of the {len(files)} most confident of them: {out}")
    say(f"everything is in {folder}")
