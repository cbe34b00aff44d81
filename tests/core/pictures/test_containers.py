"""Pictures in archives and tables: the same answers as from a folder, and whatever can be wrong in one is told, picture by picture."""

from __future__ import annotations

import io
import json
import random
import tarfile
import threading
import zipfile
from contextlib import nullcontext
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import mivrat
from mivrat.core.base.errors import InputError
from mivrat.core.pictures import containers
from mivrat.core.pictures.containers import is_there, opened, picture_stat, read_inside, root_is_there
from mivrat.core.pictures.decode import UnreadablePicture, read_file
from mivrat.core.pictures.image_sets import list_images, match_labels, read_image_set
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def photo(seed: int, side: int = 24) -> bytes:
    out = io.BytesIO()
    pixels = np.random.default_rng(seed).integers(0, 255, (side, side, 3), np.uint8)
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


def make_tar(path: Path, members: dict[str, bytes], **options: object) -> Path:
    with tarfile.open(path, "w", **options) as archive:  # type: ignore[arg-type]
        for name, data in members.items():
            about = tarfile.TarInfo(name)
            about.size = len(data)
            archive.addfile(about, io.BytesIO(data))
    return path


def make_zip(path: Path, members: dict[str, bytes], how: int = zipfile.ZIP_DEFLATED) -> Path:
    with zipfile.ZipFile(path, "w", how) as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return path


def make_table(
    path: Path, members: dict[str, bytes], labels: list[object] | None = None, *, within: bool = True
) -> Path:
    names, data = list(members), list(members.values())
    columns: dict[str, object] = (
        {"image": [{"bytes": d, "path": n} for n, d in zip(names, data, strict=True)]}
        if within
        else {"path": names, "image": data}
    )
    table = pl.DataFrame(columns | ({"label": labels} if labels is not None else {}))
    (table.write_parquet if path.suffix == ".parquet" else table.write_ipc)(path)
    return path


def packed_from(folder: Path, out: Path, kind: str) -> Path:
    """The pictures below a folder, in one file of some kind."""
    files = {one.relative_to(folder).as_posix(): one.read_bytes() for one in sorted(folder.rglob("*.png"))}
    if kind == "tar":
        return make_tar(out / "s.tar", files)
    if kind == "zip":
        return make_zip(out / "s.zip", files)
    if kind == "stored zip":
        return make_zip(out / "s.zip", files, zipfile.ZIP_STORED)
    labels: list[object] = [name.split("/")[0] for name in files]
    if kind == "arrow":
        return make_table(out / "s.arrow", files, labels, within=False)
    return make_table(out / "s.parquet", files, labels)


KINDS = ("tar", "zip", "stored zip", "parquet", "arrow")


@pytest.mark.parametrize("kind", KINDS)
def test_a_run_from_inside_is_that_from_a_folder(tmp_path: Path, kind: str) -> None:
    folder = write_set(tmp_path / "set", 6, seed=1)
    model = loaded(classifier(seed=1), tmp_path / "m.onnx", 3)
    source = packed_from(tmp_path / "set", tmp_path, kind)
    plain = mivrat.evaluate(model.path, folder if isinstance(folder, Path) else tmp_path / "set", CLASSES, model.recipe)
    inside = mivrat.evaluate(model.path, source, CLASSES, model.recipe, study=tmp_path / "s.mivrat")
    key = ["path", "label", "predicted", "confidence"]
    assert inside.predictions.select(key).sort("path").equals(plain.predictions.select(key).sort("path"))
    assert set(plain.record.answers.contents.values()) == set(inside.record.answers.contents.values())
    # Kept by content: nothing is scored twice, wherever the picture lies; and nothing was unpacked.
    steps: list[int] = []
    again = mivrat.evaluate(
        model.path, source, CLASSES, model.recipe, study=tmp_path / "s.mivrat", progress=lambda s: steps.append(s.done)
    )
    assert steps[0] == plain.n
    assert again.predictions.equals(inside.predictions)
    assert sorted(one.name for one in tmp_path.iterdir() if one.is_dir()) == ["set"]
    study = mivrat.open_study(tmp_path / "s.mivrat")
    assert study.run().predictions.equals(inside.predictions)
    assert root_is_there(source)
    assert is_there(source / inside.predictions["path"][0])
    assert not is_there(source / "none.png")
    # An archive that is gone is no fault of the pictures.
    source.unlink()
    with pytest.raises(mivrat.InputError, match=r"gone|does not exist"):
        mivrat.evaluate(model.path, source, CLASSES, model.recipe)


