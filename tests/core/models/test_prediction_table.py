"""Tables of predictions as models; hints in model files."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import onnx
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.answers.answers import SCORED
from mivrat.core.base.errors import InputError
from mivrat.core.models import prediction_table
from mivrat.core.models.hints import model_hints
from mivrat.core.models.kinds import load_model
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, read_image_set, tidied
from mivrat.core.pictures.recipe import Recipe, Resize, Values
from mivrat.core.reporting.results import RunResults, write_results
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.runs import load_run
from tests.support.networks import Net, classifier, loaded, saved
from tests.support.sets import CLASSES, write_set


def table(path: Path, *lines: str) -> PredictionTable:
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return PredictionTable(path, CLASSES)


def listed(folder: Path, *labels: int | None) -> ImageSet:
    return ImageSet("set", folder / "set", [ImageItem(f"{i}.png", label) for i, label in enumerate(labels)])


def test_scores_of_every_class(tmp_path: Path) -> None:
    """Columns in any order, a row for a file that is not in the set, one image without a row, one with an empty cell."""
    model = table(
        tmp_path / "p.csv",
        "path,p:hazel,p:birch,p:alder",
        "0.png,0.2,0.7,0.1",
        "set/1.png,0.3,0.3,0.4",
        "2.png,0.5,,0.5",
        "other.png,1,0,0",
    )
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, listed(tmp_path, 0, 2, 1, 1), study)
    list(evaluation.run())
    judged = evaluation.judging.judged()
    np.testing.assert_allclose(judged.probabilities([0, 1]), [[0.7, 0.1, 0.2], [0.3, 0.4, 0.3]], atol=1e-7)
    assert judged.kind == "probabilities"
    assert judged.rank[:2].tolist() == [1, 3]  # birch is as likely as hazel and stands first
    assert (judged.counts().evaluated, judged.counts().failed) == (2, 2)
    assert "no row" in evaluation.answers.reasons[3]
    again = load_run(study, 1)
    assert (again.kind.name, again.answers.kind) == ("table", "probabilities")
    assert np.array_equal(again.answers.state, evaluation.answers.state)
    assert np.array_equal(again.answers.rows[:2], evaluation.answers.rows[:2])
    study.close()


def test_predictions_alone_give_the_figures_they_allow(tmp_path: Path) -> None:
    model = table(
        tmp_path / "p.tsv", "path\tpredicted\tconfidence", "0.png\tBirch\t0.9", "1.png\talder\t", "2.png\thazel\t0.4"
    )
    assert "log loss" in model.remarks[0]
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(model, listed(tmp_path, 0, 2, 2), study)
    list(evaluation.run())
    judged = evaluation.judging.judged()
    figures = judged.figures([1, 3])
    assert figures.top_k[1].hits == 2
    assert 3 not in figures.top_k
    assert (figures.log_loss, figures.brier, figures.auroc) == (None, None, [None] * 3)
    assert sum(b.count for b in figures.calibration.bins) == 2  # the one without confidence is left out
    assert figures.calibration.ece == pytest.approx((0.1 + 0.6) / 2)
    folder = tmp_path / "out"
    write_results(folder, RunResults(judged, evaluation.image_set, CLASSES, figures))
    lines = (folder / "predictions.csv").read_text(encoding="utf-8").splitlines()
    assert lines[2].startswith("1.png,hazel,alder,,")
    assert load_run(study, 1).answers.kind == "prediction"
    study.close()


def test_what_is_written_can_be_read_back(tmp_path: Path) -> None:
    """predictions.csv of a run, read as a model, gives the same figures."""
    images = read_image_set(write_set(tmp_path / "set"), CLASSES)
    first = Evaluation(loaded(classifier(), tmp_path / "m.onnx", 3), images)
    list(first.run())
    judged = first.judging.judged()
    write_results(tmp_path / "out", RunResults(judged, images, CLASSES))
    second = Evaluation(load_model(tmp_path / "out" / "predictions.csv", CLASSES), images)
    list(second.run())
    again = second.judging.judged()
    np.testing.assert_allclose(again.probabilities(range(12)), judged.probabilities(range(12)), atol=1e-6)
    assert (again.predicted == judged.predicted).all()


@pytest.mark.parametrize(
    ("lines", "what"),
    [
        (["path,birch,alder", "a,1,0"], "missing: 'hazel'"),
        (["path,birch,alder,hazel", "a,1,x,0"], "no number"),
        (["path,predicted", "a,oak"], "predicts what is not in the class list: 'oak'"),
        (["path,predicted,confidence", "a,birch,87"], "confidence 87"),
        (["path,predicted", "elsewhere.png,birch"], "lists none of the images of set"),
        (["file,predicted", "a,birch"], "no 'path' column"),
    ],
)
def test_bad_tables(tmp_path: Path, lines: list[str], what: str) -> None:
    with pytest.raises(InputError, match=what):
        table(tmp_path / "p.csv", *lines).looked_up(listed(tmp_path, 0))


def test_hints_in_the_file(tmp_path: Path) -> None:
    net = Net()
    x = net.add("Sub", "image", net.weight(values=np.float32([127.5])))
    x = net.add("Div", x, net.weight(values=np.float32([127.5])))
    x = net.add("GlobalAveragePool", net.add("Conv", x, net.weight(4, 3, 3, 3), kernel_shape=[3, 3]))
    net.add("Gemm", net.add("Flatten", x, axis=1), net.weight(4, 3), name="scores")
    made = net.model(["n", 3, 8, 8], {"scores": ["n", 3]})
    entry = onnx.StringStringEntryProto(key="pixel_mean", value="[0.4, 0.5, 0.6]")
    made.metadata_props.extend([entry, onnx.StringStringEntryProto(key="author", value="somebody")])
    recipe = Recipe(resize=Resize(rule="stretch", size=8))
    hints = model_hints(OnnxModel(saved(made, tmp_path / "m.onnx"), recipe))
    told = " ".join(hint.sentence for hint in hints)
    assert "subtract 127.5, then divide by 127.5" in told
    assert "pixel_mean = [0.4, 0.5, 0.6]" in told
    assert "somebody" not in told
    offered = [hint.recipe.values for hint in hints if hint.recipe is not None]
    assert offered == [Values(scale=1.0), Values(scale=1 / 255, mean=[0.4, 0.5, 0.6])]
    plain = model_hints(loaded(classifier(), tmp_path / "plain.onnx", 3))
    assert [hint.recipe for hint in plain] == [None]


def scores_of(folder: Path, cells: list[list[str]], kind: str = "") -> PredictionTable:
    lines = ["path,birch,alder,hazel", *(f"{i}.png,{','.join(line)}" for i, line in enumerate(cells))]
    (folder / "scores.csv").write_text("\n".join(lines))
    return PredictionTable(folder / "scores.csv", CLASSES, Recipe.model_validate({"scores": {"kind": kind or "auto"}}))


@pytest.mark.parametrize("decimals", [1, 2, 3, 6])
def test_rounded_probabilities_and_percentages_are_read_as_such(tmp_path: Path, decimals: int) -> None:
    p = np.random.default_rng(1).dirichlet([0.5] * 3, 200)
    for factor in (1, 100):
        cells = [[f"{factor * v:.{decimals}f}" for v in line] for line in p]
        made = scores_of(tmp_path, cells)
        assert made.settled == "probabilities"
        at, (rows,) = made.looked_up(listed(tmp_path, *[0] * 200))
        assert at.tolist() == list(range(200))
        np.testing.assert_allclose(rows, np.array(cells, float) / factor, rtol=1e-15)


def test_scores_that_fit_no_reading_are_an_error_that_names_both(tmp_path: Path) -> None:
    cells = [["0.9", "0.8", "0.1"], ["0.2", "0.3", "0.5"]]
    with pytest.raises(InputError, match=r'sums to 1 only within.*kind = "probabilities" or kind = "logits"'):
        scores_of(tmp_path, cells)
    assert scores_of(tmp_path, cells, "logits").settled == "logits"
    assert scores_of(tmp_path, cells, "probabilities").settled == "probabilities"


def test_numbers_of_a_table_are_kept_in_double_precision(tmp_path: Path) -> None:
    fine = [["0.30000000001", "0.30000000002", "0.39999999997"], ["1.00000001", "1.00000002", "-1"]]
    made = scores_of(tmp_path, fine)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        evaluation = Evaluation(made, listed(tmp_path, 1, 1), study)
        list(evaluation.run())
        assert evaluation.judging.judged().rank.tolist() == [2, 1]
        assert load_run(study, 1).answers.rows.tolist() == [[float(v) for v in line] for line in fine]


@pytest.mark.parametrize("dtype", [pl.Float32, pl.Float64])
@pytest.mark.parametrize("kind", ["logits", "probabilities", "percentages", "rounded", "holes"])
@pytest.mark.parametrize("piece", [1, 6, 10**6])
def test_numbers_of_a_parquet_file_are_those_of_the_same_file_read_whole(
    dtype: type[pl.DataType], kind: str, piece: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Some rows at a time or all at once, in another order than the images, with a row twice and one that no image has."""
    rng = np.random.default_rng(3)
    rows = rng.normal(0, 3, (40, 3)) if kind in ("logits", "holes") else rng.dirichlet([0.5] * 3, 40)
    rows = {"percentages": 100 * rows, "rounded": rows.round(2)}.get(kind, rows)
    names = [f"{i}.png" for i in rng.permutation(38)] + ["0.png", "nowhere.png"]
    frame = pl.DataFrame({"path": names, **{name: rows[:, k] for k, name in enumerate(CLASSES)}})
    frame = frame.with_columns(pl.col(name).cast(dtype) for name in CLASSES)
    if kind == "holes":
        frame = frame.with_columns(birch=pl.when(pl.int_range(40) == 3).then(None).otherwise(pl.col("birch")))
    frame.write_parquet(tmp_path / "p.parquet", row_group_size=7)
    monkeypatch.setattr(prediction_table, "PIECE", 3 * piece)

    def answers() -> tuple[object, ...]:
        evaluation = Evaluation(PredictionTable(tmp_path / "p.parquet", CLASSES), listed(tmp_path, *[0] * 39))
        list(evaluation.run())
        judged, answers = evaluation.judging.judged(), evaluation.answers
        return answers.kind, answers.rows[answers.state == SCORED].tolist(), answers.reasons, judged.own.tolist()[:30]

    found = answers()
    monkeypatch.setattr(prediction_table._StoredNumbers, "of", lambda *_: None)
    whole = answers()
    assert found[:1] == whole[:1]
    assert found[2] == whole[2] == {38: prediction_table.NO_ROW}
    # Single precision is not written out and read again as doubles.
    np.testing.assert_allclose(np.array(found[1]), np.array(whole[1]), rtol=1e-6 if dtype is pl.Float32 else 0)
    np.testing.assert_allclose(np.array(found[3]), np.array(whole[3]), rtol=1e-5 if dtype is pl.Float32 else 0)


def test_a_parquet_file_with_something_wrong_is_told_of_as_ever(tmp_path: Path) -> None:
    good = pl.DataFrame({"path": ["a", "b"], **{name: [0.5, 0.25] for name in CLASSES}})
    file = tmp_path / "p.parquet"
    for frame, what in (
        (good.drop("hazel"), "missing: 'hazel'"),
        (good.drop("path"), "no 'path' column"),
        (good.with_columns(path=pl.Series(["a", None])), "row 2 has no path"),
        (good.clear(), "lists no images"),
        (good, "all scores are in"),
    ):
        frame.write_parquet(file)
        with pytest.raises(InputError, match=what):
            PredictionTable(file, CLASSES)
    file.write_bytes(file.read_bytes()[:-9])
    with pytest.raises(InputError, match="cannot be read"):
        PredictionTable(file, CLASSES)


PATHS = st.lists(st.text("ab./\\\n ", min_size=0, max_size=7), max_size=6)


@settings(max_examples=300)
@given(PATHS)
def test_paths_are_tidied_all_at_once_as_one_by_one(paths: list[str]) -> None:
    assert tidied(paths) == [os.path.normpath(path) for path in paths]
