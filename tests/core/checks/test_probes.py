"""The two probes: set-ups made wrong on purpose are found, right ones give no alarm."""

from __future__ import annotations

from dataclasses import replace
from itertools import permutations
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.stats import binomtest

from mivrat.core.answers.answers import Answers
from mivrat.core.answers.judging import judge
from mivrat.core.checks.answer_checks import check_skill
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.order_probe import best_renaming, check_class_order, usual_orders
from mivrat.core.checks.picture_shift import properties_of, shifts
from mivrat.core.checks.recipe_probe import PictureFacts, _trained_on, alternatives, holm, pick_images, probe_recipe
from mivrat.core.checks.result import CheckResult
from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageSet, read_image_set
from mivrat.core.pictures.recipe import Crop, Picture, Recipe, Resize, Values, parse_recipe
from mivrat.core.pictures.subsets import draw_per_class
from mivrat.core.pictures.value_ranges import VALUE_RANGES
from mivrat.demo.study import DATA, DemoInputs, demo_inputs
from tests.core.checks.test_checks import made_set
from tests.support.fitted import STRIPED, fitted, write_striped

RIGHT = Recipe(
    resize=Resize(rule="shorter-side", size=56), crop=Crop(size=(48, 48)), values=VALUE_RANGES["values from −1 to 1"]
)


@pytest.fixture(scope="module")
def demo() -> DemoInputs:
    return demo_inputs()


@pytest.fixture(scope="module")
def striped(tmp_path_factory: pytest.TempPathFactory) -> tuple[OnnxModel, ImageSet]:
    """A model fitted under RIGHT, and pictures it has not seen."""
    folder = tmp_path_factory.mktemp("striped")
    held_out = read_image_set(write_striped(folder / "held", 11, 5), list(STRIPED))
    return fitted(folder / "m.onnx", RIGHT, folder / "fit", per_class=30), held_out


def probed(model: OnnxModel, image_set: ImageSet, classes: list[str]) -> CheckResult:
    results = list(probe_recipe(Inputs(classes, image_set, model)))
    assert isinstance(results[-1], CheckResult)
    return results[-1]


def test_the_right_recipe_gives_no_alarm(striped: tuple[OnnxModel, ImageSet], demo: DemoInputs) -> None:
    assert probed(*striped, list(STRIPED)).state == "fine"
    model = OnnxModel(DATA / "grain-net-1.onnx", demo.recipe, len(demo.classes))
    result = probed(model, draw_per_class(demo.sets["spring-check"], 7, 0), demo.classes)
    assert result.state == "fine"
    assert (
        "cannot be distinguished from: channels in the order BGR" in result.sentence
    )  # pollen is as violet as it is red


@pytest.mark.parametrize(
    ("part", "wrong"),
    [
        ("picture", Picture(mode="BGR")),
        ("values", VALUE_RANGES["values from 0 to 1"]),
        ("resize", Resize(rule="stretch", size=48)),
    ],
)
def test_a_wrong_recipe_is_found_and_the_right_one_offered(
    striped: tuple[OnnxModel, ImageSet], part: str, wrong: object
) -> None:
    recipe = RIGHT.model_copy(update={part: wrong, **({"crop": None} if part == "resize" else {})})
    result = probed(OnnxModel(striped[0].path, recipe, 6), striped[1], list(STRIPED))
    assert result.state == "stop"
    offered = parse_recipe(result.offer["recipe"])
    assert offered.picture == RIGHT.picture
    np.testing.assert_allclose(offered.value_ranges(), RIGHT.value_ranges())
    assert offered.resize.rule == "shorter-side"
    now, then = result.figures["trials"][0], max(t["accuracy"] for t in result.figures["trials"])
    assert now["name"] == "as it is"
    assert then > now["accuracy"] + 0.2


def test_alternatives_fit_the_same_model(demo: DemoInputs) -> None:
    for start in (demo.recipe, *(one.recipe for one in alternatives(demo.recipe))):
        others = [one for one in alternatives(start) if not one.grey]
        assert len({one.recipe.model_dump_json() for one in others}) == len(others)
        assert start not in [one.recipe for one in others]
        assert {one.recipe.output_size() for one in others} == {start.output_size()}
    bytes_in = demo.recipe.model_copy(update={"tensor": demo.recipe.tensor.model_copy(update={"dtype": "uint8"})})
    assert {one.recipe.values.scale for one in alternatives(bytes_in)} == {bytes_in.values.scale}


