"""Makes a report of a run of a study: gathers, draws and lays out, with progress and a stop; and writes its files."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any

from mivrat.core.base.errors import InputError
from mivrat.core.base.files import write_whole
from mivrat.core.base.job import Progress, current_stop
from mivrat.core.checks.run_checks import kept_results
from mivrat.core.comparing.of_runs import compare_runs
from mivrat.core.comparing.training import Training, training
from mivrat.core.comparing.training_logs import KeptLog, kept_log, read_kept_log
from mivrat.core.concluding.criteria import Criterion, criteria_of
from mivrat.core.concluding.evaluation_context import EvaluationContext
from mivrat.core.concluding.findings import Checked, Finding
from mivrat.core.concluding.of_study import CheckingProgress, FoundCheck, check_findings, read_snapshot
from mivrat.core.figures.groups import Group
from mivrat.core.reporting.junit import Case, as_junit, cases_of
from mivrat.core.reporting.report.card import as_card
from mivrat.core.reporting.report.compared import ComparedWith, OtherRun
from mivrat.core.reporting.report.content import SECTIONS, Report, ReportChoices, ReportInputs, gather
from mivrat.core.reporting.report.data import report_data
from mivrat.core.reporting.report.pdf import as_pdf
from mivrat.core.reporting.report.pictures import ReportPicture, pictures_of
from mivrat.core.reporting.report.repeating import MOST_LISTED, beside, images_table
from mivrat.core.reporting.results import RunResults, metrics
from mivrat.core.running.groups import groups_of_run
from mivrat.core.running.slow_figures import slow_figures
from mivrat.core.study.file import Study
from mivrat.core.study.runs import list_runs, load_run
from mivrat.core.study.settings import load_claim, load_criteria, load_setting, save_setting

ENDINGS = (".html", ".pdf", ".json", ".xml", ".md", ".csv")
# So many columns of the image table are broken down by, and a column with more groups is left out.
MOST_COLUMNS, MOST_GROUPS = 4, 30


@dataclass(frozen=True)
class Making:
    """How far a report is: what is being done, and how far that is where it can be told."""

    what: str
    within: Progress | None = None


@dataclass(frozen=True)
class AssembledReport:
    """A report with all that its files take."""

    report: Report
    ground: EvaluationContext
    told: ReportInputs
    pictures: Mapping[str, ReportPicture]
    criteria: tuple[Criterion, ...]
    findings: tuple[tuple[Finding, Checked | None], ...]

    def html(self) -> str:
        from mivrat.core.reporting.report.pages import as_html  # what draws takes long to load

        return as_html(self.report, self.ground, self.pictures)

    def pdf(self) -> bytes:
        """InputError where a system library is missing."""
        from mivrat.core.reporting.report.pages import as_html

        return as_pdf(as_html(self.report, self.ground, self.pictures, on_paper=True))

    def cases(self) -> list[Case]:
        return cases_of([one.outcome for one in self.criteria], self.findings)


def make_report(
    path: Path,
    ground: EvaluationContext,
    findings: Sequence[Finding],
    wanted: ReportChoices,
    against: Sequence[ComparedWith] = (),
    allowed: Sequence[Path] = (),
    day: date | None = None,
) -> Iterator[Making | AssembledReport]:
    """Make a report of a run, yielding what is being done and at last the report; nothing more where it was stopped. ``against``: the
    runs to compare it with; ``allowed``: folders that a training log may be read from, beside the study's own."""
    snapshot = ground.snapshot
    record, judged = snapshot.record, snapshot.judged
    yield Making("figures")
    deep = slow_figures(judged)
    ground = replace(ground, deep=deep)
    with Study.open(path, again=True) as study:
        model_id = record.info.model_id
        texts, claim = load_criteria(study, model_id), load_claim(study, model_id)
        checks = [one.result for one in kept_results(study, record).values()]
        log = kept_log(study, record.model_sha256)
    criteria = criteria_of(texts, ground)
    if current_stop().stopped:
        return
    compared = []
    for one in against:
        yield Making("comparisons")
        pair = (one.other, snapshot) if one.baseline else (snapshot, one.other)
        found = compare_runs(*pair)
        if found is None:
            return
        compared.append((found, one))
    curves, problem = _training(log, path, allowed)
    yield Making("findings")
    active = [one for one in findings if not one.aside]
    checked: dict[int, Checked] = {}
    for event in check_findings(path, ground, active):
        if isinstance(event, FoundCheck):
            checked[event.finding] = event.checked
        elif isinstance(event, CheckingProgress):
            yield Making("findings", event.within)
    if current_stop().stopped:
        return
    both = tuple((one, checked.get(one.id)) for one in active)
    groups: list[tuple[str, list[Group]]] = []
    for column, of in groups_of_run(snapshot).items():
        if 1 < len(of) <= MOST_GROUPS and len(groups) < MOST_COLUMNS:
            groups.append((column, of))
    results = RunResults(
        judged,
        record.image_set,
        record.classes,
        judged.figures(list(snapshot.figures.top_k)),
        record.answers.reasons,
        record.families,
        deep,
        threshold=record.threshold,
        kind_source=record.answers.kind_source,
    )
    told = ReportInputs(
        path.stem,
        criteria,
        claim,
        both,
        checks,
        deep,
        compared,
        curves,
        problem,
        groups,
        len(judged.suspected_labels().positions),
        day or date.today(),
        metrics(results),
    )
    report = gather(ground, told, wanted)
    pictures: Mapping[str, ReportPicture] = {}
    for made in pictures_of(report, ground):
        if isinstance(made, Progress):
            yield Making("pictures", made)
        else:
            pictures = made
    if current_stop().stopped:
        return
    yield AssembledReport(report, ground, told, pictures, criteria, both)


