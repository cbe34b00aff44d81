"""What has been worked out about the run shown, beside its figures; topics tell what is new."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mivrat.core.checks.run_checks import KeptResult
from mivrat.core.concluding.criteria import Criterion
from mivrat.core.running.snapshot import Measured, Snapshot
from mivrat.core.running.two_classes import TwoClasses
from mivrat.workspace.topics import Topics


class ShownResults:
    """Results about the run shown. None stands for what is not known yet.

    ``measured`` are the figures of the whole run or of a selection, as the Measure step shows them. ``vectors`` are the images'
    features, N × D. ``tests_kept`` is how many cover tests are kept. ``findings`` is how many findings the study has, and how many
    of them block this run.
    """

    def __init__(self, topics: Topics, snapshot: Snapshot) -> None:
        self._topics = topics
        self.measured = Measured(snapshot.figures, snapshot.mistakes)
        self.findings: tuple[int, int] = (0, 0)
        self._clear()

    def _clear(self) -> None:
        self.checks: dict[str, KeptResult] = {}
        self.vectors: NDArray[np.float32] | None = None
        self.two_classes: tuple[TwoClasses, ...] | None = None
        self.tests_kept: int | None = None
        self.criteria: tuple[Criterion, ...] = ()

    def begin_anew(self) -> None:
        """Another run is shown: nothing is known of it yet. Findings are the study's, and stay."""
        self._clear()
        for topic in (self._topics.run, self._topics.checks, self._topics.criteria, self._topics.tests_kept):
            topic.emit()

    def set_measured(self, measured: Measured) -> None:
        """Show these figures in the Measure step."""
        self.measured = measured
        self._topics.measured.emit()

    def set_check(self, found: KeptResult) -> None:
        """Take over what one check has found."""
        self.checks = {**self.checks, found.result.name: found}
        self._topics.checks.emit()

    def set_vectors(self, vectors: NDArray[np.float32]) -> None:
        """Take over the images' features, N × D."""
        self.vectors = vectors
        self._topics.features.emit()

    def set_two_classes(self, found: tuple[TwoClasses, ...] | None) -> None:
        """Take over which images have more than one plausible class; None: nobody has looked."""
        self.two_classes = found
        self._topics.two_classes.emit()

    def set_tests_kept(self, number: int | None) -> None:
        """Take over how many cover tests are kept of the run shown; None: not known."""
        if number != self.tests_kept:
            self.tests_kept = number
            self._topics.tests_kept.emit()

    def set_criteria(self, criteria: tuple[Criterion, ...]) -> None:
        """Take over how the criteria of the model shown stand."""
        self.criteria = criteria
        self._topics.criteria.emit()

    def set_findings(self, number: int, blocking: int) -> None:
        """Take over how many findings there are, and how many of them block the run shown."""
        if (number, blocking) != self.findings:
            self.findings = number, blocking
            self._topics.findings.emit()
