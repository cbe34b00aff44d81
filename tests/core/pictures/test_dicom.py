"""DICOM files: the values of the standard, frames as images, and nobody's name anywhere; on the files that the library ships."""

from __future__ import annotations

import io
import logging
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import mivrat
from mivrat.core.base.errors import InputError
from mivrat.core.pictures import dicom
from mivrat.core.pictures.decode import (
    UnreadablePicture,
    copy_ending,
    mode_and_frames,
    picture_size,
    plain_copy,
    read_file,
    read_picture,
    to_copy,
)
from mivrat.core.pictures.image_sets import list_images, read_image_set
from mivrat.core.pictures.recipe import Picture, Recipe, canonical
from tests.support.networks import classifier, loaded

pydicom = pytest.importorskip("pydicom")
from pydicom.pixels import apply_modality_lut, apply_voi_lut, pixel_array  # noqa: E402

SHIPPED = sorted((Path(pydicom.__file__).parent / "data" / "test_files").glob("*.dcm"))
BY_NAME = {one.name: one for one in SHIPPED}
pytestmark = pytest.mark.filterwarnings("ignore")


def test_every_file_that_is_shipped_gives_a_picture_or_a_reason_that_names_nobody() -> None:
    read, reasons = 0, list[tuple[str, list[str]]]()
    for path in SHIPPED:
        file = read_file(path)
        secret = [str(pydicom.dcmread(path, force=True).get(key) or "") for key in ("PatientName", "PatientID")]
        try:
            pixels = read_picture(path)
            assert pixels.shape == (*picture_size(file), 3)
            assert mode_and_frames(file)[0] in ("L", "RGB")
            read += 1
        except UnreadablePicture as error:
            reasons.append((str(error), secret))
        columns, frames = dicom.told_in_list(file.data)
        assert frames >= 1
        assert not any(len(one) > 3 and one in value for one in secret for value in columns.values()), path
    assert read >= 45
    assert not [text for text, secret in reasons if any(len(one) > 3 and one in text for one in secret)]
    assert {text.split(":")[0].split(" (")[0] for text, _ in reasons} <= {
        "cannot be read as DICOM",
        "its picture cannot be decoded",
        "is a DICOM file without a picture",
        "has no pixels",
    }


def grey_of(path: Path) -> tuple[np.ndarray, object]:
    found = pydicom.dcmread(path)
    return apply_modality_lut(pixel_array(found), found).astype(float), found


@pytest.mark.parametrize(
    "name", ["CT_small.dcm", "MR_small.dcm", "MR_small_bigendian.dcm", "MR_small_RLE.dcm", "693_J2KI.dcm"]
)
def test_windows_are_those_of_the_standard(name: str) -> None:
    values, found = grey_of(BY_NAME[name])
    pixels = read_picture(BY_NAME[name], "L")[..., 0].astype(float)
    if "WindowWidth" not in found:
        expected = (values - values.min()) / (values.max() - values.min()) * 255
    else:
        centre, width = (float(np.ravel(found[key].value)[0]) for key in ("WindowCenter", "WindowWidth"))
        expected = np.empty_like(values)
        for at, x in np.ndenumerate(values):  # PS3.3 C.11.2.1.2.1, as it is written there
            if x <= centre - 0.5 - (width - 1) / 2:
                expected[at] = 0
            elif x > centre - 0.5 + (width - 1) / 2:
                expected[at] = 255
            else:
                expected[at] = ((x - (centre - 0.5)) / (width - 1) + 0.5) * 255
    if found.PhotometricInterpretation == "MONOCHROME1":
        expected = 255 - expected
    assert np.abs(pixels - expected).max() <= 0.5 + 1e-9


def test_a_window_of_width_one_is_a_step() -> None:
    values = np.array([9.0, 9.4, 9.6, 11.0])  # PS3.3 C.11.2.1.2.1: up to centre - 0.5 dark, above it light
    assert dicom.through_window(values, 10.0, 1.0, "LINEAR").tolist() == [0, 0, 255, 255]


