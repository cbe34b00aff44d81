"""Inputs as nobody should hand them over, drawn from seeds, and what Mivrat does with them: it may refuse, in one sentence.

Run as a module it tries many: ``python -m tests.support.hostile KIND FIRST COUNT`` prints what went wrong, as JSON.
"""

from __future__ import annotations

import faulthandler
import io
import json
import os
import random
import resource
import sqlite3
import struct
import sys
import tempfile
import time
import traceback
import warnings
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl
from onnx import TensorProto, helper
from PIL import Image

from mivrat.core.base.errors import InputError
from mivrat.core.pictures.decode import UnreadablePicture
from mivrat.core.study.class_list import save_families, save_pairing
from mivrat.core.study.image_sets import add_image_set, declared_places, load_image_set, load_references
from mivrat.core.study.kept_checks import load_surveys
from mivrat.core.study.runs import load_run
from mivrat.core.study.settings import load_setting, save_setting
from tests.support.networks import classifier, recipe_for, saved
from tests.support.sets import CLASSES, write_set

TEXTS = [
    "",
    " ",
    "a",
    "birch",
    "BIRCH",
    "-1",
    "0",
    "1",
    "nan",
    "NaN",
    "inf",
    "1e999",
    "1" * 5000,
    "../x",
    "/etc",
    "a\0b",
    "\ud800",
    "é" * 40,
    "{{7*7}}",
    "=1+1",
    "<b>",
    "'",
    '"',
    "\\",
    "\n",
    "\t",
    "path",
    "label",
    "predicted",
    "p:birch",
    "[" * 3000,
    "{" * 50,
    "x" * 70_000,
]
NUMBERS = [0, 1, -1, 2, 3, 7, 255, 256, 65535, 16385, 2**31 - 1, 2**31, 2**32, 2**62, -(2**63), 2**63 - 1]
VALUES: list[Any] = [None, True, 1.5, -0.0, float("nan"), float("inf"), [], {}, [[]], "x", b"x", *NUMBERS[:8]]


def altered(data: bytes, rng: random.Random) -> bytes:
    """Some bytes changed, taken out, doubled or put in; or the end cut off."""
    found = bytearray(data)
    for _ in range(rng.choice([1, 1, 1, 2, 3, 8, 40])):
        at = rng.randrange(len(found)) if found else 0
        how = rng.randrange(7)
        if how == 0 and found:
            found[at] ^= 1 << rng.randrange(8)
        elif how == 1 and found:
            found[at] = rng.choice([0, 1, 0x7F, 0x80, 0xFF])
        elif how == 2:
            del found[at : at + rng.choice([1, 2, 8, 100])]
        elif how == 3:
            found[at:at] = rng.randbytes(rng.choice([1, 4, 16]))
        elif how == 4:
            found[at:at] = found[at : at + rng.choice([4, 40, 400])]
        elif how == 5 and len(found) > 8:
            found[at : at + 4] = struct.pack(rng.choice("<>") + "I", rng.choice([0, 1, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF]))
        elif how == 6 and rng.random() < 0.3:
            del found[at:]
    return bytes(found)


def any_value(rng: random.Random, depth: int = 0) -> Any:
    """A value of any of JSON's kinds, nested a little."""
    how = rng.randrange(8 if depth < 3 else 5)
    if how < 2:
        return rng.choice(TEXTS)
    if how < 4:
        return rng.choice(NUMBERS)
    if how == 4:
        return rng.choice([None, True, False, 0.5, -1e300, float("nan")])
    if how == 5:
        return {rng.choice(TEXTS): any_value(rng, depth + 1) for _ in range(rng.randrange(4))}
    return [any_value(rng, depth + 1) for _ in range(rng.randrange(4))]


