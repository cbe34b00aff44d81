"""Decoding, class lists, image sets and recipes, with the odd files that people have."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.classes import ClassMatcher, fold, read_class_list
from mivrat.core.pictures.decode import UnreadablePicture, read_picture
from mivrat.core.pictures.image_sets import read_image_set
from mivrat.core.pictures.recipe import Recipe, Resize, guess_recipe, parse_recipe, recipe_to_toml

RNG = np.random.default_rng(0)
PIXELS = RNG.integers(0, 256, (9, 13, 3), dtype=np.uint8)


def test_lossless_formats_give_their_pixels(tmp_path: Path) -> None:
    for name in ("a.PNG", "b.bmp", "c.TIFF", "d.webp"):
        Image.fromarray(PIXELS).save(tmp_path / name, **({"lossless": True} if name.endswith("webp") else {}))
        assert (read_picture(tmp_path / name) == PIXELS).all(), name
    assert (read_picture(tmp_path / "a.PNG", "BGR") == PIXELS[..., ::-1]).all()


def test_modes_other_than_rgb(tmp_path: Path) -> None:
    grey = PIXELS[..., 0]
    Image.fromarray(grey).save(tmp_path / "grey.png")
    assert (read_picture(tmp_path / "grey.png") == grey[..., None]).all()
    assert read_picture(tmp_path / "grey.png", "L").shape == (9, 13, 1)
    Image.fromarray(grey.astype(np.uint16) * 257).save(tmp_path / "deep.png")
    assert (read_picture(tmp_path / "deep.png") == grey[..., None]).all()
    Image.fromarray(grey.astype(np.float32) / 255).save(tmp_path / "float.tiff")
    assert (read_picture(tmp_path / "float.tiff") == grey[..., None]).all()
    with_alpha = np.dstack([PIXELS, np.zeros((9, 13), np.uint8)])
    Image.fromarray(with_alpha, "RGBA").save(tmp_path / "alpha.png")
    assert (read_picture(tmp_path / "alpha.png") == PIXELS).all()
    palette = Image.fromarray(PIXELS).quantize(8)
    palette.save(tmp_path / "palette.png", transparency=0)
    assert (read_picture(tmp_path / "palette.png") == np.asarray(palette.convert("RGB"))).all()
    frames = [palette, Image.fromarray(PIXELS[::-1].copy()).quantize(8)]
    frames[0].save(tmp_path / "two.gif", save_all=True, append_images=frames[1:])
    assert (read_picture(tmp_path / "two.gif") == np.asarray(palette.convert("RGB"))).all()


def test_exif_rotation_is_followed_unless_told_not_to(tmp_path: Path) -> None:
    exif = Image.Exif()
    exif[0x0112] = 6  # the camera was turned: shown upright after a quarter turn clockwise
    Image.fromarray(PIXELS).save(tmp_path / "turned.png", exif=exif)
    assert (read_picture(tmp_path / "turned.png") == np.rot90(PIXELS, -1)).all()
    assert read_picture(tmp_path / "turned.png", exif_rotate=False).shape == (9, 13, 3)


def test_broken_files_give_their_reason(tmp_path: Path) -> None:
    (tmp_path / "empty.jpg").touch()
    (tmp_path / "text.jpg").write_text("no picture")
    Image.fromarray(PIXELS).save(tmp_path / "whole.jpg")
    (tmp_path / "cut.jpg").write_bytes((tmp_path / "whole.jpg").read_bytes()[:-200])
    (tmp_path / "dangling.jpg").symlink_to(tmp_path / "nowhere.jpg")
    for name, reason in (
        ("empty", "empty"),
        ("text", "cannot be decoded"),
        ("cut", "cannot be decoded"),
        ("dangling", "gone"),
    ):
        with pytest.raises(UnreadablePicture, match=reason):
            read_picture(tmp_path / f"{name}.jpg")


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("c.txt", "birch\nred  alder\r\n,=odd\n\n"),
        ("c.json", '["birch", "red  alder", ",=odd"]'),
        ("d.json", '{"1": "red  alder", "0": "birch", "2": ",=odd"}'),
    ],
)
def test_class_lists(tmp_path: Path, name: str, text: str) -> None:
    (tmp_path / name).write_text(text)
    assert read_class_list(tmp_path / name) == ["birch", "red  alder", ",=odd"]


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("", "empty"),
        ("a\n\nb", "line 2"),
        ("a\nb\na", "more than once"),
        ('{"0": "a", "2": "b"}', "gap"),
        ("[1, 2]", "neither"),
    ],
)
def test_bad_class_lists(tmp_path: Path, text: str, what: str) -> None:
    path = tmp_path / ("c.json" if text[:1] in "[{" and text else "c.txt")
    path.write_text(text)
    with pytest.raises(InputError, match=what):
        read_class_list(path)


def test_labels_match_exactly_or_folded() -> None:
    matcher = ClassMatcher(["Red Alder", "red_alder ", "Birch", "grey-willow"])
    assert fold("Grey Willow") == fold("grey_willow")
    assert matcher.index("Red Alder") == 0
    assert matcher.index("red_alder ") == 1
    assert matcher.index("redalder") is None  # two classes fold to this
    assert matcher.index("GREY_willow") == 3
    assert matcher.target("2") == 2
    with pytest.raises(InputError, match=r"'oak' is not a class; the classes are .*'Birch'"):
        matcher.target("oak")


def test_a_folder_per_class_at_any_depth(tmp_path: Path) -> None:
    for name in ("Birch/a.JPG", "red alder/slide 3/ü b.png", "july/RED_ALDER/c.tif", "loose.gif"):
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        Image.fromarray(PIXELS).save(path)
    (tmp_path / "Birch" / "notes.txt").write_text("not an image")
    (tmp_path / "Birch" / "x.jpg").mkdir()
    os.symlink(tmp_path, tmp_path / "Birch" / "round")
    found = read_image_set(tmp_path, ["red_alder", "birch"])
    assert {item.path: item.label for item in found.items} == {
        "Birch/a.JPG": 1,
        "Birch/x.jpg": 1,
        "july/RED_ALDER/c.tif": 0,
        "loose.gif": None,
        "red alder/slide 3/ü b.png": 0,
    }
    with pytest.raises(InputError, match=r"(?s)'july'|'red alder'.*'elm'"):
        read_image_set(tmp_path, ["elm", "birch"])


def test_tables_keep_their_columns(tmp_path: Path) -> None:
    rows = pl.DataFrame({"path": ["a.jpg", "b.jpg"], "label": ["Birch", None], "site": ["1", "2"]})
    rows.write_csv(tmp_path / "t.csv")
    rows.write_csv(tmp_path / "t.tsv", separator="\t")
    rows.write_parquet(tmp_path / "t.parquet")
    rows.write_ndjson(tmp_path / "t.jsonl")
    for name in ("t.csv", "t.tsv", "t.parquet", "t.jsonl"):
        found = read_image_set(tmp_path / name, ["alder", "birch"])
        assert [item.label for item in found.items] == [1, None], name
        assert [item.columns for item in found.items] == [{"site": "1"}, {"site": "2"}], name
        assert found.file(0) == tmp_path / "a.jpg"
    (tmp_path / "bad.csv").write_text("file,label\na,b\n")
    with pytest.raises(InputError, match="no 'path' column"):
        read_image_set(tmp_path / "bad.csv", ["b"])


def test_recipes_survive_writing_and_reading() -> None:
    full = Recipe.model_validate(
        {
            "picture": {"mode": "BGR", "exif_rotate": False},
            "resize": {
                "rule": "fit-pad",
                "size": [40, 50],
                "filter": "lanczos",
                "antialias": False,
                "pad_value": [1, 2, 3],
            },
            "crop": {"size": [32, 31]},
            "values": {"scale": 1.0, "mean": [103.9, 116.8, 123.7], "std": [1, 1, 1]},
            "tensor": {"order": "NHWC", "input": 'odd "name"\\'},
            "scores": {"kind": "sigmoid"},
        }
    )
    for recipe in (full, Recipe()):
        assert parse_recipe(recipe_to_toml(recipe)) == recipe
    assert full.output_size() == (32, 31)


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("format = 1", "format"),
        ('format = "mivrat-recipe/1"\n[values]\nmean = [1, 2]', "values.mean has 2 numbers"),
        ('format = "mivrat-recipe/1"\n[resize]\nrule = "squash"', "resize.rule"),
        ('format = "mivrat-recipe/1"\n[resize]\nrule = "stretch"', "needs a size"),
        ('format = "mivrat-recipe/1"\n[crop]\nsise = [1, 2]', "crop"),
        ("format = ", "not valid TOML"),
    ],
)
def test_bad_recipes_name_the_entry(text: str, what: str) -> None:
    with pytest.raises(InputError, match=what):
        parse_recipe(text)


def test_guessed_recipes() -> None:
    nhwc = guess_recipe((None, 20, 30, 3), "uint8")
    assert (nhwc.tensor.order, nhwc.values.scale, nhwc.output_size()) == ("NHWC", 1.0, (20, 30))
    assert nhwc.resize == Resize(rule="shorter-side", size=30)
    grey = guess_recipe((None, 1, None, None), "float32")
    assert (grey.picture.mode, grey.output_size(), grey.tensor.order) == ("L", (224, 224), "NCHW")