def test_holm_by_hand() -> None:
    # Four values, smallest first: 0.01 x 4, 0.02 x 3, 0.03 x 2, and 0.5; none below the one before.
    assert holm([0.03, 0.01, 0.5, 0.02]) == pytest.approx([0.06, 0.04, 0.5, 0.06])
    assert holm([]) == []


def test_pictures_are_picked_evenly() -> None:
    labels = np.array([0] * 50 + [1] * 5 + [2] * 50 + [-1] * 20)
    picked = pick_images(labels, np.ones(125, bool), 25, 3)
    assert np.bincount(labels[picked]).tolist() == [10, 5, 10]
    assert (picked == pick_images(labels, np.ones(125, bool), 25, 3)).all()


def order_result(classes: list[str], labels: np.ndarray, predicted: np.ndarray, said: list[str]) -> CheckResult:
    rows = np.eye(len(classes), dtype=np.float32)[predicted] * 4
    answers = Answers(len(labels), len(classes), "logits")
    answers.rows[:], answers.state[:] = rows, 1
    image_set = made_set(labels.tolist())
    items = [replace(item, said=said[k]) for item, k in zip(image_set.items, labels, strict=True)]
    judged = judge(answers, labels.tolist())
    return check_class_order(Inputs(classes, replace(image_set, items=items), judged=judged))


@pytest.mark.parametrize("way", ["right", "alphabetical", "shuffled", "noise"])
def test_class_orders(way: str) -> None:
    classes = [f"kind {i}" for i in (10, 2, 1, 30, 4, 21)]
    rng = np.random.default_rng(5)
    labels = np.repeat(np.arange(6), 12)
    outputs = np.where(rng.random(72) < 0.9, labels, rng.integers(0, 6, 72))
    order = {
        "right": np.arange(6),
        "alphabetical": np.array(sorted(range(6), key=lambda k: classes[k])),
        "shuffled": rng.permutation(6),
        "noise": np.arange(6),
    }[way]
    # Output k means class order[k]; read with the list as it is, an image of class order[k] is called k.
    predicted = np.argsort(order)[outputs] if way != "noise" else rng.integers(0, 6, 72)
    result = order_result(classes, labels, predicted, classes)
    if way in ("right", "noise"):
        assert result.state == "fine"
        assert not result.offer
        return
    assert result.state == "stop"
    assert result.offer["classes"] == [classes[k] for k in order]
    assert ("alphabetical" in result.sentence) == (way == "alphabetical")
    assert ((order[predicted] == labels) & (predicted != labels))[list(result.images)].all()


def test_the_best_renaming_by_trying_all() -> None:
    rng = np.random.default_rng(2)
    labels, predicted = rng.integers(0, 4, 60), rng.integers(0, 4, 60)
    found = best_renaming(labels, predicted, 4)
    most = max(int((np.array(p)[predicted] == labels).sum()) for p in permutations(range(4)))
    assert int((found.means[predicted] == labels).sum()) == most


def test_usual_orders_leave_out_what_is_no_change() -> None:
    assert "alphabetical" not in usual_orders(["a", "b", "c"], ["a", "b", "c"])
    assert usual_orders(["b", "a"], ["a", "b"])["alphabetical"].tolist() == [1, 0]


WRONG = {
    "class order": lambda recipe: recipe,
    "inverted": lambda recipe: recipe.model_copy(update={"values": Values(scale=-1 / 127.5, mean=[-1.0], std=[1.0])}),
    "shifted range": lambda recipe: recipe.model_copy(update={"values": Values(scale=1 / 255, mean=[3.0], std=[0.5])}),
    "range and crop": lambda recipe: recipe.model_copy(
        update={"values": Values(scale=1.0), "resize": Resize(rule="stretch", size=48), "crop": None}
    ),
    "other pictures": lambda recipe: recipe,
}


@pytest.mark.parametrize(
    "what",
    [
        what if what in ("class order", "range and crop") else pytest.param(what, marks=pytest.mark.slow)
        for what in WRONG
    ],
)
def test_what_is_wrong_beside_the_recipe_never_ends_in_a_green_fine(
    what: str, striped: tuple[OnnxModel, ImageSet], tmp_path: Path
) -> None:
    """An order of classes that is wrong, alone or with the recipe; pictures that no recipe can put right."""
    model, images = striped
    recipe, classes = WRONG[what](RIGHT), list(STRIPED)
    if what == "class order":
        classes = classes[2:] + classes[:2]
        images = replace(images, items=[replace(one, label=classes.index(one.said)) for one in images.items])
    if what == "other pictures":
        items, rng = [], np.random.default_rng(0)
        for i, one in enumerate(images.items):
            Image.fromarray(rng.integers(0, 256, (64, 100, 3), dtype=np.uint8)).save(tmp_path / f"{i}.png")
            items.append(replace(one, path=f"{i}.png"))
        images = replace(images, root=tmp_path, items=items)
    result = probed(OnnxModel(model.path, recipe, 6), images, classes)
    assert result.state != "fine"
    if what == "class order":
        assert not result.offer  # the recipe is right
        assert "another order" in result.sentence
    elif what == "other pictures":
        assert "hardly better than chance" in result.sentence
        assert "may not be among those tried" in result.sentence
    else:
        offered = parse_recipe(result.offer["recipe"])
        np.testing.assert_allclose(offered.value_ranges(), RIGHT.value_ranges())
        assert max(t["accuracy"] for t in result.figures["trials"]) > 0.9