def _picture(rng: random.Random) -> bytes:
    kind, out = rng.choice(["JPEG", "PNG", "GIF", "TIFF", "BMP", "WEBP"]), io.BytesIO()
    mode = rng.choice(
        {
            "JPEG": ["RGB", "L", "CMYK"],
            "PNG": ["RGB", "L", "P", "RGBA", "I;16", "1", "LA"],
            "GIF": ["P"],
            "BMP": ["RGB", "P", "1"],
            "TIFF": ["RGB", "L", "F", "I", "CMYK", "1"],
            "WEBP": ["RGB", "RGBA"],
        }[kind]
    )
    pixels = np.frombuffer(rng.randbytes(24 * 20 * 3), np.uint8).reshape(24, 20, 3)
    picture = Image.fromarray(pixels)
    picture = Image.fromarray(pixels[..., 0].astype(np.uint16) * 200) if mode == "I;16" else picture.convert(mode)
    options: dict[str, Any] = {}
    if kind in ("JPEG", "PNG", "TIFF", "WEBP") and rng.random() < 0.6:
        exif = Image.Exif()
        exif[274], exif[305] = rng.choice([1, 3, 6, 8] if kind == "TIFF" else [0, 3, 6, 8, 99]), "x" * 30
        options["exif"] = exif.tobytes() if kind != "TIFF" else exif
    if kind in ("GIF", "TIFF") and rng.random() < 0.5:
        options |= {"save_all": True, "append_images": [picture.copy(), picture.rotate(90)]}
    if kind == "TIFF":
        packed = ["raw", "tiff_lzw", "tiff_adobe_deflate", "packbits"]
        options["compression"] = rng.choice(["group4", "raw"] if mode == "1" else packed)
    if kind == "JPEG":
        options["progressive"] = rng.random() < 0.5
    picture.save(out, kind, **options)
    return out.getvalue()


def images(rng: random.Random, folder: Path) -> None:
    from mivrat.core.checks.survey import survey_file
    from mivrat.core.pictures.decode import read_file, read_picture
    from mivrat.core.pictures.prepare import prepare_file
    from mivrat.core.pictures.recipe import Crop, Recipe, Resize
    from mivrat.core.pictures.thumbnails import thumbnail

    path = folder / "a.jpg"
    path.write_bytes(altered(_picture(rng), rng))
    survey_file(read_file(path))
    recipe = Recipe(resize=Resize(rule="shorter-side", size=16), crop=Crop(size=(12, 12)))
    for read in (lambda: read_picture(path, "L"), lambda: thumbnail(path, 64), lambda: prepare_file(path, recipe)):
        try:
            read()
        except UnreadablePicture:
            continue


def _table(rng: random.Random, columns: Sequence[str], path: Path) -> Path:
    """A table file of some kind with odd columns and cells, its bytes altered now and then."""
    names = list(dict.fromkeys([*columns, *(rng.choice(TEXTS[:26]) for _ in range(rng.randrange(3)))]))
    rng.shuffle(names)
    rows = [
        {name: rng.choice([f"birch/{i}.png", *TEXTS[:28], *map(str, NUMBERS), "0.5"]) for name in names}
        for i in range(rng.randrange(5))
    ]
    ending = rng.choice([".csv", ".tsv", ".jsonl", ".parquet"])
    path = path.with_suffix(ending)
    if ending == ".parquet":
        safe = [
            {k.encode("utf-8", "replace").decode(): v.encode("utf-8", "replace").decode() for k, v in row.items()}
            for row in rows
        ]
        pl.DataFrame(safe).write_parquet(path)
        data = path.read_bytes()
    elif ending == ".jsonl":
        data = "\n".join(json.dumps(any_value(rng) if rng.random() < 0.1 else row) for row in rows).encode()
    else:
        separator = "," if ending == ".csv" else "\t"
        lines = [separator.join(names), *(separator.join(row.values()) for row in rows)]
        data = "\n".join(lines).encode("utf-8", "surrogatepass")
    path.write_bytes(altered(data, rng) if rng.random() < 0.5 and data else data)
    return path


def tables(rng: random.Random, folder: Path) -> None:
    from mivrat.core.answers.scoring import score_images
    from mivrat.core.pictures.families import read_families
    from mivrat.core.pictures.image_sets import list_images, match_labels
    from mivrat.core.study.file import Study

    if rng.random() < 0.2:
        read_families(_table(rng, rng.choice([["class", "family"], ["class"]]), folder / "f"), CLASSES)
        return
    listing = list_images(_table(rng, rng.choice([["path"], ["path", "label"], ["path ", "path"], []]), folder / "t"))
    found = match_labels(listing, CLASSES).image_set
    files = found.files()
    list(score_images(files, range(len(files)), _Nothing(), threads=1))
    with Study.create(folder / "s.mivrat", CLASSES) as study:
        load_image_set(study, add_image_set(study, found))


