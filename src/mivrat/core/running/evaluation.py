"""One evaluation: a model scores an image set, into memory and, where there is one, into a study."""

from __future__ import annotations

from collections.abc import Iterator

from mivrat.core.models.onnx_model import OnnxModel
from mivrat.core.pictures.image_sets import ImageSet
from mivrat.core.running.answers import Answers
from mivrat.core.running.job import Meter, Progress, StopSignal
from mivrat.core.running.scoring import score_images
from mivrat.core.study.study import Study


class Evaluation:
    """A stoppable, resumable run; what a study holds already is not scored again."""

    def __init__(self, model: OnnxModel, image_set: ImageSet, study: Study | None = None) -> None:
        self.model = model
        self.image_set = image_set
        self.study = study
        kind = model.recipe.scores.kind
        settled = None if kind == "auto" else kind
        self.run_id: int | None = None
        self.answers = Answers(len(image_set.items), model.columns, settled)
        if study is not None:
            self.run_id = study.add_run(study.add_model(model), study.add_image_set(image_set), model.columns, settled)
            self.answers = study.load_run(self.run_id).answers

    def run(self, stop: StopSignal | None = None, batch_size: int = 32, threads: int = 0) -> Iterator[Progress]:
        """Score what is pending, yielding progress after each batch; every batch is kept before it is told of."""
        listed = len(self.image_set.items)
        todo = self.answers.pending
        meter = Meter(listed, listed - len(todo))
        yield meter.at(listed - len(todo))
        files = [self.image_set.file(i) for i in range(listed)]
        done = listed - len(todo)
        for batch in score_images(
            files, [int(i) for i in todo], self.model, batch_size=batch_size, threads=threads, stop=stop
        ):
            self.answers.add(batch)
            if self.study is not None and self.run_id is not None:
                self.study.save_batch(self.run_id, batch, self.answers)
            done += len(batch.scored) + len(batch.unreadable)
            yield meter.at(done)
