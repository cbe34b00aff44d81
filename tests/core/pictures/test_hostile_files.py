"""Files and folders as they should not be: formats that start programs, pictures too large, names that are no text, folders that
may not be read, files that are away for a while."""

from __future__ import annotations

import json
import os
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from mivrat.cli import run_command
from mivrat.core.answers.answers import FAILED, SCORED, UNREADABLE
from mivrat.core.base.errors import InputError
from mivrat.core.base.text import escaped, is_text, unescaped
from mivrat.core.models.prediction_table import PredictionTable
from mivrat.core.pictures.classes import read_class_list
from mivrat.core.pictures.decode import MOST_PIXELS, UnreadablePicture, read_picture
from mivrat.core.pictures.image_sets import list_images, read_image_set
from mivrat.core.pictures.prepare import fitted_pixels, prepare_file
from mivrat.core.pictures.recipe import Crop, Recipe, Resize, recipe_to_toml
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_set
from mivrat.core.study.runs import load_run
from tests.support.networks import Net, classifier, loaded, recipe_for, saved
from tests.support.sets import CLASSES, write_classes, write_set


def png_of(width: int, height: int) -> bytes:
    """A PNG of one colour that unpacks to so many pixels and takes next to nothing itself."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    packer = zlib.compressobj(9)
    line = b"\0" * (width + 1)
    data = b"".join(packer.compress(line) for _ in range(height)) + packer.flush()
    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", data) + chunk(b"IEND", b"")


def test_only_the_formats_named_are_ever_tried(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A page description called .jpg would start an interpreter."""
    from PIL import EpsImagePlugin

    monkeypatch.setattr(EpsImagePlugin, "Ghostscript", lambda *_, **__: pytest.fail("a program was started"))
    page = b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 8 8\n%%EndComments\nshowpage\n%%EOF\n"
    for name in ("a.jpg", "a.png"):
        (tmp_path / name).write_bytes(page)
        with pytest.raises(UnreadablePicture, match="no picture format"):
            read_picture(tmp_path / name)


@pytest.mark.parametrize(("width", "height"), [(1_000_000, 1), (1, 65_500), (20_000, 1), (12_000, 12_000)])
def test_a_picture_too_large_is_that_pictures_fault(width: int, height: int, tmp_path: Path) -> None:
    """Before resizing or once resized; the run goes on, and nothing of that size is ever made."""
    root = write_set(tmp_path / "set", 3)
    (root / "birch" / "large.png").write_bytes(png_of(width, height))
    recipe = Recipe(resize=Resize(rule="shorter-side", size=256), crop=Crop(size=(12, 12)))
    with pytest.raises(UnreadablePicture, match="too large"):
        prepare_file(root / "birch" / "large.png", recipe)
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    model.recipe = recipe
    evaluation = Evaluation(model, read_image_set(root, CLASSES))
    list(evaluation.run())
    assert (evaluation.answers.state == UNREADABLE).sum() == 1
    assert (evaluation.answers.state == SCORED).sum() == 9


def test_sampling_in_bands_is_sampling_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    from mivrat.core.pictures import prepare

    pixels = np.random.default_rng(0).integers(0, 256, (90, 70, 3), dtype=np.uint8)
    recipe = Recipe(resize=Resize(rule="stretch", size=(41, 33), filter="bicubic", antialias=False))
    whole = fitted_pixels(pixels, recipe)[0]
    monkeypatch.setattr(prepare, "_AT_ONCE", 1000)
    assert (fitted_pixels(pixels, recipe)[0] == whole).all()
    assert MOST_PIXELS < 2**27