class _Nothing:
    """Answers nothing, for whatever is prepared."""

    def __init__(self) -> None:
        from mivrat.core.pictures.recipe import Recipe

        self.path, self.recipe, self.columns = Path("m"), Recipe(), 3

    def misfit(self, shape: tuple[int, ...]) -> str:
        return ""

    def scores(self, batch: Any) -> Any:
        return np.zeros((len(batch), 3), np.float32)


def class_lists(rng: random.Random, folder: Path) -> None:
    from mivrat.core.pictures.classes import ClassMatcher, natural_key, read_class_list

    path = folder / rng.choice(["c.txt", "c.json"])
    how = rng.randrange(3)
    data = (
        json.dumps(any_value(rng)).encode()
        if how == 0
        else "\n".join(rng.sample(TEXTS, 4)).encode("utf-8", "surrogatepass")
    )
    if how == 2:
        data = altered(json.dumps(rng.choice([CLASSES, dict(enumerate(CLASSES))])).encode(), rng)
    path.write_bytes(data)
    classes = read_class_list(path)
    sorted(classes, key=natural_key)
    for text in TEXTS:
        try:
            ClassMatcher(classes).target(text)
        except InputError:
            continue


def recipes(rng: random.Random, folder: Path) -> None:
    from mivrat.core.pictures.prepare import prepare_file
    from mivrat.core.pictures.recipe import Recipe, read_recipe, recipe_to_toml

    text = recipe_to_toml(recipe_for(classifier()))
    lines = text.splitlines()
    how = rng.randrange(4)
    if how == 0:
        at = rng.randrange(len(lines))
        odd = [
            "1" * 5000,
            "[" * 2000,
            "[1, 2, 3]",
            "-1",
            "nan",
            "inf",
            '"x"',
            "{a = 1}",
            "1979-99-99",
            "[[1], 2]",
            "0",
            "1e400",
            "99999",
        ]
        lines[at] = lines[at].split("=")[0] + "= " + rng.choice(odd)
    elif how == 1:
        rng.shuffle(lines)
    path = folder / "r.toml"
    data = "\n".join(lines).encode()
    path.write_bytes(altered(data, rng) if how > 1 else data)
    recipe = read_recipe(path)
    assert isinstance(recipe, Recipe)
    recipe.summary()
    recipe_to_toml(recipe)
    Image.fromarray(np.zeros((9, 14, 3), np.uint8)).save(folder / "p.png")
    prepare_file(folder / "p.png", recipe)


def prediction_tables(rng: random.Random, folder: Path) -> None:
    from mivrat.core.models.prediction_table import PredictionTable
    from mivrat.core.pictures.image_sets import ImageItem, ImageSet
    from mivrat.core.running.evaluation import Evaluation

    wanted = rng.choice(
        [
            ["path", *CLASSES],
            ["path", *(f"p:{c}" for c in CLASSES)],
            ["path", "predicted"],
            ["path", "predicted", "confidence"],
        ]
    )
    table = PredictionTable(_table(rng, wanted, folder / "t"), CLASSES)
    images = ImageSet("set", folder, [ImageItem(f"birch/{i}.png", 0, {}, "birch") for i in range(3)])
    evaluation = Evaluation(table, images)
    list(evaluation.run())
    evaluation.judging.judged().figures([1])