def _training(log: KeptLog | None, study: Path, allowed: Sequence[Path]) -> tuple[Training | None, str]:
    """What a model's training log says, or why it says nothing."""
    if log is None:
        return None, ""
    try:
        return training(*read_kept_log(log, study, allowed)), ""
    except InputError as error:
        return None, f"The training log says nothing: {error.line()}"


def write_report(made: AssembledReport, path: Path, pdf: bytes | None = None) -> list[Path]:
    """Write one file of a report, of the kind that its name ends with: HTML, PDF (laid out already, or now), JSON, JUnit XML, Markdown,
    or the list of its images as CSV; beside pages that have no room for that list, the list too. All that was written
    is returned. InputError where it ends otherwise or cannot be written."""
    check_ending(path)
    ending, written = path.suffix.lower(), [path]
    if ending == ".html":
        write_whole(path, made.html())
    elif ending == ".pdf":
        write_whole(path, made.pdf() if pdf is None else pdf)
    elif ending == ".json":
        write_whole(
            path,
            json.dumps(report_data(made.report, made.ground, made.told), indent=1, ensure_ascii=False, allow_nan=False)
            + "\n",
        )
    elif ending == ".xml":
        write_whole(path, as_junit(made.report.title, made.cases()))
    elif ending == ".csv":
        write_whole(path, images_table(made.ground))
    else:
        write_whole(path, as_card(made.report))
    if ending in (".html", ".pdf") and made.report.images_total > MOST_LISTED and made.report.has("repeating"):
        written.append(beside(path))
        write_whole(written[-1], images_table(made.ground))
    return written


def check_ending(path: Path) -> None:
    """InputError where no report can be written under this name."""
    if path.suffix.lower() not in ENDINGS:
        raise InputError(
            f"ends with {path.suffix or 'nothing'!r}",
            where=path,
            hint=f"name a file that ends with one of {', '.join(ENDINGS)}",
        )


def _key(ground: EvaluationContext) -> str:
    return f"report of {ground.model[:32]} on {ground.images[:32]}"


def load_wanted(study: Study, ground: EvaluationContext) -> ReportChoices:
    """What was wanted of the report of a run, as the study keeps it."""
    text = load_setting(study, _key(ground))
    try:
        data = json.loads(text or "{}")
        chosen = tuple(one for one in data["sections"] if one in SECTIONS)
        against = data.get("against")
        if against is not None:
            against = tuple(OtherRun(_run_of(one["run"]), bool(one["baseline"])) for one in against)
        return ReportChoices(chosen or tuple(SECTIONS), str(data["author"]), str(data["summary"]), against)
    except (KeyError, TypeError, ValueError, AttributeError):
        return ReportChoices()


def keys_of_runs(study: Study) -> dict[int, tuple[str, str, str, str]]:
    """What each run of a study is of, by its number."""
    found = {}
    for info in list_runs(study):
        _, *key = load_run(study, info.id, with_answers=False).key
        found[info.id] = (key[0], key[1], key[2], key[3])
    return found


def runs_against(path: Path, against: Sequence[OtherRun]) -> list[ComparedWith]:
    """The runs that a report is to compare with, as far as the study still has them."""
    with Study.open(path, again=True) as study:
        numbers = {key: number for number, key in keys_of_runs(study).items()} if against else {}
    return [ComparedWith(read_snapshot(path, numbers[one.run]), one.baseline) for one in against if one.run in numbers]


def _run_of(data: Any) -> tuple[str, str, str, str]:
    model, recipe, images, classes = map(str, data)
    return model, recipe, images, classes


def save_wanted(study: Study, ground: EvaluationContext, wanted: ReportChoices) -> None:
    """Keep what is wanted of the report of a run."""
    told: dict[str, Any] = {"sections": list(wanted.sections), "author": wanted.author, "summary": wanted.summary}
    if wanted.against is not None:
        told["against"] = [{"run": list(one.run), "baseline": one.baseline} for one in wanted.against]
    save_setting(study, _key(ground), json.dumps(told, ensure_ascii=False))