@pytest.mark.parametrize("kind", ["LINEAR", "LINEAR_EXACT", "SIGMOID"])
def test_windows_are_those_of_the_library(kind: str) -> None:
    found = pydicom.dcmread(BY_NAME["MR_small.dcm"])
    found.WindowCenter, found.WindowWidth, found.VOILUTFunction = 600, 1600, kind
    if "RescaleSlope" in found:
        del found.RescaleSlope, found.RescaleIntercept
    found.PixelRepresentation, found.BitsStored = 0, 16
    values = found.pixel_array.astype(float)
    theirs = apply_voi_lut(found.pixel_array, found) / 65535 * 255
    ours = dicom.through_window(values, 600, 1600, kind)
    assert np.abs(ours - theirs).max() < 0.02


def test_the_recipes_window_counts_and_belongs_to_what_a_model_is(tmp_path: Path) -> None:
    values, _ = grey_of(BY_NAME["CT_small.dcm"])
    pixels = read_picture(BY_NAME["CT_small.dcm"], "L", window=(40.0, 400.0))[..., 0]
    expected = np.clip((values - 40) / 400 + 0.5, 0, 1) * 255
    assert np.abs(pixels - expected).max() <= 0.5 + 1e-9
    plain, windowed = Recipe(), Recipe(picture=Picture(window=(40.0, 400.0)))
    assert canonical(plain) != canonical(windowed)
    assert "window" not in canonical(plain)
    from mivrat.core.pictures.recipe import parse_recipe, recipe_to_toml

    assert parse_recipe(recipe_to_toml(windowed)) == windowed
    with pytest.raises(InputError, match="window"):
        parse_recipe('format = "mivrat-recipe/1"\n[picture]\nwindow = [40.0, 0.0]')


def test_light_and_dark_change_places_where_the_file_says_so(tmp_path: Path) -> None:
    found = pydicom.dcmread(BY_NAME["MR_small.dcm"])
    found.PhotometricInterpretation = "MONOCHROME1"
    found.save_as(tmp_path / "inverse.dcm")
    straight, inverse = read_picture(BY_NAME["MR_small.dcm"], "L"), read_picture(tmp_path / "inverse.dcm", "L")
    assert np.abs(255 - straight.astype(int) - inverse).max() <= 1


def test_frames_are_images_of_their_own_wherever_the_file_lies(tmp_path: Path) -> None:
    source = BY_NAME["SC_rgb_rle_2frame.dcm"]
    (tmp_path / "set").mkdir()
    (tmp_path / "set" / "two").write_bytes(source.read_bytes())  # no ending, as on a scanner's disc
    (tmp_path / "set" / "one.dcm").write_bytes(BY_NAME["MR_small.dcm"].read_bytes())
    (tmp_path / "set" / "README").write_text("nothing")
    listed = list_images(tmp_path / "set")
    assert listed.paths == ["one.dcm", "two/frame 1", "two/frame 2"]
    both = pydicom.dcmread(source).pixel_array
    files = [read_file(tmp_path / "set" / one) for one in listed.paths]
    assert len({one.stamp.content for one in files}) == 3
    assert files[1].stamp.content == read_file(source).stamp.content
    for i in (0, 1):
        assert (read_picture(tmp_path / "set" / f"two/frame {i + 1}") == both[i]).all()
    with pytest.raises(UnreadablePicture, match="has no frame 3"):
        read_picture(tmp_path / "set" / "two" / "frame 3")
    import zipfile

    with zipfile.ZipFile(tmp_path / "s.zip", "w") as archive:
        archive.write(source, "a/two.dcm")
        archive.write(BY_NAME["MR_small.dcm"], "a/one.dcm")
    within = list_images(tmp_path / "s.zip")
    assert within.paths == ["a/one.dcm", "a/two.dcm/frame 1", "a/two.dcm/frame 2"]
    assert (read_picture(tmp_path / "s.zip" / within.paths[2]) == both[1]).all()
    assert within.columns["modality"][0] == "MR"


