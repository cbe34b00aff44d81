"""How a run is repeated: the list of its images by path and content, and the commands."""

from __future__ import annotations

import csv
import io
import shlex
from collections.abc import Sequence
from pathlib import Path

from mivrat.core.base.text import escaped, safe_cell
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.study.records import RunRecord

# So many images are listed in the report itself; of more the list is a file beside it.
MOST_LISTED = 300
LIST = "images.csv"


def beside(report: Path) -> Path:
    """The name of the list of images beside a report."""
    return report.with_name(f"{report.stem}-{LIST}")


def images_table(ground: EvaluationContext) -> str:
    """All images of a run as a table that Mivrat reads again: path below the folder of the images, label, the SHA-256 of the file, and
    the columns that the images came with."""
    record = ground.snapshot.record
    items, labels = record.image_set.items, ground.snapshot.judged.labels
    columns = list(dict.fromkeys(name for item in items for name in item.columns))
    taken = {"path", "label", "set", *columns}
    content = next(name for name in ("content", "sha256", "content_sha256", "mivrat_content") if name not in taken)
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(["path", "label", content, *columns])
    for at, item in enumerate(items):
        label = safe_cell(record.classes[labels[at]]) if labels[at] >= 0 else ""
        more = [safe_cell(item.columns.get(name, "")) for name in columns]
        rows.writerow([safe_cell(escaped(item.path)), label, record.names[at].content, *more])
    return out.getvalue()


def listed(ground: EvaluationContext) -> tuple[tuple[str, str, str], ...]:
    """Path, label and hash of every image, where they are few enough to be listed."""
    record, labels = ground.snapshot.record, ground.snapshot.judged.labels
    if len(record.image_set.items) > MOST_LISTED:
        return ()
    return tuple(
        (
            record.image_set.told_path(at),
            record.classes[labels[at]] if labels[at] >= 0 else "–",
            record.names[at].content or "not read",
        )
        for at in range(len(record.image_set.items))
    )


def commands(record: RunRecord, against: Sequence[tuple[str, bool]] = ()) -> tuple[str, ...]:
    """The commands that score the images again and write the report again; ``against`` names the runs compared with, and whether each
    is the baseline."""
    scoring = [
        "mivrat",
        "evaluate",
        "--model",
        record.model_path.name,
        "--recipe",
        "recipe.toml",
        "--classes",
        "classes.txt",
    ]
    scoring += ["--images", LIST, "--out", "results"]
    if record.image_set.unit_column:
        scoring += ["--together", record.image_set.unit_column]
    if record.threshold is not None:
        scoring += ["--threshold", f"{record.threshold:.17g}"]
    if not record.kind.can.scores:
        scoring[4:6] = []
    report = ["mivrat", "report", Path(record.study).name, "--run", f"{record.info.model} on {record.info.image_set}"]
    for name, baseline in against:
        report += ["--against" if baseline else "--candidate", name]
    return shlex.join(scoring), shlex.join([*report, "--out", "report.html"])
