"""One evaluation: a model scores an image set, into memory and, where there is one, into a study."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from mivrat.core.answers.answers import FAILED, PENDING, SCORED, UNREADABLE, Answers, dtype_of, kind_source_of
from mivrat.core.answers.judging import Judging, units_in
from mivrat.core.answers.remote_scoring import ask_images, remote_of
from mivrat.core.answers.scoring import ScoredBatch, score_images
from mivrat.core.answers.where import Where
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import Meter, Progress, current_stop, until_stopped
from mivrat.core.models.model import Model
from mivrat.core.models.prediction_table import NO_ROW
from mivrat.core.models.scores import doubtful_scores
from mivrat.core.pictures.containers import picture_stat, root_is_there
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.running.loading import keep_judged
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import add_image_set, forget_images, load_stamps, save_unit_column
from mivrat.core.study.kept_answers import contents_answered, copy_answer, save_batch, save_looked_up
from mivrat.core.study.kept_properties import contents_measured
from mivrat.core.study.models import add_model
from mivrat.core.study.records import RunRecord
from mivrat.core.study.runs import add_run, load_run
from mivrat.core.study.score_files import begin_score_file
from mivrat.core.study.settings import load_setting, save_setting

# The version that gave a service's answers, where only its answers tell it.
_VERSION = "version of model {}"


class Evaluation:
    """A stoppable, resumable run. An image whose content this model has scored before, by this recipe, is not scored again:
    not in this run, and not where another set of the study holds the same picture."""

    def __init__(
        self,
        model: Model,
        image_set: ImageSet,
        study: Study | None = None,
        where: Where | None = None,
        measuring: bool = False,
    ) -> None:
        """What photos are is measured where a study keeps it, or where it is asked for with ``measuring``."""
        self.model = model
        self.image_set = image_set
        self.study = study
        # A cluster, say; None stands for this process.
        self.where = where
        self._measuring = measuring or study is not None
        settled, kind_source = model.settled, kind_source_of(model.kind, model.recipe)
        self.run_id: int | None = None
        # Images that could not be read before and are tried again.
        self.tried_again = 0
        self.answers = Answers(
            len(image_set.items), model.columns, settled, model.class_count, kind_source, dtype_of(model.kind)
        )
        self.remote = remote_of(model)
        self.unanswered: dict[int, str] = {}
        self._failed_before: set[int] = set()
        self._model_id = 0
        self._record: RunRecord | None = None
        self._position_of: dict[bytes, int] = {}
        self._elsewhere: set[bytes] = set()
        if study is not None:
            self._model_id = add_model(study, model)
            self.run_id = add_run(study, self._model_id, add_image_set(study, image_set), model.columns, settled)
            begin_score_file(study, self.run_id, len(image_set.items), model.columns, model.row_dtype)
            record = load_run(study, self.run_id, to_go_on=True)
            if image_set.unit_column:
                save_unit_column(study, record.info.set_id, image_set.unit_column)
            elif record.image_set.unit_column:
                self.image_set = image_set = replace(image_set, unit_column=record.image_set.unit_column)
            self._record, self.answers = record, record.answers
            if self.answers.has_strays and isinstance(self.answers.rows, np.memmap):
                self.answers.rows.flush()  # what other runs answered is in this one's file now
                self.answers.has_strays = False
            self.answers.kind_source = kind_source
            if kind_source == "guess":
                self.answers.look_at_all()
            if model.kind.can.scores:
                self._try_again(study, record.info.set_id)
                answered = self.answers.state != PENDING
                stamps = load_stamps(study, record.info.set_id)
                self._position_of = {stamp.content: i for i, stamp in stamps.items() if answered[i]}
                known = contents_answered(study, self._model_id, failed=self.remote is None)
                self._elsewhere = known - set(self._position_of)
            if self.remote is not None and (version := load_setting(study, _VERSION.format(self._model_id))):
                self.remote.expect_version(version)
        self.judging = Judging(self.answers, image_set.labels, units_in(image_set))

    def _try_again(self, study: Study, set_id: int) -> None:
        """Take what could not be read for pending: a file that was not there, or that has changed since; and what a service has
        refused, which another time it may not."""
        stamps, answers, again = load_stamps(study, set_id), self.answers, []
        for i in np.flatnonzero((answers.state == UNREADABLE) | (answers.state == FAILED)).tolist():
            stamp = stamps.get(i)
            if answers.state[i] == FAILED and self.remote is not None:
                self._failed_before.add(i)
                continue
            if stamp is not None and stamp.size >= 0:
                try:
                    about = picture_stat(self.image_set.file(i))
                except OSError:
                    continue
                if about == (stamp.size, stamp.changed):
                    continue
            elif answers.state[i] != UNREADABLE:
                continue
            again.append(i)
        forget_images(study, set_id, again)
        for i in again:
            answers.contents.pop(i, None)
        for i in (*again, *self._failed_before):
            answers.state[i] = PENDING
            answers.reasons.pop(i, None)
        self.tried_again = len(again)

    def run(
        self,
        batch_size: int = 32,
        threads: int = 0,
        only: Sequence[int] | None = None,
    ) -> Iterator[Progress]:
        """Score what is pending (``only``: of these images), yielding progress after each batch; every batch is kept
        before it is told of. InputError where the folder of images goes away meanwhile: that is no fault of the images."""
        listed = len(self.image_set.items) if only is None else len(only)
        todo = self.answers.pending
        if only is not None:
            todo = todo[np.isin(todo, only)]
        done = listed - len(todo)
        if self.remote is not None and len(todo):
            self.remote.may_send(len(todo))
        meter = Meter(listed, done)
        yield meter.at(done)
        if not self.model.kind.can.scores:
            self._look_up()
            self._keep()
            yield meter.at(listed)
            return
        for batch in self._batches(todo.tolist(), batch_size, threads):
            if batch.unreadable and not root_is_there(self.image_set.root):
                raise InputError(
                    "the folder of images is gone; what was scored before is kept",
                    where=self.image_set.root,
                    hint="bring it back, or relocate the image set under Prepare, and go on",
                )
            if batch.images:
                self._take(batch)
            self.unanswered |= batch.unanswered
            done += batch.images
            yield meter.at(done, batch.besides)
        if self.unanswered and not current_stop().stopped:
            number, last = len(self.unanswered), list(self.unanswered.values())[-1]
            raise InputError(
                f"{number} image{'s' if number > 1 else ''} got no answer ({last}); all others are kept",
                where=self.model.path,
                hint="go on to ask for these again",
            )
        self._keep()
        if not len(self.answers.pending) and self.answers.kind_source == "guess" and self.answers.seen.doubtful:
            raise doubtful_scores(self.model.path, self.answers.seen.furthest)

    def _keep(self) -> None:
        """Keep what a complete run says of each image, so that it is shown at once when the study is opened."""
        if self.study is not None and self._record is not None and not len(self.answers.pending):
            keep_judged(self.study, self._record, self.judging)

    def _batches(self, todo: list[int], batch_size: int, threads: int) -> Iterator[ScoredBatch]:
        """The answers for some images, as they come."""
        files = self.image_set.files()
        if self.remote is None:
            if self.where is not None:
                score, known = self.where.score, self._knows
                yield from score(files, todo, self.model, batch_size=batch_size, threads=threads, known=known)
                return
            # Another model of the study has seen these photos.
            measured = contents_measured(self.study) if self.study is not None else set()
            yield from score_images(
                files,
                todo,
                self.model,
                batch_size=batch_size,
                threads=threads,
                known=self._knows,
                measuring=lambda content: self._measuring and content not in measured,
            )
            return
        # What failed before comes last, so that it cannot keep the others from their turn again and again.
        todo = sorted(todo, key=lambda i: i in self._failed_before)
        told = self.remote.version
        for batch in ask_images(files, todo, self.remote, threads=threads, known=self._knows):
            if self.study is not None and self.remote.version != told:
                told = self.remote.version
                save_setting(self.study, _VERSION.format(self._model_id), told)
            yield batch

    def _look_up(self) -> None:
        """Take listed answers over, all at once: nothing has to be worked out for them."""
        at, pieces = self.model.looked_up(self.image_set)
        order = np.argsort(at, kind="stable")
        answers, ordered, first = self.answers, at[order], 0
        judged: list[Future[None]] = []
        with ThreadPoolExecutor(1) as pool:  # judged while the next rows are read
            for rows in until_stopped(pieces):
                begin, end = np.searchsorted(ordered, [first, first + len(rows)])
                # In the order of the images, so that a file is written from its beginning to its end where the table is in that order.
                here = np.sort(order[begin:end])
                found = rows[at[here] - first]
                whole = (
                    np.isfinite(found[:, 0]) if self.model.settled == "prediction" else np.isfinite(found).all(axis=1)
                )
                answers.rows[here] = found
                answers.state[here] = np.where(whole, SCORED, FAILED)
                first += len(rows)
                judged.append(pool.submit(self.judging.update, here))
        for one in judged:
            one.result()
        missing = np.flatnonzero(at < 0)
        answers.rows[missing], answers.state[missing] = np.nan, FAILED
        answers.reasons.update(dict.fromkeys(missing.tolist(), NO_ROW))
        if self.study is not None and self.run_id is not None:
            save_looked_up(self.study, self._model_id, self.image_set, self.answers)

    def _knows(self, content: bytes) -> bool:
        return content in self._position_of or content in self._elsewhere

    def _take(self, batch: ScoredBatch) -> None:
        changed = self.answers.add(batch)
        for index in [*batch.scored.tolist(), *batch.unreadable, *batch.unfit]:
            if (stamp := batch.stamps.get(index)) is not None:
                self._position_of[stamp.content] = index
        for index, content in batch.copies.items():
            self._copy(index, content)
        if self.study is not None and self.run_id is not None:
            save_batch(self.study, self.run_id, self._model_id, batch, self.answers)
        else:
            self.answers.properties |= {batch.stamps[i].content: one for i, one in batch.properties.items()}
        if changed:
            self.judging.update(np.flatnonzero(self.answers.state == SCORED))
        else:
            self.judging.update(np.array([*batch.scored.tolist(), *batch.copies], np.int64))

    def _copy(self, index: int, content: bytes) -> None:
        """Take over the answer that the same content has had."""
        answers, other = self.answers, self._position_of.get(content)
        if other is not None:
            answers.state[index], answers.rows[index] = answers.state[other], answers.rows[other]
            if other in answers.reasons:
                answers.reasons[index] = answers.reasons[other]
            return
        assert self.study is not None
        copy_answer(self.study, self._model_id, content, index, answers)
        self._position_of[content] = index