def test_columns_group_and_name_nobody(tmp_path: Path, own_folders: Path, caplog: pytest.LogCaptureFixture) -> None:
    caplog.set_level(logging.DEBUG)
    folder = tmp_path / "clinic"
    folder.mkdir()
    for i, (patient, uid) in enumerate((("WARD-007", "1.2.3"), ("WARD-007", "1.2.4"), ("WARD-008", "1.2.5"))):
        found = pydicom.dcmread(BY_NAME["CT_small.dcm"])
        found.PatientName, found.PatientID, found.StudyInstanceUID = f"Nobody^At All {patient}", patient, uid
        found.PatientSex = "O"
        found.save_as(folder / f"{i}.dcm")
    (folder / "broken.dcm").write_bytes((folder / "0.dcm").read_bytes()[:3000])
    images = read_image_set(folder, ["a", "b"])
    columns = {name: [one.columns[name] for one in images.items] for name in images.items[0].columns}
    patients = columns["patient"]
    assert patients[0] == patients[1] != patients[2]
    assert len(set(columns["study"][:3])) == 3
    assert columns["modality"][:3] == ["CT"] * 3
    assert all(len(one) == 12 for one in patients[:3])
    assert "PatientSex" not in columns
    model = loaded(classifier(seed=1), tmp_path / "m.onnx", 3)
    run = mivrat.evaluate(
        model.path, folder, ["a", "b", "c"], model.recipe, together="patient", study=tmp_path / "s.mivrat"
    )
    run.save(tmp_path / "results")
    assert run.counts.unreadable == 1
    written = b"".join(one.read_bytes() for one in tmp_path.rglob("*") if one.is_file() and one.suffix != ".dcm")
    for secret in (b"WARD-00", b"Nobody", b"1.2.3\0"):
        assert secret not in written
    assert "WARD-00" not in caplog.text
    assert "Nobody" not in caplog.text
    # By name of the field, and only then.
    told = dicom.columns_of((folder / "0.dcm").read_bytes(), dicom.checked_fields(["PatientSex"]))
    assert told["PatientSex"] == "O"
    with pytest.raises(InputError, match="no element 'PatientShoe'"):
        dicom.checked_fields(["PatientShoe"])
    # Another user's pseudonyms are others.
    before = dicom.pseudonym("WARD-007")
    assert before == dicom.pseudonym("WARD-007 ")
    assert dicom._key_file().stat().st_mode & 0o777 == 0o600  # nobody else's to read
    dicom._key.cache_clear()
    dicom._key_file().unlink()
    assert dicom.pseudonym("WARD-007") != before


def test_a_copy_is_the_picture_alone(tmp_path: Path) -> None:
    path = BY_NAME["CT_small.dcm"]
    copied = to_copy(path)
    assert copied is not None
    data, name = copied
    assert name == "CT_small.dcm.png"
    assert copy_ending("x/CT_small.dcm") == ".png"
    assert isinstance(data, bytes)
    assert (np.asarray(Image.open(io.BytesIO(data))) == read_picture(path, "L")[..., 0]).all()
    assert plain_copy(read_file(path)) == data
    Image.fromarray(np.zeros((4, 4), np.uint8)).save(
        tmp_path / "pages.tif", save_all=True, append_images=[Image.fromarray(np.full((4, 4), 200, np.uint8))]
    )
    assert read_picture(tmp_path / "pages.tif" / "page 2").mean() == 200
    assert read_picture(tmp_path / "pages.tif").mean() == 0
    with pytest.raises(UnreadablePicture, match="has no page 3"):
        read_picture(tmp_path / "pages.tif" / "page 3")
    assert to_copy(tmp_path / "pages.tif" / "page 3") is None
    page = to_copy(tmp_path / "pages.tif" / "page 2")
    assert page is not None
    assert page[1] == "pages.tif page 2.png"
    assert to_copy(tmp_path / "pages.tif") == (tmp_path / "pages.tif", "pages.tif")


def test_without_the_library_it_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    def gone(name: str) -> object:
        raise ImportError(name)

    monkeypatch.setattr(dicom, "import_module", gone)
    with pytest.raises(UnreadablePicture, match=r"install mivrat\[dicom\]"):
        read_picture(BY_NAME["CT_small.dcm"])
    assert dicom.told_in_list(BY_NAME["CT_small.dcm"].read_bytes()) == ({}, 1)
    with pytest.raises(InputError, match="pydicom"):
        dicom.checked_fields(["PatientSex"])