def test_wide_numbers_come_down_alike_in_bands(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from mivrat.core.pictures import decode

    deep = np.random.default_rng(0).integers(0, 65536, (50, 40)).astype(np.uint16)
    Image.fromarray(deep).save(tmp_path / "a.png")
    whole = read_picture(tmp_path / "a.png", "L")
    assert (whole[..., 0] == np.round(deep * (255 / 65535))).all()
    monkeypatch.setattr(decode, "_AT_ONCE", 100)
    assert (read_picture(tmp_path / "a.png", "L") == whole).all()


@given(st.binary(min_size=1, max_size=12).filter(lambda b: b"\0" not in b and b"/" not in b))
def test_any_name_is_written_as_text_and_read_back(raw: bytes) -> None:
    name = os.fsdecode(raw)
    text = escaped(name)
    assert is_text(text)
    assert unescaped(text) == name
    if is_text(name) and "\\" not in name:
        assert text == name


def test_names_that_are_no_text_go_through_everything(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    root = write_set(tmp_path / "set", 3)
    odd = os.fsdecode(b"caf\xe9")
    (root / "birch" / "0.png").rename(root / "birch" / f"{odd}.png")
    (root / "alder" / odd).mkdir()
    (root / "alder" / "0.png").rename(root / "alder" / odd / "deep.png")
    (root / "hazel" / f"{odd}-broken.png").write_bytes(b"no picture")
    network = classifier()
    saved(network, tmp_path / "m.onnx")
    (tmp_path / "r.toml").write_text(recipe_to_toml(recipe_for(network)))
    usual = ["--model", tmp_path / "m.onnx", "--classes", write_classes(tmp_path / "c.txt"), "--images", root]
    usual += ["--recipe", tmp_path / "r.toml"]
    words = [str(one) for one in usual]
    for _ in range(2):
        assert (
            run_command(["evaluate", *words, "--out", str(tmp_path / "out"), "--study", str(tmp_path / "s.mivrat")])
            == 0
        )
    lines = (tmp_path / "out" / "predictions.csv").read_text("utf-8").splitlines()
    assert any(line.startswith("birch/caf\\xe9.png,birch") for line in lines)
    assert "caf\\xe9-broken" in (tmp_path / "out" / "not_evaluated.csv").read_text("utf-8")
    assert run_command(["check", *words, "--out", str(tmp_path / "check.json")]) in (0, 1)
    json.loads((tmp_path / "check.json").read_text("utf-8"))
    hide = ["--hottest", "0.1", "--hide", "patch", "--out", str(tmp_path / "cover")]
    assert run_command(["cover", *words, *hide]) == 0
    assert "caf\\xe9" in (tmp_path / "cover" / "cover.csv").read_text("utf-8")
    picture = str(root / "birch" / f"{odd}.png")
    assert run_command(["heatmap", *words[:4], *words[6:], "--image", picture, "--out", str(tmp_path / "maps")]) == 0
    images = read_image_set(root, CLASSES)
    with Study.open(tmp_path / "s.mivrat") as study:
        assert load_image_set(study, 1).items == images.items
    table = PredictionTable(tmp_path / "out" / "predictions.csv", CLASSES)
    assert (table.looked_up(images)[0] >= 0).sum() == len(images.items) - 1
    capsys.readouterr()


def test_half_a_character_in_a_class_list_is_refused(tmp_path: Path) -> None:
    (tmp_path / "c.json").write_text('["birch", "al\\ud800der"]')
    with pytest.raises(InputError, match="class 2 of the list holds half a character"):
        read_class_list(tmp_path / "c.json")


def test_a_folder_that_may_not_be_read_is_counted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root = write_set(tmp_path / "set", 2)
    (root / "odd.jpg").mkdir()
    scandir = os.scandir

    def closed(path: str) -> object:
        if os.fspath(path).endswith(("birch", "odd.jpg")):
            raise PermissionError(13, "Permission denied", path)
        return scandir(path)

    monkeypatch.setattr(os, "scandir", closed)
    images = read_image_set(root, CLASSES)
    assert sorted(one.path for one in images.items) == [
        "alder/0.png",
        "alder/1.png",
        "birch",
        "hazel/0.png",
        "hazel/1.png",
        "odd.jpg",
    ]
    assert next(one.label for one in images.items if one.path == "birch") == 0
    evaluation = Evaluation(loaded(classifier(), tmp_path / "m.onnx", 3), images)
    list(evaluation.run())
    counts = evaluation.judging.judged().counts()
    assert (counts.listed, counts.evaluated, counts.unreadable) == (6, 4, 2)
    (root / "odd.jpg").rename(tmp_path / "odd.jpg")
    monkeypatch.setattr(os, "scandir", closed)
    with pytest.raises(InputError, match="may not be read"):
        list_images(tmp_path / "odd.jpg")


def test_what_could_not_be_read_is_tried_again(tmp_path: Path) -> None:
    root = write_set(tmp_path / "set", 3)
    images, model = read_image_set(root, CLASSES), loaded(classifier(), tmp_path / "m.onnx", 3)
    (root / "birch").rename(tmp_path / "away")
    (root / "alder" / "0.png").write_bytes(b"broken")
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        list(Evaluation(model, images, study).run())
    (tmp_path / "away").rename(root / "birch")
    with Study.open(tmp_path / "s.mivrat") as study:
        second = Evaluation(model, images, study)
        assert second.tried_again == 3
        list(second.run())
        assert (second.answers.state == SCORED).sum() == 8
    Image.fromarray(np.zeros((9, 9, 3), np.uint8)).save(root / "alder" / "0.png")
    with Study.open(tmp_path / "s.mivrat") as study:
        third = Evaluation(model, images, study)
        assert third.tried_again == 1
        list(third.run())
        assert (third.answers.state == SCORED).all()
        assert Evaluation(model, images, study).tried_again == 0


def test_pictures_of_the_models_own_size_are_scored_and_others_failed(tmp_path: Path) -> None:
    root = write_set(tmp_path / "set", 1, side=12)
    for i, size in enumerate([(12, 12), (12, 12), (12, 13), (24, 24)]):
        Image.fromarray(np.random.default_rng(i).integers(0, 256, (*size, 3), dtype=np.uint8)).save(
            root / "birch" / f"x{i}.png"
        )
    saved(classifier(), tmp_path / "m.onnx")
    from mivrat.core.models.onnx_model import OnnxModel

    model = OnnxModel(tmp_path / "m.onnx", Recipe(), 3)
    images = read_image_set(root, CLASSES)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        evaluation = Evaluation(model, images, study)
        list(evaluation.run())
        state = {one.path: evaluation.answers.state[i] for i, one in enumerate(images.items)}
        assert [path for path, s in state.items() if s == FAILED] == ["birch/x2.png", "birch/x3.png"]
        assert set(state.values()) == {SCORED, FAILED}
        assert (
            "13 × 12 px once prepared; the model takes 12 × 12"
            in evaluation.answers.reasons.values().__iter__().__next__()
        )
        again = load_run(study, 1).answers
        assert (again.state == evaluation.answers.state).all()
        assert again.reasons == evaluation.answers.reasons


def test_scores_are_read_by_all_rows_seen_not_by_the_first(tmp_path: Path) -> None:
    """A network whose first answers look like probabilities; and one whose answers fit neither reading."""
    net = Net(seed=1)
    mean = net.add("ReduceMean", "image", axes=[2, 3], keepdims=0)
    grey = net.add("MatMul", mean, net.weight(values=np.full((3, 1), 4 / 3, np.float32)))
    # Black gives (1, 0, 0); white (1 + 4, 4, -4).
    first = net.add("Add", grey, net.weight(values=np.ones(1, np.float32)))
    net.add("Concat", first, grey, net.add("Neg", grey), axis=1, name="scores")
    model = loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "m.onnx", 3)
    (tmp_path / "set").mkdir()
    for i in range(40):
        shade = 0 if i < 36 else 255
        pixels = np.full((8, 8, 3), shade, np.uint8)
        pixels[0, 0, 0] ^= i % 36  # no two files alike
        Image.fromarray(pixels).save(tmp_path / "set" / f"{i:02}.png")
    evaluation = Evaluation(model, read_image_set(tmp_path / "set", CLASSES))
    kinds = []
    for _ in evaluation.run(batch_size=8):
        kinds.append(evaluation.answers.kind)
    assert kinds[-1] == "logits"
    judged = evaluation.judging.judged()
    assert judged.confidence[0] == pytest.approx(np.e / (np.e + 2), abs=0.01)  # judged anew as what they are
    net = Net(seed=1)
    mean = net.add("ReduceMean", "image", axes=[2, 3], keepdims=0)
    net.add("Sigmoid", net.add("MatMul", mean, net.weight(3, 3)), name="scores")
    odd = loaded(net.model(["n", 3, 8, 8], {"scores": ["n", 3]}), tmp_path / "odd.onnx", 3)
    with pytest.raises(InputError, match=r"sums to 1 only within.*scores"):
        list(Evaluation(odd, read_image_set(tmp_path / "set", CLASSES)).run())
