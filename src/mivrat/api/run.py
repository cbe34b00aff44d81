"""One run: a model's answers for images, judged, with every figure, its tables and diagrams."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from mivrat.api.drawing import Drawing
from mivrat.api.figure import Figure, as_table, of_share
from mivrat.api.inputs import (
    Place,
    no_column,
)
from mivrat.api.sets import Sets, sets_of
from mivrat.core.answers.answers import FAILED, PENDING, UNREADABLE
from mivrat.core.answers.judged import EvaluatedRun, ImageCounts
from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.concluding.criteria import hold_requirement
from mivrat.core.concluding.criterion_words import read_criterion
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.requirements import RequirementOutcome, parse_requirement
from mivrat.core.figures.groups import group_figures, group_names
from mivrat.core.figures.intervals import Proportion
from mivrat.core.figures.metrics import METRICS, Metric, Unit, metric
from mivrat.core.figures.ranked import mean_of
from mivrat.core.figures.summary import Figures, sensible_ks
from mivrat.core.pictures.classes import ClassMatcher
from mivrat.core.pictures.image_sets import column_of
from mivrat.core.reporting.results import RunResults, predictions_frame, write_results
from mivrat.core.running.slow_figures import SlowFigures, slow_figures
from mivrat.core.running.snapshot import Snapshot, snapshot_with
from mivrat.core.selecting.measures import Measures
from mivrat.core.study.records import RunRecord

if TYPE_CHECKING:
    import polars as pl
else:
    pl = LazyModule("polars")

# What tells the images of a run apart: the bytes of their files, the paths told of them, or their rows alone.
KnownBy = Literal["content", "path", "row"]
# Figures of all images that no record tells: what they are called, and their unit.
_FURTHER: dict[str, tuple[str, Unit]] = {
    "macro_auroc": ("Macro AUROC", "number"),
    "macro_average_precision": ("Macro average precision", "number"),
    "classwise_ece": ("Class-wise ECE", "%"),
    "aurc": ("Area under risk-coverage", "number"),
    "temperature": ("Temperature", "number"),
}
_WHOLE = tuple(one.key for one in METRICS if one.read is not None)


class Run:
    """A model's answers for a set of images, judged. Nothing of it changes; figures are worked out when they are first asked for.

    Figures are attributes: ``run.top1``, ``run.macro_f1``, ``run.ece``, … (``run.figures`` lists all), each a ``Figure``; tables are
    Polars frames. ``run.among(mask)`` is the same run over some of its images.
    """

    def __init__(
        self,
        record: RunRecord,
        judged: EvaluatedRun,
        remarks: Sequence[str] = (),
        among: NDArray[np.bool_] | None = None,
        seed: int = 0,
        known_by: KnownBy = "content",
    ) -> None:
        """Made by ``evaluate``, ``from_scores`` and ``Study.run``. ``known_by``: what tells its images apart."""
        self.record, self.judged, self.known_by = record, judged, known_by
        self.remarks = list(remarks)
        self._among, self._seed = among, seed

    # --- what it is of ---

    @property
    def name(self) -> str:
        """The model's name, and that of the images."""
        return f"{self.record.info.model} on {self.record.image_set.name}"

    @property
    def class_names(self) -> list[str]:
        """The classes in the order of the model's scores."""
        return list(self.record.classes)

    @property
    def n(self) -> int:
        """The number of labelled images that were scored: the N of its figures."""
        return int(self._use.sum())

    @cached_property
    def counts(self) -> ImageCounts:
        """How many images are listed, evaluated, unreadable, unlabelled, failed, and pending; of all images."""
        return self.judged.counts()

    @cached_property
    def _use(self) -> NDArray[np.bool_]:
        return self.judged.evaluated_among(self._among)

    def among(self, mask: ArrayLike) -> Run:
        """The same run over some images: a mask over all listed ones (N booleans), or a column of its frame ``images``."""
        found = np.asarray(mask)
        if found.dtype != bool or found.shape != self.judged.labels.shape:
            raise InputError(
                f"the mask is {found.dtype} of shape {found.shape}",
                where="among",
                hint=f"give {len(self.judged.labels)} booleans, one for each listed image",
            )
        both = found if self._among is None else found & self._among
        return Run(self.record, self.judged, self.remarks, both, self._seed, self.known_by)

    # --- figures ---

    @cached_property
    def _figures(self) -> Figures:
        return self.judged.figures(sensible_ks(len(self.record.classes)), self._among, ranked=False)

    @cached_property
    def _deep(self) -> SlowFigures:
        found = slow_figures(self.judged, self._among, self._seed)
        assert found is not None, "nothing here is asked to stop"
        return found

    @cached_property
    def _ranked(self) -> Figures:
        return self.judged.figures(sensible_ks(len(self.record.classes)), self._among, self._deep.ranked or False)

    def __getattr__(self, key: str) -> Figure:
        if key.startswith("_"):
            raise AttributeError(key)
        try:
            return self.figure(key)
        except KeyError:
            raise AttributeError(
                f"a run has no figure {key!r}; its figures are {', '.join(self._keys)} and top2, top3, …"
            ) from None

    def __dir__(self) -> list[str]:
        return sorted({*super().__dir__(), *self._keys})

    @property
    def _keys(self) -> list[str]:
        return [f"top{k}" for k in sensible_ks(len(self.record.classes))] + [*_WHOLE, *_FURTHER]

    @property
    def figures(self) -> dict[str, Figure]:
        """Every figure of all images, by name."""
        return {key: self.figure(key) for key in self._keys}

    def figure(self, key: str, of: str | None = None) -> Figure:
        """A figure by its key, ``of`` one class where it is of one: ``figure("recall", of="birch")``. Raises KeyError where there is no
        such figure, InputError where there is no such class."""
        if of is not None:
            return self._of_class(metric(key), ClassMatcher(self.record.classes).target(of))
        if key in _FURTHER:
            return self._further(key)
        found = metric(key)
        if found.read is None:
            raise KeyError(key)
        if key.startswith("top"):
            return self._top(found, int(key[3:]))
        value = found.read(self._figures)
        assert not isinstance(value, Proportion)
        if found.unit == "images":
            return Figure(key, found.name, value, None, None, self.n, unit="images", how="counted")
        intervals = self._deep.intervals if found.interval and value is not None else None
        ends = intervals.of.get(key) if intervals is not None else None
        return Figure(
            key,
            found.name,
            value,
            ends.low if ends else None,
            ends.high if ends else None,
            self.n,
            intervals.units if intervals is not None else self._units,
            found.unit,
            self._why(found) if value is None else "",
            intervals.how(key) if intervals is not None else "no interval is computed",
        )

    @property
    def _units(self) -> int | None:
        return None if self.judged.units is None else len(np.unique(self.judged.units.number[self._use]))

    def _why(self, wanted: Metric | None = None) -> str:
        """Why a figure is missing."""
        if not self.n:
            return "no labelled image was scored"
        if wanted is not None and wanted.needs and not self.judged.has_scores:
            if wanted.needs == "confidence" and not np.isnan(self.judged.confidence[self._use]).all():
                return "it is undefined on these images"
            return f"it needs {'the scores of all classes' if wanted.needs == 'scores' else 'a confidence'}, and only predictions are known"
        return "it is undefined on these images"

    def _top(self, wanted: Metric, k: int) -> Figure:
        if not 1 <= k <= len(self.record.classes):
            raise InputError(
                f"there are {len(self.record.classes)} classes, no top-{k}", where=wanted.key, hint="ask for fewer"
            )
        found = self._figures.top_k.get(k) or self.judged.figures([k], self._among, ranked=False).top_k.get(k)
        missing = Proportion(0, self.n, None, None, None)
        return of_share(wanted, found if found is not None else missing, self._why(wanted))

    def _of_class(self, wanted: Metric, k: int) -> Figure:
        if wanted.of_class is None:
            raise KeyError(wanted.key)
        figures = self._ranked if wanted.key in ("auroc", "average_precision") else self._figures
        value, name = wanted.of_class(figures, k), f"{wanted.name}, {self.record.classes[k]}"
        if isinstance(value, Proportion):
            share = of_share(wanted, value, "no image counts for it")
            return Figure(**{**share.__dict__, "name": name})
        ends = figures.ranked_ends(wanted.key, k) if value is not None and wanted.unit == "number" else None
        low, high = ends if ends is not None else (None, None)
        why = "" if value is not None else self._why(wanted)
        return Figure(wanted.key, name, value, low, high, self.n, unit="number", why=why)

    def _further(self, key: str) -> Figure:
        deep, (name, unit) = self._deep, _FURTHER[key]
        values = {
            "macro_auroc": lambda: mean_of(deep.ranked.auroc) if deep.ranked else None,
            "macro_average_precision": lambda: mean_of(deep.ranked.average_precision) if deep.ranked else None,
            "classwise_ece": lambda: deep.ranked.classwise_ece if deep.ranked else None,
            "aurc": lambda: deep.selective.aurc,
            "temperature": lambda: (
                deep.temperature.value if deep.temperature and deep.temperature.identifiable else None
            ),
        }
        value = values[key]()
        why = "" if value is not None else self._why(metric("auroc"))
        return Figure(key, name, value, None, None, self.n, self._units, unit, why, "no interval is computed")

    # --- tables ---

    @cached_property
    def classes(self) -> pl.DataFrame:
        """A row for each class, in the order of the class list: images, and recall, precision, F1 with their intervals, specificity,
        AUROC and average precision where scores are known."""
        figures, rows = self._ranked, []
        for k, name in enumerate(self.record.classes):
            one = figures.classes[k]
            row: dict[str, Any] = {"class": name, "images": one.support}
            for key, share in (("recall", one.recall), ("precision", one.precision), ("f1", one.f1_share)):
                row |= {key: share.value, f"{key}_low": share.low, f"{key}_high": share.high}
            row |= {
                "specificity": one.specificity.value,
                "auroc": figures.auroc[k],
                "average_precision": figures.average_precision[k],
            }
            rows.append(row)
        kinds = {
            name: pl.String if name == "class" else pl.Int64 if name == "images" else pl.Float64 for name in rows[0]
        }
        return pl.DataFrame(rows, schema=kinds)

    @cached_property
    def confusion(self) -> NDArray[np.int64]:
        """Images by label (rows) and prediction (columns), both in the order of the class list: K x K."""
        found = self._figures.matrix.astype(np.int64)
        found.setflags(write=False)
        return found

    def _chosen(self, mask: NDArray[np.bool_]) -> NDArray[np.int64]:
        return np.flatnonzero(mask if self._among is None else mask & self._among)

    def _frame(self, chosen: NDArray[np.int64]) -> pl.DataFrame:
        return predictions_frame(self.judged, self.record.image_set, self.record.classes, chosen, cell=str)

    @cached_property
    def predictions(self) -> pl.DataFrame:
        """A row for each image with an answer: path, label, prediction, confidence, rank of the label, probabilities."""
        state = self.judged.state
        return self._frame(self._chosen((state != PENDING) & (state != UNREADABLE)))

    @cached_property
    def mistakes(self) -> pl.DataFrame:
        """The wrong ones of ``predictions``, most confident first."""
        wrong = self._chosen(self.judged.wrong)
        return self._frame(wrong[np.argsort(-self.judged.confidence[wrong], kind="stable")])

    @cached_property
    def not_evaluated(self) -> pl.DataFrame:
        """The images in no figure that could not be read or failed, with the reason."""
        state, reasons = self.judged.state, self.record.answers.reasons
        some = self._chosen((state == UNREADABLE) | (state == FAILED)).tolist()
        told = [self.record.image_set.told_path(i) for i in some]
        why = [reasons.get(i, "the scores hold NaN or infinity") for i in some]
        return pl.DataFrame({"path": told, "reason": why}, schema={"path": pl.String, "reason": pl.String})

    @cached_property
    def images(self) -> pl.DataFrame:
        """A row for each listed image, in their order: path, label, and the further columns they came with."""
        images, names = self.record.image_set, self.record.classes
        columns: dict[str, Any] = {
            "path": [images.told_path(i) for i in range(len(images.items))],
            "label": [names[k] if k >= 0 else None for k in self.judged.labels.tolist()],
        }
        for name in images.items[0].columns if len(images.items) else ():
            columns[name] = column_of(images.items, name)
        return pl.DataFrame(columns)

    def by(self, column: str) -> pl.DataFrame:
        """Accuracy by the groups of a column: images, accuracy with its interval, mean confidence, and p of so low an accuracy if the
        group were like the rest (corrected over the groups); what most surely falls below the rest comes first."""
        images = self.record.image_set
        if not len(images.items) or column not in images.items[0].columns:
            raise no_column(images.root, column, "to group by", images)
        judged = self.judged
        found = group_figures(
            group_names(column_of(images.items, column)),
            judged.right,
            judged.confidence,
            self._use,
            judged.units,
            judged.alike,
        )
        return pl.DataFrame(
            [
                {
                    column: one.name,
                    "images": one.accuracy.total,
                    "accuracy": one.accuracy.value,
                    "low": one.accuracy.low,
                    "high": one.accuracy.high,
                    "confidence": one.confidence,
                    "p_below_rest": one.p,
                }
                for one in found
            ],
            infer_schema_length=None,
        )

    @cached_property
    def calibration(self) -> pl.DataFrame:
        """The bins of the reliability diagram: confidence from ``above`` to ``up_to``, images, mean confidence, accuracy."""
        return pl.DataFrame(
            [
                {
                    "above": one.low,
                    "up_to": one.high,
                    "images": one.count,
                    "confidence": one.confidence,
                    "accuracy": one.accuracy.value,
                    "low": one.accuracy.low,
                    "high": one.accuracy.high,
                }
                for one in self._figures.calibration.bins
            ],
            infer_schema_length=None,
        )

    def probabilities(self) -> NDArray[np.float64]:
        """Probabilities of all listed images (N x K, in their order); NaN where there are none."""
        return self.judged.probabilities(np.arange(len(self.judged.labels)))

    # --- diagrams ---

    @property
    def matrix(self) -> Drawing:
        """The confusion matrix as a diagram."""
        from mivrat.core.reporting.report.diagrams import confusion_of  # what draws takes long to load

        return Drawing(confusion_of(self.confusion.astype(float), self.record.classes))

    @property
    def reliability(self) -> Drawing:
        """The reliability diagram: accuracy against confidence."""
        from mivrat.core.reporting.report.diagrams import reliability_of

        return Drawing(reliability_of(self._figures.calibration.bins))

    # --- what follows from it ---

    def require(self, text: str) -> RequirementOutcome:
        """A criterion held against this run, such as ``low(top1) >= 0.9`` or ``recall["birch"] >= 0.8``: an outcome with ``verdict``
        (met, missed, inconclusive), ``holds``, ``value``, ``low``, ``high``. InputError where it asks for what the run has not."""
        classes = self.record.classes
        wanted = parse_requirement(read_criterion(text, classes), classes)
        return hold_requirement(wanted, self.context)

    @cached_property
    def snapshot(self) -> Snapshot:
        """The run as the core takes it."""
        return snapshot_with(self.record, self.judged, self._figures)

    @cached_property
    def context(self) -> EvaluationContext:
        """What criteria are held against."""
        self.refuse_some("criteria")
        items = self.record.image_set.items
        return EvaluationContext(self.snapshot, deep=self._deep if self.n else None, measured=lambda: Measures(items))

    def refuse_some(self, what: str) -> None:
        """InputError where this is a run over some of its images: ``what`` is asked of whole runs."""
        if self._among is not None:
            raise InputError(
                f"{what} are of a whole run", where="among", hint="ask the run that this one was taken from"
            )

    def sets(self, level: float = 0.9, score: Literal["least", "adaptive"] = "least", by_class: bool = False) -> Sets:
        """Prediction sets: for each image the classes that hold its label with this probability."""
        self.refuse_some("prediction sets")
        return sets_of(self.record, self.judged, level, score, by_class)

    def save(self, folder: Place) -> list[Path]:
        """Write ``metrics.json``, ``predictions.csv`` and ``mistakes.csv``, as the command ``evaluate`` does; returns their paths."""
        self.refuse_some("result files")
        found = RunResults(
            self.judged,
            self.record.image_set,
            self.record.classes,
            self._ranked,
            self.record.answers.reasons,
            self.record.families,
            self._deep,
            threshold=self.record.threshold,
            kind_source=self.record.answers.kind_source,
        )
        return write_results(Path(folder), found)

    # --- shown ---

    def _headline(self) -> list[Figure]:
        ks = [f"top{k}" for k in sensible_ks(len(self.record.classes))]
        return [self.figure(key) for key in (*ks, *(one.key for one in METRICS if one.in_headline))]

    def __repr__(self) -> str:
        return f"<Run {self.name}: {self.top1}>"

    def _repr_html_(self) -> str:
        counts, told = self.counts, list(self.remarks)
        left = [
            f"{number} {what}"
            for what in ("unlabelled", "unreadable", "failed", "pending")
            if (number := getattr(counts, what))
        ]
        if left:
            told.append(f"{counts.listed} images listed: {', '.join(left)}.")
        some = "" if self._among is None else f", {self.n} of its images"
        return as_table(self._headline(), f"{self.name}{some}", told)
