"""Spans: a collector hears of requests, files and jobs under the request's own id, where one is named."""

from __future__ import annotations

import gzip
import subprocess
import sys
import threading
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest
from conftest import Service, photograph, running_service, wait_for
from databases import Postgres
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.runs import RunRequest

TRACE = "0af7651916cd43dd8448eb211c80319c"


def facts_of(attributes: Iterable[Any]) -> dict[str, Any]:
    return {one.key: one.value.string_value or one.value.int_value for one in attributes}


@dataclass
class Collector:
    """An OTLP receiver. ``spans``: program, name, trace id and facts of each."""

    spans: list[tuple[str, str, str, dict[str, Any]]] = field(default_factory=list)

    def take(self, body: bytes) -> None:
        for told in ExportTraceServiceRequest.FromString(body).resource_spans:
            program = next(
                one.value.string_value for one in told.resource.attributes if one.key == "service.name"
            )
            for scope in told.scope_spans:
                for span in scope.spans:
                    facts = {
                        one.key: one.value.string_value or one.value.int_value for one in span.attributes
                    }
                    self.spans.append((program, span.name, span.trace_id.hex(), facts))

    def named(self, name: str) -> list[tuple[str, str, dict[str, Any]]]:
        return [(program, trace, facts) for program, known, trace, facts in self.spans if known == name]


@pytest.fixture(scope="module")
def collector() -> Iterator[tuple[Collector, str]]:
    taking = Collector()

    class Receiver(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["content-length"]))
            if self.headers.get("content-encoding") == "gzip":
                body = gzip.decompress(body)
            assert self.path == "/v1/traces"
            taking.take(body)
            self.send_response(200)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Receiver)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield taking, f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


@pytest.fixture(scope="module")
def service(
    collector: tuple[Collector, str], postgres: Postgres, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("traces")
    photograph(home / "site/gannet.jpg", 160, 120)
    environment = {"PLUMCRATE_TRACE_TO": collector[1]}
    with (
        postgres.fresh() as url,
        running_service(url, home / "state", environment=environment) as running,
    ):
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


def test_a_request_is_told_with_its_route_and_its_own_id(
    service: Service, collector: tuple[Collector, str]
) -> None:
    headers = {"Authorization": f"Bearer {service.key}", "traceparent": f"00-{TRACE}-b7ad6b7169203331-01"}
    httpx.get(f"{service.url}/api/v1/libraries/ledge", headers=headers).raise_for_status()
    httpx.get(f"{service.url}/api/v1/libraries/none", headers=headers)
    name = "GET /api/v1/libraries/{slug}"
    wait_for(lambda: len([1 for _, trace, _ in collector[0].named(name) if trace == TRACE]) == 2)
    found = [(program, facts) for program, trace, facts in collector[0].named(name) if trace == TRACE]
    assert [program for program, _ in found] == ["plumcrate-service"] * 2
    assert [facts["http.response.status_code"] for _, facts in found] == [200, 404]
    assert all(facts["http.route"] == "/api/v1/libraries/{slug}" for _, facts in found)
    assert "ledge" not in str(found), "addresses hold names; only their templates are told"


def test_files_and_jobs_are_told_by_the_worker(service: Service, collector: tuple[Collector, str]) -> None:
    service.start_worker()
    client = service.client
    job = client.jobs.wait(client.jobs.survey("ledge").id)
    run = client.runs.wait(client.runs.start(RunRequest(library="ledge")).id)
    wait_for(lambda: collector[0].named("treat file") and collector[0].named("job"))
    program, _, facts = collector[0].named("treat file")[0]
    assert program == "plumcrate-worker"
    assert (facts["plumcrate.run"], facts["plumcrate.format"], facts["plumcrate.library"]) == (
        run.id,
        "jpeg",
        "ledge",
    )
    assert job.id in [facts["plumcrate.job"] for _, _, facts in collector[0].named("job")]


def test_without_a_collector_nothing_of_it_is_loaded_and_a_missing_package_is_named(tmp_path: Path) -> None:
    program = """
import sys
from plumcrate import trace
trace.tell(None, "x")
with trace.span("y", {}) as span:
    span.say({"z": 1})
assert not [name for name in sys.modules if name.startswith("opentelemetry")]
sys.modules["opentelemetry.sdk.trace"] = None
try:
    trace.tell("http://127.0.0.1:1", "x")
except trace.NoCollector as error:
    print(error)
"""
    said = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
    assert "pip install 'plumcrate[tracing]'" in said.stdout, said.stderr
