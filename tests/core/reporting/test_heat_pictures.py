"""Heatmaps handed on: legends, boards as pictures and drawings, a folder with its index that can be stopped."""

from __future__ import annotations

import csv
import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Progress, StopSignal, Written, stopped_by
from mivrat.core.figures.covered import cover_result
from mivrat.core.heatmaps.overlay import heat_colours
from mivrat.core.heatmaps.setup import MapSetup
from mivrat.core.reporting import cover_report
from mivrat.core.reporting.heat_folder import write_selection
from mivrat.core.reporting.heat_pictures import (
    BAR,
    MARGIN,
    SIDE,
    BoardPicture,
    _layout,
    board_as_image,
    board_as_svg,
    ends_of,
    with_legend,
)
from mivrat.core.reporting.typeface import fitting, typeface
from tests.core.region_masking.test_cover_test import Ran

RED, BLUE = (np.full((30, 60, 3), colour, np.uint8) for colour in ((200, 0, 0), (0, 0, 200)))


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ran]:
    made = Ran(tmp_path_factory.mktemp("ran"))
    yield made
    made.study.close()


@pytest.mark.parametrize("scale", ["heat", "grey", "difference"])
def test_a_legend_shows_the_scale_from_end_to_end(scale: str) -> None:
    times = 6  # 60 pixels are a stamp: 360 can be looked at
    made = np.asarray(with_legend(RED, scale, 4.25, ["evidence for x", "a.jpg"]))
    assert (made[MARGIN : MARGIN + 30 * times, MARGIN : MARGIN + 60 * times] == [200, 0, 0]).all()
    line = made[30 * times + 2 * MARGIN + 6]
    large = np.zeros((400, 500, 3), np.uint8)
    assert (np.asarray(with_legend(large, scale, 1.0, []))[MARGIN : MARGIN + 400, MARGIN : MARGIN + 500] == 0).all()
    ends = heat_colours(np.array([-1.0 if scale == "difference" else 0.0, 1.0]), scale).round().astype(np.uint8)
    starts = np.flatnonzero((line == ends[0]).all(axis=1) & ~(line == 255).all(axis=1))
    stops = np.flatnonzero((line == ends[1]).all(axis=1))
    assert any(start + BAR[0] - 1 in stops for start in starts)
    assert ends_of(scale, 4.25) == (("−4.25" if scale == "difference" else "0"), "4.25")


def test_a_board_has_each_cell_in_its_place_and_words_that_stay_words() -> None:
    board = BoardPicture(
        'a <b> & "c"',
        ["first\n2 × 2", "second"],
        ["x & y", "z"],
        [[RED, None], [BLUE, RED]],
        [["peak 1", "none"], ["2", "3"]],
    )
    drawn = np.asarray(board_as_image(board))
    middle = {(r, c): _middle(board, r, c) for r in range(2) for c in range(2)}
    assert [tuple(int(v) for v in drawn[middle[at]]) for at in ((0, 0), (1, 0), (1, 1))] == [
        (200, 0, 0),
        (0, 0, 200),
        (200, 0, 0),
    ]
    assert tuple(drawn[middle[0, 1]]) == (255, 255, 255)
    root = ElementTree.fromstring(board_as_svg(board))
    texts = [one.text for one in root.iter("{http://www.w3.org/2000/svg}text")]
    long = replace(board, title="model " + "net-of-many-parts-" * 12)
    words = " ".join(
        one.text or "" for one in ElementTree.fromstring(board_as_svg(long)).iter("{http://www.w3.org/2000/svg}text")
    )
    assert "".join(long.title.split()) in "".join(words.split())  # the whole name of a model
    assert board_as_image(long).height > board_as_image(board).height
    assert {'a <b> & "c"', "x & y", "first", "2 × 2", "peak 1", "none"} <= set(texts)
    assert len(list(root.iter("{http://www.w3.org/2000/svg}image"))) == 3 + 1
    assert fitting("a" * 400, 13, 100).count("…") == 1