def test_a_folder_of_shards_is_one_set_and_loose_pictures_come_first(tmp_path: Path) -> None:
    (tmp_path / "shards").mkdir()
    make_tar(tmp_path / "shards" / "b.tar", {f"{CLASSES[0]}/{i}.png": photo(i) for i in range(3)})
    make_tar(tmp_path / "shards" / "a.tar", {f"{CLASSES[1]}/{i}.png": photo(9 + i) for i in range(2)})
    make_table(tmp_path / "shards" / "c.parquet", {"x.png": photo(70)}, [CLASSES[2]])
    pl.DataFrame({"path": ["q"], "predicted": ["z"]}).write_parquet(tmp_path / "shards" / "predictions.parquet")
    found = read_image_set(tmp_path / "shards", CLASSES)
    assert [one.path for one in found.items] == [
        f"a.tar/{CLASSES[1]}/0.png",
        f"a.tar/{CLASSES[1]}/1.png",
        *(f"b.tar/{CLASSES[0]}/{i}.png" for i in range(3)),
        "c.parquet/x.png",
    ]
    assert found.labels.tolist() == [1, 1, 0, 0, 0, 2]
    assert read_file(found.file(5)).data == photo(70)
    (tmp_path / "shards" / CLASSES[0]).mkdir()
    (tmp_path / "shards" / CLASSES[0] / "loose.png").write_bytes(photo(5))
    assert [one.path for one in read_image_set(tmp_path / "shards", CLASSES).items] == [f"{CLASSES[0]}/loose.png"]


@pytest.mark.parametrize(
    ("beside", "expected"),
    [
        ({"a.cls": b"1", "b.cls": b"0\n", "c.cls": b"2"}, [1, 0, 2]),
        ({"a.txt": CLASSES[2].encode(), "b.label": b"", "c.cls": b"1"}, [2, -1, 1]),
        (
            {
                "a.json": b'{"label": "%s", "site": "north"}' % CLASSES[1].encode(),
                "b.json": b"2",
                "c.json": b'{"cls": 0}',
            },
            [1, 2, 0],
        ),
        ({}, [-1, -1, -1]),
    ],
)
def test_labels_stand_beside_under_the_same_stem(tmp_path: Path, beside: dict[str, bytes], expected: list[int]) -> None:
    members = {f"{name}.seg.png" if name == "a" else f"{name}.jpg": photo(i) for i, name in enumerate("abc")}
    for make in (make_tar, make_zip):
        source = make(tmp_path / ("s.tar" if make is make_tar else "s.zip"), {**members, **beside})
        found = read_image_set(source, CLASSES)
        assert found.labels.tolist() == expected
        if b"site" in b"".join(beside.values()):
            assert [one.columns["site"] for one in found.items] == ["north", "", ""]


def test_a_number_is_a_class_only_where_no_class_is_called_so(tmp_path: Path) -> None:
    source = make_tar(tmp_path / "s.tar", {"a.png": photo(1), "a.cls": b"0", "b.png": photo(2), "b.cls": b"1"})
    assert read_image_set(source, ["1", "0", "x"]).labels.tolist() == [1, 0]
    assert read_image_set(source, ["x", "y"]).labels.tolist() == [0, 1]
    with pytest.raises(InputError, match="1 label not in the class list: '1'"):
        read_image_set(source, ["x"])


@pytest.mark.parametrize(
    ("bad", "part"),
    [
        ({"a.json": b"{"}, "not valid JSON"),
        ({"a.json": b"[" * 100_000}, "not valid JSON"),
        ({"a.cls": b"\xff\xfe"}, "not text in UTF-8"),
        ({"a.cls": b"x" * 1000}, "too long"),
    ],
)
def test_a_bad_label_file_is_named(tmp_path: Path, bad: dict[str, bytes], part: str) -> None:
    source = make_tar(tmp_path / "s.tar", {"a.png": photo(1), **bad})
    with pytest.raises(InputError, match=part) as caught:
        read_image_set(source, CLASSES)
    assert caught.value.where.endswith(f"s.tar/{next(iter(bad))}")


# --- what can be wrong inside ---


def test_names_lead_nowhere_but_into_the_archive(tmp_path: Path) -> None:
    names = ["../../etc/x.png", "/abs/y.png", "./a//b.png", "a/../../c.png", "..\\w.png"]
    for make in (make_tar, make_zip):
        source = make(tmp_path / ("s.tar" if make is make_tar else "s.zip"), {n: photo(i) for i, n in enumerate(names)})
        found = match_labels(list_images(source), CLASSES).image_set
        paths = [one.path for one in found.items]
        assert sorted(paths) == sorted(
            ["(..)/(..)/etc/x.png", "abs/y.png", "a/b.png", "a/(..)/(..)/c.png", "..\\w.png"]
        )
        for i in range(5):
            assert read_file(found.file(i)).stamp.content
        assert not any(".." in Path(one).parts for one in paths)