def _odd_network(rng: random.Random) -> bytes:
    """A small network with something about it that is not as it should be."""
    model = classifier()
    graph = model.graph
    for _ in range(rng.choice([1, 1, 2, 4])):
        how = rng.randrange(14)
        node, tensor = rng.choice(graph.node), rng.choice(graph.initializer)
        value = rng.choice([*graph.input, *graph.output])
        dims = value.type.tensor_type.shape.dim
        if how == 0 and dims:
            rng.choice(dims).dim_value = rng.choice(NUMBERS)
        elif how == 1:
            value.type.tensor_type.elem_type = rng.choice([0, 1, 2, 3, 7, 8, 10, 11, 99, 2**31 - 1])
        elif how == 2 and node.input:
            node.input[0] = rng.choice(["", "nothing", node.output[0], *(t.name for t in graph.initializer)])
        elif how == 3:
            node.op_type = rng.choice(
                [
                    "Loop",
                    "If",
                    "Resize",
                    "Expand",
                    "Tile",
                    "Nothing",
                    "SequenceConstruct",
                    "StringNormalizer",
                    "NonZero",
                    "Shape",
                ]
            )
        elif how == 4 and tensor.dims:
            tensor.dims[rng.randrange(len(tensor.dims))] = rng.choice(NUMBERS)
        elif how == 5:
            tensor.data_type = rng.choice([0, 1, 2, 7, 8, 10, 99])
        elif how == 6:
            tensor.data_location = TensorProto.EXTERNAL
            for key, text in (
                ("location", rng.choice(["w", "../w", "/etc/passwd", "a\0b", "missing"])),
                ("offset", str(rng.choice(NUMBERS))),
                ("length", rng.choice(["x", "9" * 30, "4"])),
            ):
                tensor.external_data.add(key=key, value=text)
        elif how == 7:
            node.attribute.append(
                helper.make_attribute(
                    rng.choice(["axis", "kernel_shape", "group", "pads"]),
                    rng.choice([[2**31], [-1, 2], 2**62, 1.5, "x"]),
                )
            )  # type: ignore[arg-type]
        elif how == 8:
            model.opset_import[0].version = rng.choice([0, 1, 7, 13, 25, 99, 2**40])
        elif how == 9:
            value.type.CopyFrom(helper.make_sequence_type_proto(helper.make_tensor_type_proto(1, None)))
        elif how == 10 and node.attribute:
            attribute = rng.choice(node.attribute)
            attribute.i, attribute.ints[:] = rng.choice(NUMBERS), [rng.choice(NUMBERS)] * len(attribute.ints)
        elif how == 11:
            size = helper.make_tensor(f"size{_}", TensorProto.INT64, [2], [rng.choice([3, 60_000, 2**33]), 60_000])
            graph.initializer.append(size)
            graph.node.append(helper.make_node("ConstantOfShape", [size.name], [f"huge{_}"]))
        elif how == 12:
            node.name, value.name = rng.choice(["\x01", "é", "a/b", ""]), rng.choice([value.name, "x", ""])
        else:
            del graph.node[rng.randrange(len(graph.node))]
            if not graph.node:
                return b""
    return model.SerializeToString()


def networks(rng: random.Random, folder: Path) -> None:
    from mivrat.core.heatmaps.maps import HeatmapMaker, Target
    from mivrat.core.models.onnx_model import OnnxModel

    path = folder / "m.onnx"
    (folder / "w").write_bytes(b"\0" * 64)
    path.write_bytes(altered(classifier().SerializeToString(), rng) if rng.random() < 0.4 else _odd_network(rng))
    recipe = recipe_for(classifier()) if rng.random() < 0.5 else None
    model = OnnxModel(path, recipe, rng.choice([3, None]), 1)
    maker = HeatmapMaker(model)
    batch = np.zeros(model.sample_shape(1), model.recipe.tensor.dtype)
    maker.maps(batch, [Target(0)], [maker.layer(None)])