def test_words_in_pictures_have_their_glyphs_and_names_their_room() -> None:
    blank = typeface(40).getmask("\U0010ffff").getbbox()  # what stands for a glyph that is not there
    box = bytes(typeface(40).getmask("\U0010ffff"))
    assert blank
    assert all(bytes(typeface(40).getmask(sign)) != box for sign in "×−→…äß≥")
    name = "/stage4/stage4.1/Relu_1_output_0"
    board = BoardPicture("t", [f"{name}\n12 × 12"], ["x"], [[RED]], [["1"]])
    texts = [one.text for one in ElementTree.fromstring(board_as_svg(board)).iter("{http://www.w3.org/2000/svg}text")]
    assert name in texts
    short = fitting("a" * 30 + "b" * 30, 13, 100)
    assert typeface(13).getlength(short) <= 100
    assert (short[0], short[-1]) == ("a", "b")


def _middle(board: BoardPicture, row: int, column: int) -> tuple[int, int]:
    x, y = _layout(board).place(row, column)
    return y + SIDE // 2, x + SIDE // 2


def test_a_folder_of_maps_is_indexed_as_far_as_it_was_written(ran: Ran, tmp_path: Path) -> None:
    maps = {i: np.full((4, 4), float(i), np.float32) for i in (0, 1, 20)}
    (gone,) = ran.record.answers.reasons
    last = Path(ran.record.image_set.items[20].path).stem
    for _ in write_selection(ran.record, ran.judged, MapSetup(of=1), {**maps, gone: maps[0]}, tmp_path / "all"):
        pass
    with open(tmp_path / "all" / "index.csv", newline="", encoding="utf-8") as file:
        lines = list(csv.DictReader(file))
    assert [line["array"] for line in lines] == ["0.npy", "1.npy", f"{last}.npy", ""]
    assert lines[3]["problem"]
    assert {line["target"] for line in lines} == {"alder"}
    np.testing.assert_array_equal(np.load(tmp_path / "all" / f"{last}.npy"), maps[20])
    with Image.open(tmp_path / "all" / f"{last}.png") as drawn, Image.open(ran.record.image_set.file(20)) as photo:
        assert drawn.size == photo.size
    before = {one.name: one.read_bytes() for one in (tmp_path / "all").iterdir()}
    *_, told = write_selection(ran.record, ran.judged, MapSetup(of=1), {0: maps[20]}, tmp_path / "all")
    assert told == Written(1, tmp_path / "all")
    assert {one: (tmp_path / "all" / one).read_bytes() for one in before} == before  # nothing is written over
    assert "0-2.npy" in (tmp_path / "all" / "index (2).csv").read_text()
    stop = StopSignal()
    with stopped_by(stop):
        for progress in write_selection(ran.record, ran.judged, MapSetup(of=1), maps, tmp_path / "some"):
            if isinstance(progress, Progress) and progress.done == 1:
                stop.stop()
    assert progress == Written(1, tmp_path / "some")
    assert sorted(path.name for path in (tmp_path / "some").iterdir()) == ["0.npy", "0.png", "index.csv"]
    assert (tmp_path / "some" / "index.csv").read_text().count("\n") == 2
    (tmp_path / "file").write_text("x")
    with pytest.raises(InputError, match="cannot be written"):
        list(write_selection(ran.record, ran.judged, MapSetup(of=1), maps, tmp_path / "file"))


def test_a_result_is_read_back_from_what_was_told_of_it() -> None:
    rng = np.random.default_rng(0)
    labels, before, after, control = rng.integers(0, 3, (4, 40))
    result = cover_result(labels, before, after, control, rng.normal(size=40), rng.normal(size=40))
    told = json.loads(cover_report.as_text(cover_report.as_json(result, {"seed": 0}, [])))
    assert cover_report.result_from_json(told) == result
    with pytest.raises(InputError, match="cannot be read"):
        cover_report.result_from_json({"total": 3})