def test_links_in_a_tar_are_followed_within_it(tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "s.tar", "w") as archive:
        for name, kind, target in (
            ("a/hard.png", tarfile.LNKTYPE, "a/x.png"),
            ("a/soft.png", tarfile.SYMTYPE, "x.png"),
            ("b/up.png", tarfile.SYMTYPE, "../a/soft.png"),
            ("out.png", tarfile.SYMTYPE, "/etc/hostname"),
            ("round.png", tarfile.SYMTYPE, "about.png"),
            ("about.png", tarfile.SYMTYPE, "round.png"),
            ("device.png", tarfile.CHRTYPE, ""),
            ("folder.png", tarfile.DIRTYPE, ""),
        ):
            about = tarfile.TarInfo(name)
            about.type, about.linkname = kind, target
            archive.addfile(about)
        about = tarfile.TarInfo("a/x.png")
        about.size = len(photo(1))
        archive.addfile(about, io.BytesIO(photo(1)))
    container = opened(tmp_path / "s.tar")
    assert set(container.names()) == {
        "a/x.png",
        "a/hard.png",
        "a/soft.png",
        "b/up.png",
        "out.png",
        "round.png",
        "about.png",
    }
    for name in ("a/hard.png", "a/soft.png", "b/up.png"):
        assert container.read(name) == photo(1)
    for name in ("out.png", "round.png", "about.png"):
        with pytest.raises(UnreadablePicture, match="leads nowhere in the archive"):
            read_file(tmp_path / "s.tar" / name)


def test_of_one_name_twice_the_last_counts(tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "s.tar", "w") as archive, zipfile.ZipFile(tmp_path / "s.zip", "w") as zipped:
        for seed in (1, 2):
            about = tarfile.TarInfo("x.png")
            about.size = len(photo(seed))
            archive.addfile(about, io.BytesIO(photo(seed)))
            with pytest.warns(UserWarning, match="Duplicate name") if seed == 2 else nullcontext():
                zipped.writestr("x.png", photo(seed))
    for name in ("s.tar", "s.zip"):
        assert [one.path for one in read_image_set(tmp_path / name, CLASSES).items] == ["x.png"]
        assert read_file(tmp_path / name / "x.png").data == photo(2)


@given(cut=st.integers(0, 12_000))
@settings(max_examples=60)
def test_a_tar_that_is_cut_off_gives_what_is_whole_and_says_what_is_not(
    tmp_path_factory: pytest.TempPathFactory, cut: int
) -> None:
    folder = tmp_path_factory.mktemp("cut")
    whole = make_tar(folder / "w.tar", {f"{i}.png": photo(i) for i in range(4)}).read_bytes()
    source = folder / "s.tar"
    source.write_bytes(whole[: min(cut, len(whole))])
    told: list[str] = []
    try:
        found = read_image_set(source, CLASSES)
    except InputError as error:
        told.append(error.what)
    else:
        for i, item in enumerate(found.items):
            try:
                assert read_file(found.file(i)).data == photo(int(item.path[0]))
            except UnreadablePicture as error:
                told.append(str(error))
    for one in told:
        assert any(part in one for part in ("plain tar archive", "holds no images", "cut off", "ends before"))


