"""A Dask cluster as the place where images are worked on: blocks go out to its workers, and what they give comes back in order."""

from __future__ import annotations

import itertools
import logging
import secrets
import signal
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from mivrat.cluster.blocks import (
    Block,
    Done,
    Lacking,
    ModelRef,
    Refused,
    Scoring,
    blocks_of,
    model_ref,
    work_on_block,
)
from mivrat.core.answers.scoring import ScoredBatch
from mivrat.core.answers.where import BlockWork
from mivrat.core.base.errors import InputError
from mivrat.core.base.job import current_stop
from mivrat.core.models.model import Model
from mivrat.core.models.onnx_model import OnnxModel

log = logging.getLogger(__name__)
# Batches in a block: what is lost with a worker, and asked of the scheduler at a time.
BATCHES = 4
# Blocks under way for each worker, so that none waits for the client; seconds to wait for a scheduler and for workers.
AHEAD, PATIENCE = 2, 30.0
# So often a block is begun again where what it was given went with a worker.
TRIES = 4
Result = TypeVar("Result")


@contextmanager
def connected(address: str) -> Iterator[DaskCluster]:
    """The cluster behind a scheduler (``tcp://host:port``, ``tls://host:port``), or ``local:N``: N processes on this machine.

    Raises InputError where nothing answers there, or where the engine is not installed.
    """
    try:
        distributed: Any = import_module("distributed")
    except ImportError as error:
        raise InputError(
            "needs dask.distributed, which is not installed", where="--cluster", hint="install mivrat[cluster]"
        ) from error
    logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what the user is told is said here
    local = None
    try:
        if address.startswith("local:"):
            number = address.removeprefix("local:")
            if not number.isdigit() or not 0 < int(number) <= 256:
                raise InputError(
                    "is not local:N with N from 1 to 256", where=f"--cluster {address}", hint="such as local:4"
                )
            try:
                with _interrupts_ignored():
                    local = distributed.LocalCluster(
                        n_workers=int(number),
                        threads_per_worker=1,
                        dashboard_address="127.0.0.1:0",
                        host="127.0.0.1",
                        security=True,  # no other user of this machine may send it work
                        silence_logs=logging.CRITICAL,
                    )
            except (OSError, RuntimeError) as error:
                raise InputError(
                    f"its processes could not be started ({short(error)})",
                    where=f"--cluster {address}",
                    hint="ask for fewer",
                ) from error
        try:
            client = distributed.Client(local or address, timeout=PATIENCE, set_as_default=False)
        except (OSError, ValueError, TypeError) as error:
            raise InputError(
                f"no scheduler answers there ({short(error)})",
                where=f"--cluster {address}",
                hint="start one, such as: dask scheduler",
            ) from error
        try:
            yield DaskCluster(client, address)
        finally:
            with suppress(Exception):  # a scheduler that is gone cannot be taken leave of
                client.close(timeout=2)
    finally:
        if local is not None:
            local.close(timeout=10)


def short(error: BaseException) -> str:
    """The first line of what an error says."""
    return (str(error).splitlines() or [type(error).__name__])[0][:120]


