"""Figures of what is served, for whoever watches from outside: OpenMetrics over all server processes."""

import os
from collections.abc import Mapping

from prometheus_client import CollectorRegistry, Counter, Histogram, multiprocess
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

# Where processes keep their figures for each other; it is read when the library is imported.
FOLDER = "PROMETHEUS_MULTIPROC_DIR"
BUCKETS = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 30)
TYPE = CONTENT_TYPE_LATEST


class Watched:
    """Counters and times of this process."""

    def __init__(self) -> None:
        self._registry = CollectorRegistry()
        self._questions = Counter(
            "doppio_questions",
            "Questions by what became of them.",
            ["name", "kind", "outcome"],
            registry=self._registry,
        )
        self._seconds = Histogram(
            "doppio_stage_seconds", "Seconds that a stage took; all is the whole question.", ["name", "stage"],
            buckets=BUCKETS, registry=self._registry,
        )  # fmt: skip

    def served(self, name: str, kind: str, seconds: Mapping[str, float], filled: bool) -> None:
        """A question that was answered, with passages or without."""
        self._questions.labels(name, kind, "answered" if filled else "empty").inc()
        for stage, took in seconds.items():
            self._seconds.labels(name, stage).observe(took)

    def refused(self, name: str) -> None:
        """One that had to come back later."""
        self._questions.labels(name, "any", "refused").inc()

    def failed(self, name: str) -> None:
        """One that ended in an error."""
        self._questions.labels(name, "any", "failed").inc()

    def told(self) -> bytes:
        """The figures of all processes as OpenMetrics text."""
        registry = self._registry
        if os.environ.get(FOLDER):
            registry = CollectorRegistry()
            multiprocess.MultiProcessCollector(registry)
        return bytes(generate_latest(registry))


watched = Watched()
