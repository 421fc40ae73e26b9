"""What one request set off, told apart: its id stands in every line of the log, in problems and in webhooks.

W3C Trace Context, level 1: whoever asks may say which trace a request belongs to (``traceparent``); the id of
the trace is the request's id here. Where a collector is named, what takes its time is told it as spans, by
OpenTelemetry's protocol (OTLP over HTTP); without one nothing of it is loaded.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

import structlog

_NAME = "request"
_TRACEPARENT = re.compile(
    r"(?!ff)[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-(?!0{16})([0-9a-f]{16})-[0-9a-f]{2}(?:-.*)?\Z"
)
#: Milliseconds for which spans are gathered before they are sent.
_GATHERED = 1_000
_tracer: Any = None


Facts = Mapping[str, str | int | float | bool]


class NoCollector(Exception):
    """Spans are to be sent, and what sends them is not installed."""

    def __init__(self) -> None:
        super().__init__(
            "PLUMCRATE_TRACE_TO names a collector, and what tells it is missing: "
            "pip install 'plumcrate[tracing]', or leave the setting out"
        )


class Span:
    """What is told of something that takes its time; of nothing where nobody listens."""

    def __init__(self, told: Any = None) -> None:
        self._told = told

    def say(self, facts: Facts, name: str | None = None) -> None:
        """Facts by the names of OpenTelemetry's conventions, or ours; and a better name for it."""
        if self._told is None:
            return
        if name is not None:
            self._told.update_name(name)
        self._told.set_attributes(facts)


def tell(collector: str | None, program: str) -> None:
    """From now on the spans of this process are sent to ``collector``, the address of an OTLP receiver; None:
    to nobody. Raises :class:`NoCollector`."""
    global _tracer
    if collector is None:
        return
    try:
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
        from opentelemetry.sdk.resources import Resource
        from opentelemetry.sdk.trace import TracerProvider
        from opentelemetry.sdk.trace.export import BatchSpanProcessor
        from opentelemetry.sdk.trace.id_generator import RandomIdGenerator
    except ImportError:
        raise NoCollector from None

    class Ids(RandomIdGenerator):
        """A request's spans bear the request's id."""

        def generate_trace_id(self) -> int:
            known = current()
            return int(known, 16) if known else super().generate_trace_id()

    resource = Resource.create({"service.name": f"plumcrate-{program}"})
    provider = TracerProvider(resource=resource, id_generator=Ids())
    sent = OTLPSpanExporter(endpoint=f"{collector.rstrip('/')}/v1/traces", timeout=5)
    provider.add_span_processor(BatchSpanProcessor(sent, schedule_delay_millis=_GATHERED))
    _tracer = provider.get_tracer("plumcrate")


@contextmanager
def span(name: str, facts: Facts, within: str | None = None) -> Iterator[Span]:
    """Something that takes its time, within what is under way in the same context or, of a request that
    begins, within the span that its ``traceparent`` names."""
    if _tracer is None:
        yield Span()
        return
    from opentelemetry import trace as telemetry

    context = None
    if (named := _TRACEPARENT.match(within or "")) is not None:
        parent = telemetry.SpanContext(
            int(named[1], 16), int(named[2], 16), is_remote=True, trace_flags=telemetry.TraceFlags(1)
        )
        context = telemetry.set_span_in_context(telemetry.NonRecordingSpan(parent))
    with _tracer.start_as_current_span(name, context=context) as told:
        made = Span(told)
        made.say(facts)
        yield made


def begin(traceparent: str | None) -> str:
    """The id of a request that begins: of the trace that it names, else a new one. What is logged from now on
    in the same context bears it."""
    named = _TRACEPARENT.match(traceparent or "")
    trace = secrets.token_hex(16) if named is None else named[1]
    structlog.contextvars.bind_contextvars(**{_NAME: trace})
    return trace


def current() -> str | None:
    """The id of the request that is answered; None outside of any."""
    trace: str | None = structlog.contextvars.get_contextvars().get(_NAME)
    return trace


def traceparent(trace: str | None) -> str:
    """The header for what is asked of others on behalf of a request; None: on behalf of none."""
    return f"00-{trace or secrets.token_hex(16)}-{secrets.token_hex(8)}-01"
