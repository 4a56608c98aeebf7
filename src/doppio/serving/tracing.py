"""Questions as traces of OpenTelemetry, for whoever collects them: one span a question, one a stage.

Nothing is sent unless the standard variable OTEL_EXPORTER_OTLP_ENDPOINT, or that for traces alone, says where to.
"""

import os
import time
from collections.abc import Mapping
from functools import cached_property
from typing import TYPE_CHECKING

# The rest is imported by those who collect traces: it takes a start a tenth of a second.
if TYPE_CHECKING:
    from opentelemetry.sdk.trace import SpanProcessor
    from opentelemetry.trace import Tracer

VARIABLES = ("OTEL_EXPORTER_OTLP_ENDPOINT", "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT")
SERVICE = "doppio"
WHOLE = "all"


class Tracing:
    """Sends spans; what sends them begins with the first question of a process, and not before it is forked."""

    def __init__(self, processor: "SpanProcessor | None" = None) -> None:
        self._processor = processor

    @property
    def wanted(self) -> bool:
        """Whether somebody collects traces."""
        return self._processor is not None or any(os.environ.get(name) for name in VARIABLES)

    @cached_property
    def _tracer(self) -> "Tracer":
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
        from opentelemetry.sdk.resources import Resource
        from opentelemetry.sdk.trace import TracerProvider
        from opentelemetry.sdk.trace.export import BatchSpanProcessor

        name = os.environ.get("OTEL_SERVICE_NAME", SERVICE)
        provider = TracerProvider(resource=Resource.create({"service.name": name}))
        provider.add_span_processor(self._processor or BatchSpanProcessor(OTLPSpanExporter()))
        return provider.get_tracer("doppio.serving")

    def question(
        self, name: str, kind: str, request: str, recipe: str, seconds: Mapping[str, float], pieces: int,
        sent: Mapping[str, str],
    ) -> None:  # fmt: skip
        """A question that has been answered just now.

        Parameters
        ----------
        seconds : mapping of stage to seconds, in the order in which they came; "all" is the whole
        sent : mapping of str
            Headers of the request; `traceparent` says which trace it belongs to.
        """
        if not self.wanted:
            return
        from opentelemetry import trace
        from opentelemetry.propagate import extract

        end = time.time_ns()
        begun = end - int(seconds.get(WHOLE, 0.0) * 1e9)
        about: dict[str, str | int] = {
            "doppio.name": name, "doppio.kind": kind, "doppio.request": request, "doppio.recipe": recipe,
            "doppio.passages": pieces,
        }  # fmt: skip
        context = extract({key.lower(): value for key, value in sent.items()})
        span = self._tracer.start_span(
            f"doppio {kind}", context, trace.SpanKind.SERVER, attributes=about, start_time=begun
        )
        within, at = trace.set_span_in_context(span), begun
        for stage, took in seconds.items():
            if stage != WHOLE:
                own = self._tracer.start_span(stage, within, start_time=at)
                at += int(took * 1e9)
                own.end(min(at, end))
        span.end(end)


tracing = Tracing()