def _study(folder: Path) -> Path:
    """A study with two runs, reviews, kept selections, regions, cover tests and what checks found; made once a process."""
    from mivrat.core.checks.run_checks import check_run
    from mivrat.core.concluding.checking import finding_of, measure
    from mivrat.core.concluding.evaluation_context import EvaluationContext
    from mivrat.core.concluding.findings import Draft, FindingClaim, FindingPicture, Measure, as_text
    from mivrat.core.concluding.shares import written
    from mivrat.core.pictures.image_sets import read_image_set
    from mivrat.core.reporting.report.content import ReportChoices
    from mivrat.core.reporting.report.making import save_wanted
    from mivrat.core.running.evaluation import Evaluation
    from mivrat.core.running.snapshot import take_snapshot
    from mivrat.core.selecting.kept import KeptSelection, save_kept, to_text
    from mivrat.core.selecting.selection import Labelled, Outcome, Picked
    from mivrat.core.study.file import Study
    from mivrat.core.study.kept_evidence import KeptTest, save_regions, save_test
    from mivrat.core.study.kept_findings import KeptFinding, save_findings
    from mivrat.core.study.reviews import Review, save_reviews
    from mivrat.core.study.settings import save_criteria

    path = folder / "whole.mivrat"
    network = classifier()
    saved(network, folder / "m.onnx")
    from mivrat.core.models.onnx_model import OnnxModel

    model = OnnxModel(folder / "m.onnx", recipe_for(network), 3)
    with Study.create(path, CLASSES) as study:
        for name in ("one", "two"):
            images = read_image_set(write_set(folder / name, 3), CLASSES)
            evaluation = Evaluation(model, images, study)
            list(evaluation.run())
        assert evaluation.run_id is not None
        record, judged = load_run(study, evaluation.run_id), evaluation.judging.judged()
        list(check_run(study, record, judged, ["labels", "unreadable", "near_copies"], None))
        save_reviews(study, 1, {0: Review(frozenset({1}), "a note", True, 1), 2: Review(reviewed=True)})
        kept = to_text(
            (Labelled(frozenset({0})), Outcome(frozenset({"wrong"})), Picked("hand", (1, 2))), CLASSES, record.names
        )
        save_kept(study, 1, [KeptSelection("mine", kept)])
        save_regions(study, 1, {-1: [{"kind": "rectangle", "points": [[0, 0], [0.5, 0.5]]}]})
        plan = {
            "selection": "all",
            "region": {"place": "fixed", "shapes": []},
            "hide": "blur",
            "target": "predicted",
            "seed": 0,
            "images": [record.names[0], record.names[1]],
        }
        save_test(study, KeptTest(1, 1, "2026-01-01", "dots", json.dumps(plan), "{}"))
        save_families(study, {0: "trees", 1: "trees"})
        ground = EvaluationContext(take_snapshot(load_run(study, 1)))
        claim = FindingClaim(
            "share", conditions=written((Labelled(frozenset({0})), Outcome(frozenset({"wrong"}))), ground)
        )
        (before,) = measure(claim, ground)
        assert isinstance(before, Measure)
        finding = finding_of(
            Draft("t", "s", claim, pictures=(FindingPicture(record.names[0], True, "c"),)), before, ground
        )
        save_findings(study, [KeptFinding(1, as_text(finding))])
        save_criteria(study, 1, ["top1 >= 0.9", 'recall[family = "trees"] >= 0.5'])
        save_wanted(study, ground, ReportChoices(author="a"))
        save_pairing(study, {"weed": None, "birk": 0})
        for key, value in (
            ("run", "1"),
            ("two plausible classes in run 1", json.dumps([[record.names[0], 0, 1, 0.5, 0.4, 7]])),
        ):
            save_setting(study, key, value)
    return path


@cache
def _whole_study() -> bytes:
    with tempfile.TemporaryDirectory(prefix="hostile-") as place:
        return _study(Path(place)).read_bytes()


def studies(rng: random.Random, folder: Path) -> None:
    path = folder / "s.mivrat"
    if rng.random() < 0.4:
        path.write_bytes(altered(_whole_study(), rng))
    else:
        path.write_bytes(_whole_study())
        db = sqlite3.connect(path)
        try:
            for _ in range(rng.choice([1, 1, 2])):
                _spoil(db, rng)
            db.commit()
        except (sqlite3.Error, UnicodeError, OverflowError):
            pass
        finally:
            db.close()
    read_everything(path)


