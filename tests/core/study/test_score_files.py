"""Runs whose scores lie beside the study are shown as those whose scores lie inside, whatever was done to either before."""

from __future__ import annotations

import itertools
import os
import shutil
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.missing_scores import are_missing
from mivrat.core.base.errors import InputError
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, ItemColumns, read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.running.loading import load_judged
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.running.snapshot import take_snapshot
from mivrat.core.study import kept_columns, score_files
from mivrat.core.study.class_list import save_class_order, save_pairing
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import forget_images, remove_image_set
from mivrat.core.study.models import remove_model
from mivrat.core.study.removing import put_back
from mivrat.core.study.runs import list_runs, remove_run
from mivrat.core.study.score_folder import folder_beside
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set

Beside = Callable[[bool], None]


@pytest.fixture(scope="module")
def beside() -> Iterator[Beside]:
    """Has the scores of all runs made from then on beside the study, or inside."""
    with pytest.MonkeyPatch.context() as patch:

        def choose(on: bool) -> None:
            patch.setattr(kept_columns, "LARGE", 0 if on else 10**9)
            patch.setattr(score_files, "LARGE", 0 if on else 10**12)

        yield choose


@pytest.fixture(scope="module")
def pictures(tmp_path_factory: pytest.TempPathFactory) -> ImageSet:
    """Images among which two are one picture, one is none and one is gone; with a column, and a name that is no UTF-8."""
    root = write_set(tmp_path_factory.mktemp("pictures") / "set", 4, classes=CLASSES)
    images = read_image_set(root, CLASSES)
    files = images.files()
    shutil.copyfile(files[2], files[9])
    files[5].write_bytes(b"no picture")
    files[7].unlink()
    items = [replace(one, columns={"camera": "ab"[i % 2], "note": "\\x"}) for i, one in enumerate(images.items)]
    items[3] = replace(items[3], label=None, said="none of \udcff")
    return replace(images, items=items)


def shown(study: Study, run: int) -> tuple[EvaluatedRun, ImageSet, dict[int, str], dict[int, bytes]]:
    record, judging = load_judged(study, run, keep=True)
    return judging.judged(), record.image_set, record.answers.reasons, record.answers.contents


def assert_alike(one: Study, other: Study) -> None:
    """Every run of one study is shown as that of the other: read from rows, read from what was kept then, and read again."""

    for a, b in zip(list_runs(one), list_runs(other), strict=True):
        for _ in range(2):
            (x, of_x, *rest_x), (y, of_y, *rest_y) = shown(one, a.id), shown(other, b.id)
            for name in ("labels", "state", "predicted", "confidence", "rank", "own", "squares", "tied"):
                assert np.array_equal(
                    getattr(x, name), getattr(y, name), equal_nan=name[0] in "cos" and name != "state"
                ), name
            scored = np.flatnonzero(x.evaluated)
            assert np.array_equal(x.rows[scored], y.rows[scored], equal_nan=True)
            assert (x.kind, x.classes, rest_x) == (y.kind, y.classes, rest_y)
            assert list(of_x.items) == list(of_y.items)
            assert of_x.labels.tolist() == of_y.labels.tolist()


class Walk:
    """The same done to two studies, one with its scores inside, one beside."""

    def __init__(self, folder: Path, beside: Beside, pictures: ImageSet) -> None:
        self.beside, self.pictures, self.folder = beside, pictures, folder
        self.models = [loaded(classifier(seed=seed, classes=3), folder / f"{seed}.onnx", 3) for seed in (1, 2)]
        self.sets = [
            pictures,
            replace(pictures, name="few", items=list(pictures.items)[1:6]),
            replace(pictures, name="turned", items=list(pictures.items)[::-1]),
        ]
        self.studies = []
        for on in (False, True):
            beside(on)
            self.studies.append(Study.create(folder / ("beside.mivrat" if on else "inside.mivrat"), CLASSES))

    def each(self, do: Callable[[Study], object]) -> None:
        for on, study in enumerate(self.studies):
            self.beside(bool(on))
            do(study)

    def score(self, model: int, of: int, stride: int) -> None:
        images = self.sets[of]
        only = range(0, len(images.items), stride)
        self.each(lambda study: list(Evaluation(self.models[model], images, study).run(3, only=only)))

    def score_outside_of_the_file(self, model: int, of: int) -> None:
        """A small set, whose scores lie inside in either study."""
        for study in self.studies:
            self.beside(False)
            list(Evaluation(self.models[model], self.sets[of], study).run(3))

    def remove(self, what: int) -> None:
        def do(study: Study) -> None:
            runs = list_runs(study)
            if runs:
                removers = (
                    lambda: remove_run(study, runs[0].id),
                    lambda: remove_model(study, runs[0].model_id),
                    lambda: remove_image_set(study, runs[0].set_id),
                )
                put_back(study, removers[what]())

        self.each(do)

    def relabel(self, to: int) -> None:
        self.each(lambda study: save_pairing(study, {"birch": to % 3, "none of \udcff": (to + 1) % 3}))

    def turn(self) -> None:
        self.each(lambda study: save_class_order(study, [*study.classes[1:], study.classes[0]]))

    def forget(self, image: int) -> None:
        self.each(lambda study: [forget_images(study, run.set_id, [image % 5]) for run in list_runs(study)[:1]])

    def reopen(self) -> None:
        for at, study in enumerate(self.studies):
            study.close()
            self.studies[at] = Study.open(study.path)

    def look(self) -> None:
        self.beside(True)
        assert_alike(*self.studies)

    def close(self) -> None:
        for study in self.studies:
            study.close()


STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("score"), st.integers(0, 1), st.integers(0, 2), st.integers(1, 3)),
        st.tuples(st.just("score_outside_of_the_file"), st.integers(0, 1), st.integers(0, 2)),
        st.tuples(st.just("remove"), st.integers(0, 2)),
        st.tuples(st.just("relabel"), st.integers(0, 2)),
        st.tuples(st.just("turn")),
        st.tuples(st.just("forget"), st.integers(0, 4)),
        st.tuples(st.just("reopen")),
        st.tuples(st.just("look")),
    ),
    min_size=3,
    max_size=9,
)


@settings(max_examples=25)
@given(steps=STEPS)
def test_whatever_is_done_both_kinds_of_study_show_the_same(
    steps: list[tuple[object, ...]], beside: Beside, pictures: ImageSet, tmp_path_factory: pytest.TempPathFactory
) -> None:
    walk = Walk(tmp_path_factory.mktemp("walk"), beside, pictures)
    try:
        walk.score(0, 0, 1)
        for name, *given_ in steps:
            getattr(walk, str(name))(*given_)
        walk.look()
    finally:
        walk.close()


def evaluated(folder: Path, beside: Beside, pictures: ImageSet, name: str = "s.mivrat") -> Study:
    beside(True)
    study = Study.create(folder / name, CLASSES)
    list(Evaluation(loaded(classifier(seed=1, classes=3), folder / "m.onnx", 3), pictures, study).run(3))
    return study


def test_a_copy_has_its_own_scores(tmp_path: Path, beside: Beside, pictures: ImageSet) -> None:
    with evaluated(tmp_path, beside, pictures) as study:
        study.copy_to(tmp_path / "copy" / "t.mivrat")
        with Study.open(tmp_path / "copy" / "t.mivrat") as copy:
            assert_alike(study, copy)
            (tmp_path / "link.mivrat").symlink_to(copy.path)
            with Study.open(tmp_path / "link.mivrat") as linked:
                assert_alike(study, linked)
            shutil.rmtree(folder_beside(study.path))
            assert np.isfinite(shown(copy, 1)[0].rows[0]).all()


@pytest.mark.parametrize("harm", ["gone", "cut off", "of another run", "no array", "a link", "a pipe"])
def test_a_study_without_its_scores_shows_what_needs_none_and_says_what_is_missing(
    harm: str, tmp_path: Path, beside: Beside, pictures: ImageSet
) -> None:
    with evaluated(tmp_path, beside, pictures) as study:
        before, *_ = shown(study, 1)
        first = before.rows[0].copy()
        figures = take_snapshot(*load_judged(study, 1)).figures
        (file,) = folder_beside(study.path).iterdir()
        whole = file.read_bytes()
        match harm:
            case "gone":
                shutil.rmtree(file.parent)
            case "cut off":
                file.write_bytes(whole[:200])
            case "of another run":
                np.save(file, np.zeros((2, 3), "<f4"))
            case "a link":
                file.rename(tmp_path / "elsewhere.npy")
                file.symlink_to(tmp_path / "elsewhere.npy")
            case "a pipe":
                file.unlink()
                os.mkfifo(file)
            case _:
                file.write_bytes(b"no array")
        record, judging = load_judged(study, 1)
        assert are_missing(record.answers.rows)
        after = judging.judged()
        assert np.array_equal(after.confidence, before.confidence, equal_nan=True)
        now = take_snapshot(record, judging).figures
        assert (now.top_k, now.log_loss, now.brier) == (figures.top_k, figures.log_loss, figures.brier)
        assert not after.has_scores
        assert np.isnan(after.probabilities([0])).all()
        deep = slow_figures(after)
        assert deep is not None
        assert (deep.temperature, deep.ranked) == (None, None)
        with pytest.raises(InputError, match=r"the scores of this run (are|cannot)") as said:
            after.rows[[0]]
        assert "s.mivrat.scores" in said.value.line()
        # Run again, it has them again; and so it has where only the file was put back.
        if harm == "gone":
            file.parent.mkdir()
            file.write_bytes(whole)
        else:
            again = Evaluation(loaded(classifier(seed=1, classes=3), tmp_path / "m.onnx", 3), pictures, study)
            assert len(again.answers.pending)
            list(again.run())
            if harm == "a link":
                assert (tmp_path / "elsewhere.npy").read_bytes() == whole
        assert np.array_equal(shown(study, 1)[0].rows[0], first)