def test_a_model_of_grey_pictures_is_told_of(tmp_path: Path) -> None:
    """No recipe makes grey pictures for three channels: it is said, and nothing is offered in its place."""
    model = fitted(tmp_path / "grey.onnx", RIGHT, tmp_path / "training", per_class=30, grey=True)
    images = read_image_set(write_striped(tmp_path / "held", 9, 7), list(STRIPED))
    result = probed(model, images, list(STRIPED))
    told = {t["name"]: t["accuracy_with_best_class_order"] for t in result.figures["trials"]}
    assert told["turned grey"] > told["as it is"] + 0.2
    assert f"With the pictures turned grey it would be {100 * told['turned grey']:.1f} %" in result.sentence
    assert result.state != "fine"
    for file in images.root.rglob("*.png"):
        Image.open(file).convert("L").save(file)
    right = probed(model, images, list(STRIPED))  # now they are grey: nothing more is to be had
    assert "turned grey" not in right.sentence
    assert right.state == "fine"


@pytest.mark.slow
def test_what_costs_few_answers_is_found_and_nothing_beside_it_is_changed(demo: DemoInputs) -> None:
    """Cut by a seventh the demonstration's pictures lose 13 of 200 answers; most images are answered surely all the same."""
    recipe = demo.recipe.model_copy(
        update={"resize": Resize(rule="shorter-side", size=110), "crop": Crop(size=(96, 96))}
    )
    few = draw_per_class(demo.sets["spring-check"], 25, 0)
    result = probed(OnnxModel(DATA / "grain-net-1.onnx", recipe, len(demo.classes)), few, demo.classes)
    offered = parse_recipe(result.offer["recipe"])
    assert (offered.output_size(), offered.values, offered.picture) == (
        (96, 96),
        demo.recipe.values,
        demo.recipe.picture,
    )
    assert offered.resize.size in (96, (96, 96))


def test_pictures_of_one_size_are_tried_as_they_are(tmp_path: Path) -> None:
    """The network's size is that of the pictures; the recipe crops much of them away."""
    right = Recipe(values=VALUE_RANGES["values from −1 to 1"])
    seen = PictureFacts((48, 48), (0.4, 0.5, 0.5), (0.2, 0.2, 0.2))
    cropped = right.model_copy(update={"resize": Resize(rule="shorter-side", size=96), "crop": Crop(size=(48, 48))})
    names = {one.name: one.recipe for one in alternatives(cropped, seen)}
    assert names["not resized"].resize.rule == "none"
    assert names["not resized"].crop is None
    assert names["standardised by channel, as these pictures are"].values.mean == [0.4, 0.5, 0.5]
    assert "not resized" not in {one.name for one in alternatives(cropped, PictureFacts((60, 48)))}
    assert "not resized" in {one.name for one in alternatives(cropped, PictureFacts((60, 48)), free=True)}


def test_no_better_than_one_class_is_told() -> None:
    rng, labels = np.random.default_rng(0), np.array([0] * 80 + [1] * 20)
    for right, state in ((0.8, "stop"), (0.97, "fine")):
        predicted = np.where(rng.random(100) < right, labels, 1 - labels)
        answers = Answers(100, 2, "logits")
        answers.rows[:], answers.state[:] = np.eye(2, dtype=np.float32)[predicted] * 4, 1
        judged = judge(answers, labels.tolist())
        assert check_skill(Inputs(["a", "b"], made_set(labels.tolist()), judged=judged)).state == state


def darkened(source: Path, into: Path) -> ImageSet:
    """The same kind of pictures from a darker camera with another tint."""
    for file in sorted(source.rglob("*.png")):
        pixels = np.asarray(Image.open(file)).astype(float) * np.array([0.45, 0.45, 0.6])
        target = into / file.relative_to(source)
        target.parent.mkdir(parents=True, exist_ok=True)
        Image.fromarray(pixels.round().astype(np.uint8)).save(target)
    return read_image_set(into, list(STRIPED))


