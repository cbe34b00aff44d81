"""Distorted photos scored: each as if it were alone, whatever else is in its batch, and what cannot be read or given is told."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from mivrat.core.models.scores import to_probabilities
from mivrat.core.pictures.decode import read_file
from mivrat.core.pictures.distorting.kinds import Distortion, sweep_from_text
from mivrat.core.pictures.prepare import prepare_file
from mivrat.core.pictures.recipe import Crop, Picture, Recipe, Resize
from mivrat.core.straining.strained import decoded_photo, distorted, received, strain_images
from tests.support.networks import classifier, loaded
from tests.support.sets import write_set


@pytest.mark.parametrize("mode", ["RGB", "BGR", "L"])
def test_an_untouched_photo_is_what_the_network_receives_anyway(mode: str, tmp_path: Path) -> None:
    recipe = Recipe(picture=Picture(mode=mode), resize=Resize(rule="shorter-side", size=12), crop=Crop(size=(10, 11)))  # type: ignore[arg-type]
    for path in sorted(write_set(tmp_path / "set", 2).rglob("*.png")):
        file = read_file(path)
        photo = distorted(decoded_photo(file, recipe), Distortion("blur", 0), recipe, file.stamp.content, 0)
        assert (received(photo, recipe) == prepare_file(path, recipe)).all()


def test_lengths_are_in_pixels_of_the_prepared_image(tmp_path: Path) -> None:
    """A photo four times as large as what the recipe makes of it is blurred four times as far."""
    photo = np.zeros((48, 48, 3), np.uint8)
    photo[20:28, 20:28] = 255
    recipe = Recipe(resize=Resize(rule="stretch", size=12))
    one = Distortion("blur", 1)
    assert (distorted(photo, one, recipe, b"", 0) == one.apply(photo, 4, b"", 0)).all()


def test_each_is_scored_as_if_it_were_alone(tmp_path: Path) -> None:
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    root = write_set(tmp_path / "set", 4)
    (root / "broken.png").write_text("no picture")
    files = dict(enumerate(sorted(root.rglob("*.png"))))
    kinds = [
        one for text in ("blur:0.5,2", "noise:0.1,0.4", "brightness:-2", "jpeg:5") for one in sweep_from_text(text)
    ]
    # Each image has some of them, so that batches hold parts of images.
    strains = {i: kinds[i % 3 :] for i in files}
    found = list(strain_images(files, strains, model, "logits", seed=3, threads=2))
    assert [one.image for one in found] == list(files)
    for one in found:
        assert len(one.predicted) == len(strains[one.image])
        if files[one.image].name == "broken.png":
            assert "cannot be decoded" in one.problem
            assert (one.predicted == -1).all()
            assert np.isnan(one.confidence).all()
            continue
        file = read_file(files[one.image])
        assert one.content == file.stamp.content
        for strain, predicted, confidence in zip(strains[one.image], one.predicted, one.confidence, strict=True):
            photo = distorted(decoded_photo(file, model.recipe), strain, model.recipe, file.stamp.content, 3)
            p = to_probabilities(model.scores(received(photo, model.recipe)[None]), "logits")[0]
            assert predicted == p.argmax()
            assert confidence == pytest.approx(p.max(), abs=1e-5)
    assert len({one.predicted.tobytes() for one in found}) > 1


def test_what_the_model_cannot_be_given_or_answers_without_numbers_has_no_answer(tmp_path: Path) -> None:
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    files = {7: next(write_set(tmp_path / "set", 1).rglob("*.png"))}
    kinds = sweep_from_text("blur:1,2")

    class Odd:
        """Takes only what is not very blurred, and has no number for the rest."""

        path, recipe, columns, calls = model.path, model.recipe, 3, 0

        def misfit(self, shape: tuple[int, ...]) -> str:
            Odd.calls += 1
            return "" if Odd.calls == 1 else "no"

        def scores(self, batch: np.ndarray) -> np.ndarray:
            return np.full((len(batch), 3), np.nan, np.float32)

    (one,) = strain_images(files, {7: kinds}, Odd(), "logits")
    assert Odd.calls == 2
    assert (one.predicted == -1).all()
    assert not one.problem
