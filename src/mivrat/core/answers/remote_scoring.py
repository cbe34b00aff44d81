"""Asks a model that runs elsewhere for images one by one, many at a time; pictures are prepared ahead, with bounded memory."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol, cast

import numpy as np
from numpy.typing import NDArray

from mivrat.core.answers.scoring import MOST_HELD, ScoredBatch
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import StopSignal, current_stop
from mivrat.core.models.model import Model
from mivrat.core.models.service.client import RequestCounts
from mivrat.core.models.service.model import ServiceAnswers
from mivrat.core.models.service.pictures import Payload
from mivrat.core.pictures.decode import PictureFile, Stamp, UnreadablePicture, read_file

# What was answered is told of, and kept, at least so often.
SECONDS, IMAGES = 0.4, 64
# After so many requests in a row that came to nothing, for no fault of their images, the next would fare no better: so many
# where nothing was answered before, so many otherwise.
VAIN_AT_FIRST, VAIN = 8, 40


class Remote(Protocol):
    """What asking takes of a model."""

    path: Path
    columns: int

    @property
    def at_once(self) -> int: ...

    @property
    def per_request(self) -> int: ...

    @property
    def tally(self) -> RequestCounts: ...

    def payload(self, file: PictureFile) -> Payload: ...

    @property
    def version(self) -> str: ...

    @property
    def in_words(self) -> str: ...

    def expect_version(self, version: str) -> None: ...

    def misfit(self, shape: tuple[int, ...]) -> str: ...

    def may_send(self, images: int, requests: int | None = None) -> None: ...

    def ask(self, images: Sequence[Payload]) -> Future[ServiceAnswers]: ...

    def remember(self, images: Sequence[Payload], rows: NDArray[np.float32]) -> None: ...


def remote_of(model: Model) -> Remote | None:
    """A model as one that is asked over the network; None for one that is not."""
    return cast(Remote, model) if model.kind.can.asked else None


@dataclass(frozen=True)
class _Ready:
    """A picture file as it can be sent; without ``payload`` its content is known already, or ``problem`` tells why it cannot."""

    stamp: Stamp | None
    payload: Payload | None = None
    problem: str = ""


@dataclass
class _Group:
    """Images that go in one request."""

    images: list[int]
    contents: list[bytes]
    payloads: list[Payload]


@dataclass
class _Found:
    """What was found since the last batch was told of."""

    scored: list[int] = field(default_factory=list)
    rows: list[NDArray[np.float32]] = field(default_factory=list)
    payloads: list[Payload] = field(default_factory=list)
    unreadable: dict[int, str] = field(default_factory=dict)
    stamps: dict[int, Stamp] = field(default_factory=dict)
    copies: dict[int, bytes] = field(default_factory=dict)
    unfit: dict[int, str] = field(default_factory=dict)
    unanswered: dict[int, str] = field(default_factory=dict)

    def __len__(self) -> int:
        parts = (self.scored, self.unreadable, self.copies, self.unfit, self.unanswered)
        return sum(len(one) for one in parts)

    def batch(self, columns: int, besides: str) -> ScoredBatch:
        rows = np.concatenate(self.rows) if self.rows else np.zeros((0, columns), np.float32)
        told = {
            i: self.stamps[i]
            for i in (*self.scored, *self.unreadable, *self.copies, *self.unfit, *self.unanswered)
            if i in self.stamps
        }
        order = np.argsort(np.array(self.scored, np.int64), kind="stable")
        return ScoredBatch(
            np.array(self.scored, np.int64)[order],
            rows[order],
            self.unreadable,
            told,
            self.copies,
            self.unfit,
            self.unanswered,
            besides,
        )


def ask_images(
    files: Sequence[Path],
    todo: Sequence[int],
    model: Remote,
    *,
    threads: int = 0,
    known: Callable[[bytes], bool] = lambda content: False,
) -> Iterator[ScoredBatch]:
    """Ask for ``files[i]`` for each i in ``todo``, yielding what was answered every now and then, in whatever order it came; ends
    early when stopped, and calls off what is on its way.

    The same content is asked for once: its copies follow when it has been answered. Raises InputError, when all that was answered has
    been told of, where the service may not be asked any more, or where nothing but failures come back.
    """
    return _Asking(files, todo, model, threads, current_stop(), known).run()


class _Asking:
    def __init__(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Remote,
        threads: int,
        stop: StopSignal,
        known: Callable[[bytes], bool],
    ) -> None:
        self.files, self.model, self.stop, self.known = files, model, stop, known
        self.upcoming = iter(todo)
        self.threads = threads or os.cpu_count() or 1
        self.pool = ThreadPoolExecutor(self.threads, thread_name_prefix="prepare")
        self.preparing: deque[tuple[int, Future[_Ready]]] = deque()
        self.asked: dict[Future[ServiceAnswers], _Group] = {}
        self.group = _Group([], [], [])
        # Copies of what is on its way, by content; and what was answered, though it may not have been taken in yet.
        self.waiting: dict[bytes, list[int]] = {}
        self.answered: set[bytes] = set()
        self.found = _Found()
        self.stamps: dict[int, Stamp] = {}
        self.vain, self.any_answer = 0, False
        self.largest = 0
        self.before = self._counts()
        # Enough that a request can follow as soon as one is answered.
        self.ahead = 2 * model.at_once

    def run(self) -> Iterator[ScoredBatch]:
        told = time.monotonic()
        error: InputError | None = None
        try:
            with self.stop.calling(self._call_off):
                while not self.stop.stopped and self._go_on():
                    waited = time.monotonic() - told
                    if len(self.found) >= IMAGES or waited > (SECONDS if len(self.found) else 5 * SECONDS):
                        yield self._told()
                        told = time.monotonic()
        except InputError as failed:
            error = failed
        finally:
            self._call_off()
            self.pool.shutdown(wait=False, cancel_futures=True)
        for done in [one for one in self.asked if one.done() and not one.cancelled() and one.exception() is None]:
            with suppress(InputError):
                self._take(done)  # answered in the meantime: not to be asked for again
        if len(self.found):
            yield self._told()
        if error is not None and not self.stop.stopped:
            raise error

    def _call_off(self) -> None:
        for one in list(self.asked):
            one.cancel()

    def _told(self) -> ScoredBatch:
        again, failed = (now - then for now, then in zip(self._counts(), self.before, strict=True))
        words = [f"{again} asked again"] if again else []
        words += [f"{failed} refused or given up"] if failed else []
        self.found.stamps = self.stamps
        if self.found.rows:
            self.model.remember(self.found.payloads, np.concatenate(self.found.rows))
        batch = self.found.batch(self.model.columns, ", ".join(words))
        for i in batch.stamps:
            self.stamps.pop(i, None)
        self.found = _Found()
        return batch

    def _counts(self) -> tuple[int, int]:
        return self.model.tally.again, self.model.tally.failed

    def _go_on(self) -> bool:
        """Send what can be sent and take what has come; false when there is nothing left. Raises InputError."""
        self._prepare_ahead()
        while len(self.asked) < self.ahead and self.preparing and (not self.asked or self.preparing[0][1].done()):
            self._line_up(*self.preparing.popleft())
            self._prepare_ahead()
        if not self.preparing:
            self._send()
        if self.asked:
            some = wait(self.asked, timeout=0.02 if self.preparing else 0.2, return_when=FIRST_COMPLETED)
            for one in some.done:
                self._take(one)
        return bool(self.asked or self.preparing)

    def _prepare_ahead(self) -> None:
        most = self.ahead * self.model.per_request + self.threads
        while len(self.preparing) < most and (
            len(self.preparing) < self.threads or len(self.preparing) * self.largest < MOST_HELD
        ):
            index = next(self.upcoming, None)
            if index is None:
                return
            self.preparing.append((index, self.pool.submit(self._ready, self.files[index])))

    def _ready(self, path: Path) -> _Ready:
        stamp = None
        try:
            file = read_file(path)
            stamp = file.stamp
            return _Ready(stamp) if self.known(stamp.content) else _Ready(stamp, self.model.payload(file))
        except UnreadablePicture as error:
            return _Ready(stamp, None, str(error))
        except MemoryError:
            return _Ready(stamp, None, "cannot be prepared (there is not enough memory)")

    def _line_up(self, index: int, future: Future[_Ready]) -> None:
        """Put an image into the request that is being filled, or tell why it goes into none."""
        made = future.result()
        if made.stamp is not None:
            self.stamps[index] = made.stamp
            content = made.stamp.content
            if content in self.waiting:
                self.waiting[content].append(index)
                return
            if content in self.answered or self.known(content):
                self.found.copies[index] = content
                return
        if made.payload is None or made.stamp is None:
            self.found.unreadable[index] = made.problem
            return
        if not isinstance(made.payload, bytes) and (problem := self.model.misfit(made.payload.shape)):
            self.found.unfit[index] = problem
            return
        self.largest = max(self.largest, _size(made.payload))
        if self.group.payloads and _shape(self.group.payloads[0]) != _shape(made.payload):
            self._send()
        self.waiting[made.stamp.content] = []
        self.group.images.append(index)
        self.group.contents.append(made.stamp.content)
        self.group.payloads.append(made.payload)
        if len(self.group.images) >= self.model.per_request:
            self._send()

    def _send(self) -> None:
        if self.group.images:
            group, self.group = self.group, _Group([], [], [])
            self.asked[self.model.ask(group.payloads)] = group

    def _take(self, future: Future[ServiceAnswers]) -> None:
        group = self.asked.pop(future)
        if future.cancelled():
            return
        answer = future.result()
        if answer.rows is None and not answer.again and len(group.images) > 1 and not self.stop.stopped:
            for index, content, payload in zip(group.images, group.contents, group.payloads, strict=True):
                self.asked[self.model.ask([payload])] = _Group([index], [content], [payload])  # which of them is it?
            return
        for place, (index, content) in enumerate(zip(group.images, group.contents, strict=True)):
            copies = self.waiting.pop(content, [])
            if answer.again:
                self.found.unanswered |= dict.fromkeys((index, *copies), answer.problem)
                continue
            if answer.rows is not None:
                self.found.scored.append(index)
                self.found.rows.append(answer.rows[place : place + 1])
                self.found.payloads.append(group.payloads[place])
            else:
                self.found.unfit[index] = answer.problem
            self.answered.add(content)
            self.found.copies |= dict.fromkeys(copies, content)
        self._refuse_what_is_in_vain(answer)

    def _refuse_what_is_in_vain(self, answer: ServiceAnswers) -> None:
        if answer.rows is not None:
            self.any_answer, self.vain = True, 0
        elif not answer.of_image:
            self.vain += 1
        if self.vain >= (VAIN if self.any_answer else VAIN_AT_FIRST):
            raise InputError(
                f"{self.vain} requests in a row came to nothing; the last: {answer.problem}",
                where=self.model.path,
                hint="see that the service, its description, the recipe and the class list go together, then go on; what was answered is kept",
            )


def _size(payload: Payload) -> int:
    return len(payload) if isinstance(payload, bytes) else int(payload.nbytes)


def _shape(payload: Payload) -> Any:
    return None if isinstance(payload, bytes) else payload.shape
