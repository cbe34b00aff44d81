"""Checks on sets made wrong on purpose, fingerprints and near copies against brute force, results kept in a study."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageEnhance

from mivrat.core.answers.answers import SCORED, Answers
from mivrat.core.answers.judged import EvaluatedRun
from mivrat.core.answers.judging import judge
from mivrat.core.base.job import StopSignal, stopped_by
from mivrat.core.checks.answer_checks import check_units
from mivrat.core.checks.catalogue import CHECKS, CheckProgress, run_checks
from mivrat.core.checks.copies import NEAR_BITS
from mivrat.core.checks.inputs import Inputs
from mivrat.core.checks.result import CheckResult, from_json
from mivrat.core.checks.run_checks import KeptResult, check_run, joined, kept_results
from mivrat.core.checks.survey import fingerprint, near_pairs
from mivrat.core.models.scores import Kind
from mivrat.core.pictures.image_sets import ImageItem, ImageSet, list_images, match_labels, read_image_set
from mivrat.core.running.evaluation import Evaluation
from mivrat.core.study.file import Study
from mivrat.core.study.kept_checks import load_surveys, save_check_answer
from mivrat.core.study.runs import load_run
from mivrat.demo.study import DATA, demo_inputs
from tests.support.networks import classifier, loaded
from tests.support.sets import CLASSES, write_set


def found(inputs: Inputs, *names: str) -> dict[str, CheckResult]:
    results = [one for one in run_checks(inputs, names) if isinstance(one, CheckResult)]
    assert [from_json(one.to_json()) for one in results] == results
    return {one.name: one for one in results}


def made_set(labels: Sequence[int | None], said: str = "") -> ImageSet:
    return ImageSet("made", Path("/nowhere"), [ImageItem(f"{i}.png", k, {}, said) for i, k in enumerate(labels)])


def answered(rows: np.ndarray, labels: Sequence[int], kind: Kind = "logits") -> EvaluatedRun:
    answers = Answers(len(rows), rows.shape[1], kind)
    answers.rows[:] = rows
    answers.state[:] = np.where(np.isfinite(rows).all(axis=1), SCORED, 3)
    return judge(answers, labels)


def test_labels_sizes_and_balance() -> None:
    unknown = ImageSet("s", Path("/x"), [ImageItem("a.png", None, {}, "oak"), ImageItem("b.png", 0, {}, "birch")])
    assert found(Inputs(CLASSES, unknown), "labels")["labels"].state == "stop"
    aside = found(Inputs(CLASSES, unknown, aside=frozenset({"oak"})), "labels")["labels"]
    assert (aside.state, aside.images) == ("look", (0,))
    results = found(Inputs(CLASSES, made_set([0] * 40 + [1] * 3)), "labels", "class-sizes", "balance")
    assert results["labels"].state == "fine"
    sizes = results["class-sizes"]
    assert (sizes.state, sizes.figures["empty"], sizes.figures["fewer_than_30"]) == ("look", ["hazel"], ["alder"])
    assert sizes.images == (40, 41, 42)
    assert (results["balance"].state, results["balance"].figures["ratio"]) == ("look", 40 / 3)
    even = found(Inputs(CLASSES, made_set([0, 1, 2] * 30)), "class-sizes", "balance")
    # Wilson's interval of 24 right of 30 by hand: 0.627 to 0.905.
    assert "28 points wide" in even["class-sizes"].sentence
    assert {one.state for one in even.values()} == {"fine"}


def test_answers_that_cannot_be_right() -> None:
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 3, 60).tolist()
    good = rng.normal(0, 1, (60, 3))
    good[np.arange(60), labels] += 5

    def states(rows: np.ndarray, kind: Kind = "logits", names: Collection[str] = ()) -> dict[str, str]:
        inputs = Inputs(CLASSES, made_set(labels), judged=answered(rows.astype(np.float32), labels, kind))
        wanted = names or ("kind", "failed", "ties", "constant", "one-class")
        return {name: one.state for name, one in found(inputs, *wanted).items()}

    assert set(states(good).values()) == {"fine"}
    broken = good.copy()
    broken[3, 1] = np.nan
    assert states(broken)["failed"] == "stop"  # one of 60 is more than one in a hundred
    tied = good.copy()
    tied[5] = 2.0
    assert states(tied)["ties"] == "look"
    assert states(np.tile(good[:1], (60, 1)))["constant"] == "stop"
    one = good.copy()
    one[:, 1] += 50
    assert states(one)["one-class"] == "stop"
    assert states(1 / (1 + np.exp(-good)))["kind"] == "look"  # one sigmoid for each class, taken for logits
    assert states(np.zeros((60, 3)), names=("ties",))["ties"] == "stop"


def test_files_and_copies(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    root = write_set(tmp_path / "set", per_class=4, side=40)
    (root / "birch" / "empty.jpg").write_bytes(b"")
    (root / "birch" / "folder.jpg").mkdir()
    (root / "birch" / "dangling.jpg").symlink_to(tmp_path / "nothing")
    whole = root / "alder" / "whole.jpg"
    Image.fromarray(rng.integers(0, 255, (64, 64, 3), dtype=np.uint8)).save(whole)
    (root / "alder" / "cut.jpg").write_bytes(whole.read_bytes()[:-900])
    (root / "hazel" / "same.png").write_bytes((root / "birch" / "0.png").read_bytes())
    Image.new("L", (400, 40), 90).save(root / "hazel" / "wide.png")
    coarse = np.clip(rng.normal(128, 90, (6, 8)), 0, 255).astype(
        np.uint8
    )  # seeded, whatever ran before in this process
    photo = np.asarray(Image.fromarray(coarse).resize((160, 120), Image.Resampling.BICUBIC).convert("RGB"))
    photo = np.clip(photo + rng.normal(0, 8, photo.shape), 0, 255).astype(np.uint8)
    Image.fromarray(photo).save(root / "hazel" / "photo.png")
    training = write_set(tmp_path / "training", per_class=1, side=44)
    smaller = Image.fromarray(photo).resize((120, 90), Image.Resampling.LANCZOS)
    ImageEnhance.Brightness(smaller).enhance(1.1).save(training / "birch" / "near.jpg", quality=85)
    (training / "alder" / "exact.jpg").write_bytes(whole.read_bytes())
    image_set = read_image_set(root, CLASSES)
    inputs = Inputs(CLASSES, image_set, training=read_image_set(training, CLASSES, "training"))
    results = found(inputs, "readable", "shapes", "duplicates", "training")
    path = {item.path: i for i, item in enumerate(image_set.items)}
    unreadable = {path[f"birch/{name}.jpg"] for name in ("empty", "folder", "dangling")} | {path["alder/cut.jpg"]}
    assert set(results["readable"].images) == unreadable
    assert results["readable"].state == "look"
    assert path["hazel/wide.png"] in results["shapes"].images
    assert results["duplicates"].state == "stop"  # the copies bear two labels
    assert set(results["duplicates"].images) == {path["birch/0.png"], path["hazel/same.png"]}
    leaked = results["training"]
    assert {path["alder/whole.jpg"], path["hazel/photo.png"]} <= set(leaked.images)
    assert (leaked.figures["exact"], leaked.figures["near"]) == (1, 1)
    assert leaked.figures["with_different_labels"] == 1  # hazel here, birch at training
    assert found(Inputs(CLASSES, image_set), "training")["training"].state == "open"


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**32), st.integers(0, 40), st.integers(0, 40), st.integers(0, 8))
def test_near_pairs_by_brute_force(seed: int, here: int, there: int, most: int) -> None:
    rng = np.random.default_rng(seed)
    first = rng.integers(0, 2**63, here, dtype=np.uint64)
    second = rng.integers(0, 2**63, there, dtype=np.uint64)
    for i in range(0, min(here, there), 2):  # some that lie near
        second[i] = first[i] ^ np.uint64(sum(1 << int(b) for b in rng.choice(64, rng.integers(0, 10), replace=False)))
    left, right, distance = near_pairs(first, second, most)
    wanted = {
        (i, j): (int(a) ^ int(b)).bit_count()
        for i, a in enumerate(first)
        for j, b in enumerate(second)
        if (int(a) ^ int(b)).bit_count() <= most
    }
    assert {(int(i), int(j)): int(d) for i, j, d in zip(left, right, distance, strict=True)} == wanted


def test_fingerprints_by_the_definition_of_the_transform() -> None:
    """The cosine transform written out as sums; and copies stay near while other pictures are far."""
    grey = np.asarray(Image.effect_noise((32, 32), 60), float)
    n = np.arange(32)
    basis = np.cos(np.pi * (2 * n[None] + 1) * n[:, None] / 64) * np.sqrt(np.where(n[:, None] == 0, 1, 2) / 32)
    places = sorted(((r, c) for r in range(32) for c in range(32) if r + c), key=lambda rc: (sum(rc), rc[0]))[:64]
    values = [float((basis[r][:, None] * basis[c][None] * grey).sum()) for r, c in places]
    bits = "".join("1" if v > np.median(values) else "0" for v in values)
    assert fingerprint(Image.fromarray(grey.astype(np.uint8))) == int(bits, 2)
    assert fingerprint(Image.new("RGB", (50, 50), "teal")) is None
    pictures = [Image.open(file) for file in sorted((DATA / "references").rglob("*.jpg"))]
    prints = [fingerprint(one) or 0 for one in pictures]
    for one, own in zip(pictures, prints, strict=True):
        copy = fingerprint(one.resize((90, 90), Image.Resampling.BILINEAR)) or 0
        assert (copy ^ own).bit_count() <= NEAR_BITS
    assert len(set(prints)) == len(prints)


def test_planted_leaks_of_the_demonstration_are_found() -> None:
    inputs = demo_inputs()
    spring, training = inputs.sets["spring-check"], inputs.training
    planted = [line.split(",", 1) for line in (DATA / "planted.csv").read_text(encoding="utf-8").splitlines()]
    leaked = {path for path, what in planted if what.startswith("also in training")}
    assert leaked
    some = replace(spring, items=[one for i, one in enumerate(spring.items) if one.path in leaked or i % 50 == 0])
    result = found(Inputs(inputs.classes, some, training=training), "training")["training"]
    assert {some.items[i].path for i in result.images} == leaked


def test_a_checked_run_keeps_its_results(tmp_path: Path) -> None:
    root = write_set(tmp_path / "set", per_class=12)
    study = Study.create(tmp_path / "s.mivrat", CLASSES)
    evaluation = Evaluation(loaded(classifier(), tmp_path / "m.onnx", 3), read_image_set(root, CLASSES), study)
    list(evaluation.run())
    assert evaluation.run_id is not None
    names = [check.name for check in CHECKS]
    record, judged = load_run(study, evaluation.run_id), evaluation.judging.judged()
    event = list(check_run(study, record, judged, names))
    assert any(isinstance(one, CheckProgress) for one in event)
    kept = kept_results(study, load_run(study, evaluation.run_id))
    assert set(kept) == set(names)
    assert {one.answered for one in kept.values()} == {36}
    assert kept["changed"].result.state == "fine"
    assert len(load_surveys(study)) == 36
    changed = root / "birch" / "0.png"
    changed.write_bytes((root / "birch" / "1.png").read_bytes())
    (root / "birch" / "2.png").unlink()
    list(check_run(study, record, judged, ["changed"]))
    after = kept_results(study, load_run(study, evaluation.run_id))["changed"].result
    assert (after.state, after.figures["changed"], after.figures["gone"]) == ("stop", 1, 1)
    study.close()


def test_an_answer_stays_with_what_was_found_of_which_images(tmp_path: Path) -> None:
    root = write_set(tmp_path / "set", per_class=12)
    model = loaded(classifier(), tmp_path / "m.onnx", 3)
    with Study.create(tmp_path / "s.mivrat", CLASSES) as study:
        runs = []
        for folder in (root, write_set(tmp_path / "other", per_class=9, seed=4)):
            evaluation = Evaluation(model, read_image_set(folder, CLASSES), study)
            list(evaluation.run())
            assert evaluation.run_id is not None
            runs.append((load_run(study, evaluation.run_id), evaluation.judging.judged()))
            list(check_run(study, *runs[-1], ["class-sizes", "readable"]))
        (first, judged), (second, _) = runs
        kept = kept_results(study, first)["class-sizes"]
        assert (kept.result.state, kept.result.answer, kept.result.asks) == ("look", "", True)
        save_check_answer(study, kept.content, "2026-01-05: a pilot study")
        answered = kept_results(study, first)["class-sizes"].result
        assert (answered.answer, answered.asks) == ("2026-01-05: a pilot study", False)
        assert kept_results(study, first)["readable"].result.answer == ""
        assert kept_results(study, second)["class-sizes"].result.answer == ""  # other images: another question
        (again,) = [one for one in check_run(study, first, judged, ["class-sizes"]) if isinstance(one, KeptResult)]
        assert again.result.answer == answered.answer
        assert "answer" not in json.loads(kept.result.to_json())
        moved = replace(first, classes=[*CLASSES[::-1]])
        assert kept_results(study, moved)["class-sizes"].result.answer == ""
        save_check_answer(study, kept.content, "")
        assert kept_results(study, first)["class-sizes"].result.asks


def test_a_stopped_survey_is_not_for_nothing(tmp_path: Path) -> None:
    image_set = match_labels(list_images(write_set(tmp_path / "set", per_class=20)), CLASSES).image_set
    inputs, stop = Inputs(CLASSES, image_set), StopSignal()
    with stopped_by(stop):
        for one in run_checks(inputs, ["readable"]):
            assert isinstance(one, CheckProgress)
            stop.stop()
    assert 16 <= len(inputs.fresh) <= 60
    assert inputs.survey is None
    twice = joined([image_set, ImageSet("other", tmp_path / "training", [ImageItem("a/b.png", 1)])])
    assert twice is not None
    assert twice.root == tmp_path
    assert twice.items[-1].path == "training/a/b.png"
    assert twice.file(0) == image_set.file(0)


@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.name)
def test_every_check_says_why_and_bears_an_empty_study(check: object) -> None:
    assert getattr(check, "why", "").endswith(".")
    results = found(Inputs(CLASSES, made_set([])), getattr(check, "name", ""))
    assert all(one.sentence and one.state in ("open", "fine", "look") for one in results.values())


@pytest.mark.parametrize(("shared", "state"), [(0.0, "fine"), (0.6, "look")])
def test_a_column_of_many_large_units_is_pointed_out(shared: float, state: str) -> None:
    """Forty lots of a hundred images whose answers are slightly alike; classes that differ in difficulty are no units."""
    rng, total = np.random.default_rng(4), 4000
    lot, label = rng.integers(0, 40, total), rng.integers(0, 5, total)
    answers = Answers(total, 5, "logits")
    rows = rng.normal(0, 1, (total, 5))
    rows[np.arange(total), label] += 1.4 + 0.4 * label + rng.normal(0, shared, 40)[lot]
    answers.rows[:], answers.state[:] = rows, SCORED
    items = [ImageItem(f"{i}.png", int(label[i]), {"lot": f"L{lot[i]}", "kind": f"k{label[i]}"}) for i in range(total)]
    inputs = Inputs(list("abcde"), ImageSet("set", Path("/nowhere"), items), judged=judge(answers, label.tolist()))
    result = check_units(inputs)
    assert result.state == state
    assert result.figures.get("column") == ("lot" if shared else None)