def test_where_the_recipe_fits_training_images_other_pictures_differ_and_it_is_not_wrong(
    striped: tuple[OnnxModel, ImageSet], tmp_path: Path
) -> None:
    model, held_out = striped
    training = read_image_set(model.path.parent / "fit", list(STRIPED))
    training = replace(training, items=training.items[::3])
    dark = darkened(held_out.root, tmp_path / "dark")

    def told(with_recipe: OnnxModel, **known: ImageSet) -> CheckResult:
        (*_, result) = probe_recipe(Inputs(list(STRIPED), dark, with_recipe, **known))
        assert isinstance(result, CheckResult)
        return result

    alone = told(model)
    assert (alone.state, "Another recipe fits better" in alone.sentence) == ("stop", True)
    assert "with training images in the study, these are tried first" in alone.sentence
    found = told(model, training=training)
    assert found.state == "look"
    assert not found.offer
    assert "The pictures differ, the recipe is not wrong" in found.sentence
    assert "darker (median mean luminance" in found.sentence
    assert "blurrier" not in found.sentence
    wrong = OnnxModel(
        model.path, RIGHT.model_copy(update={"values": VALUE_RANGES["values from 0 to 255"]}), len(STRIPED)
    )
    found = told(wrong, training=training)
    assert found.state == "stop"
    assert parse_recipe(found.offer["recipe"]).values == RIGHT.values
    assert "(on 60 training images)" in found.sentence
    # Reference images do as well; too few of either do not, and then it is as if there were none.
    by_reference = _trained_on(Inputs(list(STRIPED), dark, model, references=training))
    assert by_reference is not None
    assert by_reference[0] == training.files()
    few = replace(training, items=training.items[:10])
    assert _trained_on(Inputs(list(STRIPED), dark, model, training=few)) is None


def test_probabilities_are_corrected_once_for_all_that_was_tried(
    striped: tuple[OnnxModel, ImageSet], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two rounds of trials: each p is that of Holm over all of them, worked out here from the images gained and lost."""
    model, held_out = striped
    wrong = OnnxModel(
        model.path,
        RIGHT.model_copy(
            update={"values": VALUE_RANGES["values from 0 to 255"], "resize": Resize(rule="stretch", size=(48, 48))}
        ),
        len(STRIPED),
    )
    result = probed(wrong, held_out, list(STRIPED))
    trials = [one for one in result.figures["trials"][1:] if not (one["same_answers"] or "grey" in one["name"])]
    assert any(", " in one["name"] for one in trials)  # a further change on top of another
    p = [
        binomtest(min(one["gained"], one["lost"]), one["gained"] + one["lost"]).pvalue
        if one["gained"] + one["lost"]
        else 1.0
        for one in trials
    ]
    order = np.argsort(p)
    expected = np.minimum(1, np.maximum.accumulate(np.array(p)[order] * np.arange(len(p), 0, -1)))
    np.testing.assert_allclose(np.array([one["accuracy_p"] for one in trials])[order], expected, rtol=1e-9)


def test_what_pictures_are_like_by_pictures_whose_values_are_known() -> None:
    flat = np.full((40, 60, 3), 188, np.uint8)
    light, contrast, tint, sharp = properties_of(flat)
    assert light == pytest.approx(0.5029, abs=1e-3)  # 188 of 255 is half of the light
    assert (contrast, tint) == pytest.approx((0, 0), abs=1e-9)
    assert sharp == 0
    board = np.where(np.indices((64, 64)).sum(axis=0)[..., None] % 2 == 0, 255, 0).repeat(3, axis=2).astype(np.uint8)
    light, contrast, _, sharp = properties_of(board)
    assert (light, contrast) == pytest.approx((0.5, 1.0))
    inner = (
        16.0 / 0.25
    )  # each point differs from its four neighbours by one: the Laplacian is 4 or −4, the variance a quarter
    assert 10**sharp == pytest.approx(inner, rel=0.1)
    blue = np.zeros((8, 8, 3), np.uint8)
    blue[..., 2] = 255
    assert properties_of(blue)[2] == pytest.approx(1.0)
    rng = np.random.default_rng(1)
    same = rng.normal(0, 1, (200, 4))
    assert not shifts(same[:100], same[100:])
    moved = same[:100] + np.array([0, 0, 2.0, -3.0])
    assert [one.word for one in shifts(moved, same[100:])] == ["bluer", "blurrier"]