@contextmanager
def _interrupts_ignored() -> Iterator[None]:
    """Processes that are started meanwhile do not hear Ctrl-C: this one does, and calls off what they do."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


class DaskCluster:
    """Works on images on the workers of a scheduler. Which worker has a block, how often it is begun again, and in which order blocks
    end changes nothing of what comes back."""

    def __init__(self, client: Any, address: str, batches: int = BATCHES) -> None:
        self._client, self._address, self._batches = client, address, batches
        # The engine takes what has one key for one piece of work: no key is used twice, by this client or another.
        self._client_id, self._asked = secrets.token_hex(4), itertools.count()
        # What has turned out to be missing on some worker, and is sent with every block from then on.
        self._lacking = Lacking(model=False, images=False)
        self._model_sent: Any = None
        self._counted: tuple[float, int] = (-1.0, 0)

    @property
    def workers(self) -> int:
        """How many workers there are, asked once a second."""
        now = time.monotonic()
        if now > self._counted[0] + 1:
            try:
                self._counted = now, len(self._client.nthreads())
            except (OSError, RuntimeError, CancelledError) as error:
                raise self._lost(error) from error
        return self._counted[1]

    def score(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Model,
        *,
        batch_size: int,
        threads: int,
        known: Callable[[bytes], bool],
    ) -> Iterator[ScoredBatch]:
        """As ``Where`` has it; ``threads`` are those of each worker (0: as many as it was started with)."""
        in_block = batch_size * self._batches
        for found in self.work(files, todo, model, lambda _: Scoring(batch_size), in_block=in_block, threads=threads):
            for batch in found:
                yield replace(_without_known(batch, known), besides=f"{self.workers} workers")

    def work(
        self,
        files: Sequence[Path],
        todo: Sequence[int],
        model: Model,
        work_for: Callable[[Sequence[int]], BlockWork[Result]],
        *,
        in_block: int,
        threads: int = 0,
    ) -> Iterator[Result]:
        """As ``Where`` has it; ``threads`` as for ``score``."""
        assert isinstance(model, OnnxModel), f"{model.kind.called} is not a file that workers can load"
        if not self.wait_for_workers():
            return
        self._model_sent = None  # what was sent before was another model, perhaps
        asked = _Asked(model_ref(model), work_for, threads)
        waiting = blocks_of(files, todo, in_block)
        under_way: deque[tuple[Block, Any]] = deque()
        try:
            while not current_stop().stopped:
                for block in itertools.islice(waiting, max(0, AHEAD * max(1, self.workers) - len(under_way))):
                    under_way.append((block, self._submit(asked, block)))
                if not under_way:
                    return
                block, future = under_way.popleft()
                found = self._result(asked, block, future)
                if found is None:
                    return
                yield found.result
        finally:
            for _, future in under_way:
                with suppress(Exception):  # of a scheduler that is gone there is nothing to call off
                    future.cancel()

    @property
    def _where(self) -> str:
        return f"--cluster {self._address}"

    def wait_for_workers(self) -> int:
        """How many workers there are, once there is one; 0 where it was stopped before. InputError where none comes."""
        began = time.monotonic()
        while not self.workers and not current_stop().stopped:
            if time.monotonic() - began > PATIENCE:
                hint = f"start one, such as: dask worker {self._address}"
                raise InputError("the scheduler has no worker", where=self._where, hint=hint)
            current_stop().wait(0.2)
        return self.workers

    def _submit(self, asked: _Asked, block: Block) -> Any:
        sent = None
        if self._lacking.model:
            if self._model_sent is None:
                contents = {path: Path(path).read_bytes() for path, _ in asked.model.files}
                # As one of a list it is known by what it is; as a dictionary each part would be known by its path alone.
                self._model_sent = self._client.scatter([contents], hash=True)[0]
            sent = self._model_sent
        images = _contents(block) if self._lacking.images else None
        try:
            return self._client.submit(
                _on_worker,
                asked.model,
                block,
                asked.work_for(block.places),
                asked.threads,
                sent,
                images,
                key=f"work-{self._client_id}-{next(self._asked)}-block-{block.number}",
                pure=False,
            )
        except (OSError, RuntimeError, CancelledError) as error:
            raise self._lost(error) from error

    def _result(self, asked: _Asked, block: Block, future: Any) -> Done[Any] | None:
        """What a worker has found; None where it was stopped meanwhile."""
        from distributed.scheduler import KilledWorker

        tries = 0
        while True:
            alone = time.monotonic()
            while not future.done():
                if current_stop().stopped:
                    future.cancel()
                    return None
                if self._client.status != "running":
                    raise self._lost(None)
                if self.workers:
                    alone = time.monotonic()
                elif time.monotonic() - alone > PATIENCE:
                    raise InputError(
                        f"has no worker any more, at {block.name}; what was scored is kept",
                        where=self._where,
                        hint="start workers, and the same command with --study goes on",
                    )
                current_stop().wait(0.02)
            try:
                found = future.result()
            except KilledWorker as error:
                raise InputError(
                    f"{block.name} has ended every worker that it was given to; what was scored is kept",
                    where=self._where,
                    hint="see the workers' logs; they may lack memory",
                ) from error
            except (CancelledError, OSError) as error:
                tries += 1
                if self._client.status != "running" or tries > TRIES:
                    raise self._lost(error) from error
                # The worker that held the model, as it was sent, has ended: it is sent again.
                log.info("%s is begun again: %s", block.name, error)
                self._model_sent = None
                future = self._submit(asked, block)
                continue
            if isinstance(found, Refused):
                raise found.error
            if isinstance(found, Done):
                return found
            log.info("%s: a worker lacks %s", block.name, "the model" if found.model else "the images")
            self._lacking = Lacking(self._lacking.model or found.model, self._lacking.images or found.images)
            future = self._submit(asked, block)

    def _lost(self, error: BaseException | None) -> InputError:
        log.info("the scheduler is lost: %s", error)
        return InputError(
            "the scheduler does not answer any more; what was scored is kept",
            where=self._where,
            hint="start it again, and the same command with --study goes on",
        )


@dataclass(frozen=True)
class _Asked:
    """What is asked of workers; ``threads`` 0: as many as a worker was started with."""

    model: ModelRef
    work_for: Callable[[Sequence[int]], BlockWork[Any]]
    threads: int


def _on_worker(
    ref: ModelRef, block: Block, work: BlockWork[Any], threads: int, sent_model: Any, sent_images: Any
) -> Any:
    from distributed import get_worker

    return work_on_block(ref, block, work, threads or get_worker().state.nthreads, sent_model, sent_images)


def _contents(block: Block) -> dict[int, bytes]:
    """The files of a block's images, as far as they can be read here."""
    found = {}
    for i, path in zip(block.places, block.paths, strict=True):
        with suppress(OSError, ValueError):
            found[i] = Path(path).read_bytes()
    return found


def _without_known(batch: ScoredBatch, known: Callable[[bytes], bool]) -> ScoredBatch:
    """The same batch where images whose content was answered before are copies: a block does not know of those before it."""
    again = {i: stamp.content for i, stamp in batch.stamps.items() if i not in batch.copies and known(stamp.content)}
    if not again:
        return batch
    keep = np.array([i not in again for i in batch.scored.tolist()], bool)
    return replace(
        batch,
        scored=batch.scored[keep],
        rows=batch.rows[keep],
        unreadable={i: one for i, one in batch.unreadable.items() if i not in again},
        unfit={i: one for i, one in batch.unfit.items() if i not in again},
        copies={**batch.copies, **again},
    )
