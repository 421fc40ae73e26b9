"""Figures for a monitoring system, as OpenMetrics text: what the records say, and how requests went here.

The records are asked at most every few seconds, however often somebody scrapes. Several services on one
database say the same of the records, and each its own of requests.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from wsgiref.simple_server import WSGIServer

import structlog
from prometheus_client import (
    CollectorRegistry,
    Gauge,
    GCCollector,
    Histogram,
    ProcessCollector,
    start_http_server,
)
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector
from starlette.types import Message, Scope, Send

from plumcrate.records.database import Database
from plumcrate.records.queries.metrics import Figures, figures

log = structlog.get_logger()

MEDIA_TYPE = CONTENT_TYPE_LATEST
#: The records are asked again after so many seconds.
_FRESH = 5.0
_BUCKETS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30)


class Metrics:
    """The figures of one service."""

    def __init__(
        self,
        database: Database,
        *,
        pool: Database | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """``database`` is asked; of ``pool`` it is told how many of its connections are in use."""
        self._registry = CollectorRegistry()
        ProcessCollector(registry=self._registry)
        GCCollector(registry=self._registry)
        self._seconds = Histogram(
            "plumcrate_request_seconds",
            "Seconds until an answer begins.",
            ("operation", "status"),
            buckets=_BUCKETS,
            registry=self._registry,
        )
        if pool is not None:
            in_use = Gauge(
                "plumcrate_database_connections", "Connections to PostgreSQL in use.", registry=self._registry
            )
            in_use.set_function(pool.connections_in_use)
        self._registry.register(_Records(database, clock))
        self._server: WSGIServer | None = None

    def serve(self, address: str) -> None:
        """Answers at an address of its own, ``host:port``, to everybody who reaches it. Where that cannot be
        had, the log says so and all else goes on."""
        host, _, port = address.rpartition(":")
        try:
            self._server, _ = start_http_server(int(port), host.strip("[]"), registry=self._registry)
        except (OSError, OverflowError) as error:
            log.error("figures are not told at an address of their own", address=address, reason=str(error))

    def close(self) -> None:
        """Answers no longer at the address of its own."""
        if self._server is not None:
            self._server.shutdown()
            self._server.server_close()

    def text(self) -> bytes:
        """All of them now. Blocks while the database is asked."""
        told: bytes = generate_latest(self._registry)  # type: ignore[no-untyped-call]
        return told

    def timing(self, scope: Scope, send: Send) -> Send:
        """``send``, with the time until the answer begins taken down under the operation's own address."""
        began = time.perf_counter()

        async def timed(message: Message) -> None:
            if message["type"] == "http.response.start":
                route = getattr(scope.get("route"), "path_format", None)
                operation = f"{scope['method']} {route}" if route else "other"
                status = f"{message['status'] // 100}xx"
                self._seconds.labels(operation, status).observe(time.perf_counter() - began)
            await send(message)

        return timed


class _Records(Collector):
    """What the records say. Where they cannot be asked, only that is said."""

    def __init__(self, database: Database, clock: Callable[[], float]) -> None:
        self._database, self._clock = database, clock
        self._guard = threading.Lock()
        self._known: tuple[float, Figures | None] | None = None

    def describe(self) -> Iterator[Metric]:
        """Nothing: the names are told with the figures, so that nothing is asked for them at the start."""
        return iter(())

    def collect(self) -> Iterator[Metric]:
        known = self._figures()
        yield GaugeMetricFamily(
            "plumcrate_database_up", "1 when the database answered.", value=float(known is not None)
        )
        if known is not None:
            yield from _families(known)

    def _figures(self) -> Figures | None:
        with self._guard:
            now = self._clock()
            if self._known is None or now - self._known[0] >= _FRESH:
                try:
                    with self._database.begin() as session:
                        self._known = now, figures(session)
                except Exception:  # whatever is wrong, the other figures are told
                    self._known = now, None
            return self._known[1]


def _families(known: Figures) -> Iterator[Metric]:
    yield GaugeMetricFamily("plumcrate_workers", "Worker processes that live.", value=known.workers)
    yield GaugeMetricFamily(
        "plumcrate_children", "Pictures that all workers treat at a time.", value=known.children
    )
    waiting = GaugeMetricFamily("plumcrate_jobs", "Jobs in the queue.", labels=("lane", "state"))
    oldest = GaugeMetricFamily(
        "plumcrate_oldest_job_seconds", "How long the oldest job that waits has waited.", labels=("lane",)
    )
    for lane, todo, doing, age in known.queue:
        waiting.add_metric((lane, "waiting"), todo)
        waiting.add_metric((lane, "in-hand"), doing)
        oldest.add_metric((lane,), age)
    yield waiting
    yield oldest
    files = GaugeMetricFamily("plumcrate_files", "Files on record.", labels=("library", "state"))
    for library, state, count in known.files:
        files.add_metric((library, state), count)
    yield files
    pictures = GaugeMetricFamily("plumcrate_pictures", "Pictures on record.", labels=("library", "state"))
    weights = GaugeMetricFamily(
        "plumcrate_pictures_bytes",
        "Bytes of pictures with their renditions: first, now, and lightest, which a modern browser fetches.",
        labels=("library", "state", "when"),
    )
    for library, state, count, before, now, lightest in known.pictures:
        pictures.add_metric((library, state), count)
        for when, size in (("first", before), ("now", now), ("lightest", lightest)):
            weights.add_metric((library, state, when), size)
    yield pictures
    yield weights
    treated = CounterMetricFamily(
        "plumcrate_treated_files", "Files that runs have treated.", labels=("library",)
    )
    megapixels = CounterMetricFamily(
        "plumcrate_treated_megapixels", "Megapixels of these files.", labels=("library",)
    )
    for library, count, pixels in known.treated:
        treated.add_metric((library,), count)
        megapixels.add_metric((library,), pixels)
    yield treated
    yield megapixels
    failed = GaugeMetricFamily(
        "plumcrate_failed_files", "Files that failed in runs that are not over.", labels=("library", "code")
    )
    for library, code, count in known.failures:
        failed.add_metric((library, code), count)
    yield failed
    requests = CounterMetricFamily(
        "plumcrate_served", "Pictures that visitors were sent.", labels=("library", "form")
    )
    sent = CounterMetricFamily(
        "plumcrate_served_bytes", "Bytes that visitors were sent.", labels=("library", "form")
    )
    instead = CounterMetricFamily(
        "plumcrate_served_instead_bytes",
        "Bytes of the same files as they first were.",
        labels=("library", "form"),
    )
    for library, form, count, size, before in known.sent:
        for family, value in ((requests, count), (sent, size), (instead, before)):
            family.add_metric((library, form), value)
    yield requests
    yield sent
    yield instead
    backups = GaugeMetricFamily("plumcrate_backups_bytes", "Bytes of backups.", labels=("library",))
    for library, size in known.backups:
        backups.add_metric((library,), size)
    yield backups