@given(seed=st.integers(0, 10_000))
@settings(max_examples=120)
def test_a_zip_with_some_bytes_changed_never_gives_another_picture(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    folder, rng = tmp_path_factory.mktemp("zip"), random.Random(seed)
    how = zipfile.ZIP_STORED if seed % 2 else zipfile.ZIP_DEFLATED
    data = bytearray(make_zip(folder / "w.zip", {f"{i}.png": photo(i) for i in range(3)}, how).read_bytes())
    for _ in range(rng.randint(1, 6)):
        data[rng.randrange(len(data))] = rng.randrange(256)
    (folder / "s.zip").write_bytes(data)
    good = {photo(i) for i in range(3)}
    try:
        names = opened(folder / "s.zip").names()
    except InputError:
        return
    for name in names:
        try:
            found = read_file(folder / "s.zip" / name).data
        except UnreadablePicture:
            continue
        assert found in good


def test_bombs_secrets_and_other_packings_are_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(containers, "MOST_BYTES", 100_000)
    make_zip(tmp_path / "bomb.zip", {"x.png": b"\0" * 1_000_000})
    with pytest.raises(UnreadablePicture, match="too large to read"):
        read_file(tmp_path / "bomb.zip" / "x.png")
    raw = make_zip(tmp_path / "lie.zip", {"x.png": b"\0" * 50_000}).read_bytes()
    (tmp_path / "lie.zip").write_bytes(raw.replace((50_000).to_bytes(4, "little"), (90).to_bytes(4, "little")))
    with pytest.raises(UnreadablePicture, match="another size than the archive says"):
        read_file(tmp_path / "lie.zip" / "x.png")
    make_zip(tmp_path / "bz.zip", {"x.png": photo(1)}, zipfile.ZIP_BZIP2)
    with pytest.raises(UnreadablePicture, match="packed in a way that is not read"):
        read_file(tmp_path / "bz.zip" / "x.png")
    raw = bytearray(make_zip(tmp_path / "secret.zip", {"x.png": photo(1)}).read_bytes())
    raw[raw.index(b"PK\1\2") + 8] |= 1
    (tmp_path / "secret.zip").write_bytes(raw)
    with pytest.raises(UnreadablePicture, match="is encrypted"):
        read_file(tmp_path / "secret.zip" / "x.png")
    for name, ending in (("w:gz", "tar.gz"), ("w:xz", "tar.xz")):
        with tarfile.open(tmp_path / f"s.{ending}", name):
            pass
        with pytest.raises(InputError, match="compressed as a whole"):
            read_image_set(tmp_path / f"s.{ending}", CLASSES)
    with tarfile.open(tmp_path / "packed.tar", "w:gz"):
        pass
    for name in ("packed.tar", "no.zip", "no.tar"):
        (tmp_path / "no.zip").write_bytes(b"no archive at all")
        (tmp_path / "no.tar").write_bytes(b"no archive at all" * 100)
        with pytest.raises(InputError, match=r"plain tar archive|whole zip archive"):
            read_image_set(tmp_path / name, CLASSES)
    make_tar(tmp_path / "empty.tar", {"notes.md": b"nothing"})
    with pytest.raises(InputError, match="holds no images"):
        read_image_set(tmp_path / "empty.tar", CLASSES)
    pl.DataFrame({"image": ["a"]}).write_ipc(tmp_path / "no.arrow")
    with pytest.raises(InputError, match="neither a folder"):
        read_image_set(tmp_path / "no.arrow", CLASSES)


def test_a_table_of_pictures_has_names_labels_and_columns(tmp_path: Path) -> None:
    data = [photo(i) for i in range(5)]
    table = pl.DataFrame(
        {
            "path": ["a.png", "a.png", None, "../up.png", "b.png"],
            "photo": [*data[:4], None],
            "thumbnail_hash": [b"x"] * 5,
            "label": [0, 1, None, 2, 0],
            "site": ["n", "s", None, "n", "s"],
        }
    )
    table.write_parquet(tmp_path / "t.parquet")
    found = read_image_set(tmp_path / "t.parquet", CLASSES)
    assert [one.path for one in found.items] == ["a.png", "a.png (row 1)", "row 2", "(..)/up.png", "b.png"]
    assert found.labels.tolist() == [0, 1, -1, 2, 0]
    assert [one.columns["site"] for one in found.items] == ["n", "s", "", "n", "s"]
    assert [read_file(found.file(i)).data for i in range(4)] == data[:4]
    with pytest.raises(UnreadablePicture, match="no picture in this row"):
        read_file(found.file(4))
    (tmp_path / "t.parquet").write_bytes((tmp_path / "t.parquet").read_bytes()[:-9])
    with pytest.raises(UnreadablePicture, match=r"t\.parquet the table cannot be read"):
        read_file(found.file(0))


def test_a_container_is_looked_at_again_when_it_has_changed_and_by_many_at_once(tmp_path: Path) -> None:
    source = make_table(tmp_path / "t.parquet", {f"{i}.png": photo(i) for i in range(60)})
    wrong: list[int] = []

    def look(first: int) -> None:
        for i in [(first + 7 * k) % 60 for k in range(60)]:
            if read_file(source / f"{i}.png").data != photo(i):
                wrong.append(i)

    threads = [threading.Thread(target=look, args=(k,)) for k in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert wrong == []
    before = picture_stat(source / "1.png")
    assert before[0] == len(photo(1))
    make_table(source, {"1.png": photo(99, 40)})
    assert read_file(source / "1.png").data == photo(99, 40)
    assert picture_stat(source / "1.png") != before
    with pytest.raises(FileNotFoundError):
        picture_stat(source / "2.png")
    assert read_inside(tmp_path / "nowhere" / "x.png") is None
    assert json.dumps([one.path for one in read_image_set(source, CLASSES).items]) == '["1.png"]'