def test_columns_that_are_not_the_runs_own_are_made_again(tmp_path: Path, beside: Beside, pictures: ImageSet) -> None:
    with evaluated(tmp_path, beside, pictures) as study:
        right, items, *_ = shown(study, 1)
        for of, ranged in (("run", ("state", "predicted", "rank")), ("set", ("labels", "said"))):
            kept = kept_columns.load_columns(study, of, 1)  # type: ignore[arg-type]
            assert kept is not None
            for name, column in kept.items():
                shorter = column[:-1] if column.dtype != np.uint8 else np.append(column, np.uint8(0))
                wrongs = [shorter, np.full_like(column, 77)] if name in ranged else [shorter]
                for wrong in (*wrongs, column.astype(f"S{3}"), None):
                    columns = {**kept, name: wrong}
                    if wrong is None:
                        del columns[name]
                    kept_columns.save_columns(study, of, 1, columns)  # type: ignore[arg-type]
                    record, judging = load_judged(study, 1)
                    again = judging.judged()
                    for what in ("state", "predicted", "rank", "labels", "own", "confidence"):
                        one, other = getattr(again, what), getattr(right, what)
                        assert np.array_equal(one, other, equal_nan=one.dtype.kind == "f"), (of, name, what)
                    assert list(record.image_set.items) == list(items.items), (of, name)
        for of in ("run", "set"):
            study.db.execute("DELETE FROM kept_columns")
            study.db.execute("INSERT INTO kept_columns VALUES (?, 1, ?)", (of, b"no columns"))
            study.db.commit()
            assert np.array_equal(shown(study, 1)[0].rank, right.rank)


def test_a_table_of_predictions_keeps_its_doubles(tmp_path: Path, beside: Beside) -> None:
    rng = np.random.default_rng(0)
    items = [ImageItem(f"{i}.png", i % 3, {}, CLASSES[i % 3]) for i in range(7)]
    images = ImageSet("set", tmp_path, items)
    p = rng.dirichlet(np.ones(3), 7)
    lines = [
        ",".join(["path", *CLASSES]),
        *(f"{i}.png," + ",".join(map(repr, row.tolist())) for i, row in enumerate(p)),
    ]
    (tmp_path / "p.csv").write_text("\n".join(lines))
    beside(True)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        list(Evaluation(PredictionTable(tmp_path / "p.csv", CLASSES), images, study).run())
        for _ in range(2):
            judged, of, *_ = shown(study, 1)
            assert np.array_equal(judged.rows, p)
            assert isinstance(of.items, ItemColumns)
            assert judged.rows.dtype == np.float64


def test_columns_of_items_are_a_list_of_items(pictures: ImageSet) -> None:
    plain = list(pictures.items)
    labels = np.array([-1 if one.label is None else one.label for one in plain])
    columns = {name: [one.columns[name] for one in plain] for name in plain[0].columns}
    items = ItemColumns([one.path for one in plain], labels, [one.said for one in plain], columns)
    assert items == plain
    assert [items[i] for i in range(-len(plain), len(plain))] == plain * 2
    assert items[2:5] == plain[2:5]
    assert (items.column("camera"), items.column("no")) == ([one.columns["camera"] for one in plain], [""] * len(plain))
    with pytest.raises(IndexError):
        items[len(plain)]
    assert items != plain[:-1]
    assert list(itertools.islice(iter(items), 2)) == plain[:2]


@pytest.mark.parametrize(
    "steps",
    [
        # A row that only another run's file, or the study itself, has: seen in the first run too, now and the next time.
        [("score", 1, 0, 1), ("score", 0, 0, 3), ("look",), ("score", 0, 2, 1), ("look",)],
        [("score", 1, 0, 1), ("score", 0, 0, 3), ("look",), ("score_outside_of_the_file", 0, 2), ("look",)],
        [("score", 0, 0, 1), ("look",), ("forget", 1)],
    ],
)
def test_what_was_kept_does_not_outlive_what_it_follows_from(
    steps: list[tuple[object, ...]], beside: Beside, pictures: ImageSet, tmp_path: Path
) -> None:
    walk = Walk(tmp_path, beside, pictures)
    for name, *given_ in steps:
        getattr(walk, str(name))(*given_)
    walk.look()
    walk.close()
