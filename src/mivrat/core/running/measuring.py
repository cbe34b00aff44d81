"""Measures the photos of a set that nobody has measured yet; with progress, stoppable, and what is done is kept."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from mivrat.core.base.job import Meter, Progress, current_stop
from mivrat.core.pictures.decode import Stamp, UnreadablePicture, read_file
from mivrat.core.pictures.properties import Values, measure_file
from mivrat.core.study.file import Study
from mivrat.core.study.image_sets import load_image_set, stamp_images
from mivrat.core.study.kept_properties import contents_measured, keep_properties, unmeasured

# So many photos are kept at a time.
_AT_ONCE = 64


def _measure(path: Path, known: set[bytes]) -> tuple[Stamp, Values | None] | None:
    """What a file is, and its photo's properties unless they are known; None where it cannot be read."""
    try:
        file = read_file(path)
        return file.stamp, None if file.stamp.content in known else measure_file(file)
    except (UnreadablePicture, MemoryError):
        return None


def measure_photos(study: Study, set_id: int, threads: int = 0) -> Iterator[Progress]:
    """Measure what is left of a set's photos; unreadable ones are left out. Ends early when stopped."""
    image_set, todo = load_image_set(study, set_id), unmeasured(study, set_id)
    known = contents_measured(study)
    meter = Meter(len(todo))
    yield meter.at(0)
    pool = ThreadPoolExecutor(threads or os.cpu_count(), thread_name_prefix="measure")
    waiting: deque[tuple[int, Future[tuple[Stamp, Values | None] | None]]] = deque()
    upcoming, done = iter(todo), 0
    try:
        while not current_stop().stopped:
            while len(waiting) < 2 * _AT_ONCE and (i := next(upcoming, None)) is not None:
                waiting.append((i, pool.submit(_measure, image_set.file(i), known)))
            if not waiting:
                return
            some = [waiting.popleft() for _ in range(min(_AT_ONCE, len(waiting)))]
            found = {i: one for i, future in some if (one := future.result()) is not None}
            stamp_images(study, set_id, {i: stamp for i, (stamp, _) in found.items()})
            keep_properties(study, [(stamp.content, one) for stamp, one in found.values() if one is not None])
            done += len(some)
            yield meter.at(done)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