def _spoil(db: sqlite3.Connection, rng: random.Random) -> None:
    tables = [name for (name,) in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
    table = rng.choice(tables)
    column = rng.choice([row[1] for row in db.execute(f"PRAGMA table_info({table})")])
    how = rng.randrange(9)
    if how < 4:
        db.execute("PRAGMA ignore_check_constraints = ON")
        value = rng.choice([*VALUES[:6], *TEXTS, *NUMBERS, b"\xff\xfe", json.dumps(any_value(rng)), "[" * 900])
        value = json.dumps(value) if isinstance(value, list | dict) else value
        only = rng.choice(["", f" WHERE rowid = (SELECT MIN(rowid) FROM {table})"])
        without = table in ("image", "review", "kept_selection", "region", "survey", "strain_answer")
        db.execute(f"UPDATE {table} SET {column} = ?{'' if without else only}", (value,))
    elif how == 4:
        db.execute(f"DELETE FROM {table}{rng.choice(['', ' WHERE random() % 2'])}")
    elif how == 5:
        loop = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i, i, i, i FROM n"
        db.execute(f"DROP TABLE {table}")
        db.execute(f"CREATE VIEW {table} AS {loop}")
    elif how == 6:
        db.execute(
            f"CREATE TRIGGER t AFTER {rng.choice(['INSERT', 'UPDATE', 'DELETE'])} ON {table} BEGIN DELETE FROM class; END"
        )
    elif how == 7:
        db.execute(
            rng.choice(
                [
                    f"ALTER TABLE {table} RENAME COLUMN {column} TO other",
                    f"ALTER TABLE {table} ADD COLUMN more TEXT",
                    f"DROP TABLE {table}",
                    "CREATE TABLE more (x)",
                    f"CREATE INDEX i ON {table} ({column})",
                ]
            )
        )
    else:
        db.execute(
            rng.choice(
                [
                    "PRAGMA user_version = 1",
                    "PRAGMA user_version = 3",
                    "PRAGMA user_version = 0",
                    "PRAGMA application_id = 5",
                    "PRAGMA user_version = -2",
                ]
            )
        )


def read_everything(path: Path) -> None:
    """Whatever the window and the commands read from a study."""
    from mivrat.core.checks.run_checks import kept_results
    from mivrat.core.concluding.checking import check_finding
    from mivrat.core.concluding.criteria import criteria_of
    from mivrat.core.concluding.evaluation_context import EvaluationContext
    from mivrat.core.concluding.findings import from_text
    from mivrat.core.figures.groups import group_names
    from mivrat.core.region_masking.cover_test import plan_from_text
    from mivrat.core.region_masking.regions import shape_from_json
    from mivrat.core.reporting.cover_report import result_from_json, told_from_text
    from mivrat.core.reporting.report.making import load_wanted
    from mivrat.core.running.loading import load_judged
    from mivrat.core.running.snapshot import take_snapshot
    from mivrat.core.running.two_classes import load_two_classes
    from mivrat.core.selecting import kept
    from mivrat.core.study.contents import read_contents
    from mivrat.core.study.file import Study
    from mivrat.core.study.kept_evidence import load_regions, load_tests
    from mivrat.core.study.kept_findings import load_exported, load_findings
    from mivrat.core.study.lock import StudyLock
    from mivrat.core.study.reviews import load_reviews

    with StudyLock(path), Study.open(path) as study:
        contents = read_contents(study)
        declared_places(study)
        load_references(study)
        for run in contents.runs[:3]:
            record, judging = load_judged(study, run.info.id)
            judged = judging.judged()
            judged.figures([1])
            reviews = load_reviews(study, run.info.set_id)
            reviews.mask(len(record.image_set.items), "reviewed")
            for one in kept.load_kept(study, run.info.set_id):
                for condition in (
                    kept.from_text(one.conditions, record.classes, record.image_set.items, record.names, reviews) or ()
                ):
                    condition.mask(judged)
            kept_results(study, record)
            load_two_classes(study, record)
            load_setting(study, f"place of run {run.info.id}")
            group_names([item.columns.get("path", "") for item in record.image_set.items])
            for shapes in load_regions(study, run.info.set_id).values():
                _ = [shape_from_json(shape) for shape in shapes]
            ground = EvaluationContext(take_snapshot(record, judging), reviews)
            load_wanted(study, ground)
            criteria_of(contents.criteria.get(run.info.model_id, ()), ground)
            for finding in load_findings(study):
                try:
                    asked = from_text(finding.id, finding.data)
                except InputError:
                    continue
                list(check_finding(asked, ground))
        load_exported(study)
        load_surveys(study)
        for test in load_tests(study):
            for read in (
                lambda one=test: plan_from_text(one.plan, record.names),
                lambda one=test: result_from_json(told_from_text(one.outcome)),
            ):
                try:
                    read()
                except InputError:
                    continue
        save_setting(study, "run", "1")


def requirements(rng: random.Random, folder: Path) -> None:
    from mivrat.core.concluding.requirements import parse_criterion, parse_requirement, with_reference

    pieces = [
        "low(",
        "high(",
        "top1",
        "top99999",
        "recall[",
        '"birch"',
        "'alder'",
        '"\\x"',
        '"\t"',
        "]",
        ")",
        ">=",
        "<",
        "0.9",
        "1e999",
        " " * 1600,
        "(" * 800,
        "1" * 5000,
        "macro_f1",
        "difference(",
        "family = ",
        "site = ",
        ", ",
        "==",
        "\0",
        "²",
        *TEXTS[:26],
    ]
    text = "".join(rng.choice(pieces) for _ in range(rng.randrange(1, 8)))
    with suppress(InputError):
        parse_criterion(with_reference(text, "net#0123456789abcdef"), CLASSES)
    parse_requirement(text, CLASSES)


def shapes(rng: random.Random, folder: Path) -> None:
    from mivrat.api.regions import listed_shapes
    from mivrat.core.region_masking.regions import mask_of

    good = [
        {
            "kind": rng.choice(["rectangle", "ellipse", "lasso", "brush"]),
            "points": [[0, 0], [1, 1], [rng.random(), 0.5]][: rng.randrange(4)],
            "radius": rng.choice([0.1, *VALUES[:6]]),
        }
    ]
    data = json.dumps(rng.choice([good, any_value(rng), [any_value(rng)]]), default=str).encode()
    (folder / "s.json").write_bytes(altered(data, rng) if rng.random() < 0.5 else data)
    mask_of(listed_shapes(folder / "s.json"), 20, 30)


def caches(rng: random.Random, folder: Path) -> None:
    from mivrat.core.base.blob_cache import BlobCache, KeptArrays
    from mivrat.core.pictures.thumbnails import ThumbnailStore

    path = folder / "c.sqlite"
    cache = KeptArrays(BlobCache(path), "model", 2)
    cache.known.update({bytes([i]) * 32: np.full((3, 4), i, np.float32) for i in range(4)})
    cache.keep()
    if rng.random() < 0.5:
        path.write_bytes(altered(path.read_bytes(), rng))
    else:
        db = sqlite3.connect(path)
        column = rng.choice(["space", "key", "used", "form", "value"])
        try:
            db.execute(
                f"UPDATE blob SET {column} = ? WHERE key = (SELECT MIN(key) FROM blob)",
                (rng.choice([b"", b"\xff", "-1 -12", "1000000 1000000", "12", 2**40, None, "x"]),),
            )
            db.commit()
        except sqlite3.Error:
            pass
        finally:
            db.close()
    again = KeptArrays(BlobCache(path), "model", 2)
    again.known[b"new"] = np.zeros((2, 2), np.float32)
    again.keep()
    assert b"new" in KeptArrays(BlobCache(path), "model", 2).known
    Image.fromarray(np.frombuffer(rng.randbytes(200 * 200 * 3), np.uint8).reshape(200, 200, 3)).save(folder / "p.png")
    store = ThumbnailStore(BlobCache(folder / "thumbs"))
    first = store.get(folder / "p.png", 64).shape
    store.close()
    (folder / "thumbs").write_bytes(altered((folder / "thumbs").read_bytes(), rng))
    assert store.get(folder / "p.png", 64).shape[2] == first[2]
    store.close()


KINDS: dict[str, Callable[[random.Random, Path], None]] = {
    one.__name__: one
    for one in (
        images,
        tables,
        class_lists,
        recipes,
        prediction_tables,
        networks,
        studies,
        requirements,
        shapes,
        caches,
    )
}
# Longer than this for one input counts as hanging; a model may be tried for as long as its trial lasts.
MOST_SECONDS = {"networks": 70.0}


def attempt(kind: str, seed: int) -> str:
    """What goes wrong with one input: empty where it is taken, or refused as it should be."""
    rng = random.Random(f"{kind} {seed}")
    if kind == "studies":
        _whole_study()  # made once, and not part of what is timed
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="hostile-") as place:
        try:
            KINDS[kind](rng, Path(place))
        except (InputError, UnreadablePicture) as error:
            text = error.line() if isinstance(error, InputError) else str(error)
            if not text or "\n" in text or len(text) > 4000:
                return f"{kind} {seed}: no one sentence: {text[:200]!r}"
        except BaseException:
            return f"{kind} {seed}: {traceback.format_exc()}"
    took = time.monotonic() - began
    return f"{kind} {seed}: took {took:.1f} s" if took > MOST_SECONDS.get(kind, 5.0) else ""


def main() -> None:
    kind, first, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    faulthandler.enable()
    warnings.simplefilter("ignore")
    os.environ.setdefault("XDG_CACHE_HOME", tempfile.gettempdir() + "/hostile-cache")
    wrong = []
    for seed in range(first, first + count):
        print(f"{kind} {seed}", file=sys.stderr, flush=True)
        if found := attempt(kind, seed):
            wrong.append(found)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(json.dumps({"tried": count, "wrong": wrong, "gigabytes": peak}))


if __name__ == "__main__":
    main()
