"""Figures for a monitoring system: right, in the standard's form, cheap however often they are asked for."""

from __future__ import annotations

import json
import re
import shutil
import socket
import subprocess
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any

import httpx
import pytest
import yaml
from conftest import Service, add_library
from prometheus_client import generate_latest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from plumcrate.api.metrics import MEDIA_TYPE, Metrics
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, File, Item, Picture, Run, SentBytes

WEIGHT = {"bytes_before": 200, "bytes_now": 160}


def values(text: str) -> dict[tuple[str, ...], float]:
    """Each sample by its name and the values of its labels, which come by the labels' names."""
    return {
        (sample.name, *sample.labels.values()): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }


@pytest.fixture
def filled(database: Database) -> Database:
    add_library(database, Path("/l"))
    with database.begin() as session:
        picture = Picture(
            library_id=1, path="a.jpg", folder="", name="a.jpg", bytes_before=200, bytes_now=160
        )
        run = Run(library_id=1, kind="treat")
        session.add_all([picture, run])
        session.flush()
        for name, state, now in (("a.jpg", "lighter", 60), ("b.jpg", "new", 100)):
            file = File(
                library_id=1,
                picture_id=picture.id,
                path=name,
                state=state,
                size_before=100,
                size_now=now,
                mtime_ns=1,
                mtime_ns_before=1,
            )
            session.add(file)
            session.flush()
        failed = {"path": "b.jpg", "state": "failed", "code": "disk-full"}
        session.add(Item(run_id=run.id, picture_id=picture.id, file_id=file.id, **failed))
        session.add(Backup(library_id=1, sha256=b"x", size=100))
        for bot, count in ((False, 3), (True, 9)):
            session.add(
                SentBytes(
                    library_id=1,
                    day=date(2026, 12, 1),
                    picture_id=picture.id,
                    format="avif",
                    bot=bot,
                    requests=count,
                    bytes=30,
                    bytes_before=300,
                )
            )
    return database


def test_the_figures_are_those_of_the_records(filled: Database) -> None:
    found = values(Metrics(filled).text().decode())
    assert found["plumcrate_database_up",] == 1
    assert found["plumcrate_workers",] == 0
    assert found["plumcrate_files", "l", "lighter"] == 1
    assert found["plumcrate_pictures", "l", "new"] == 1
    assert found["plumcrate_pictures_bytes", "l", "new", "first"] == 200
    assert found["plumcrate_pictures_bytes", "l", "new", "now"] == 160
    assert found["plumcrate_failed_files", "disk-full", "l"] == 1
    assert found["plumcrate_served_total", "avif", "l"] == 3
    assert found["plumcrate_served_instead_bytes_total", "avif", "l"] == 300
    assert found["plumcrate_backups_bytes", "l"] == 100


def test_however_often_somebody_scrapes_the_records_are_asked_now_and_then(filled: Database) -> None:
    now, asked = [0.0], []
    metrics = Metrics(filled, clock=lambda: now[0])
    real = filled.begin

    def begin(*given: Any, **named: Any) -> Any:
        asked.append(now[0])
        return real(*given, **named)

    filled.begin = begin  # type: ignore[method-assign]
    for step in range(100):
        now[0] = step / 10
        metrics.text()
    assert asked == [0.0, 5.0]


def test_where_the_database_is_away_that_is_told_and_the_rest_too() -> None:
    metrics = Metrics(Database("postgresql://nobody@127.0.0.1:1/none", seconds=1))
    found = values(metrics.text().decode())
    assert found["plumcrate_database_up",] == 0
    assert not any(name[0].startswith("plumcrate_files") for name in found)
    assert any(name[0].startswith("process_") for name in found)


def test_they_are_told_at_an_address_of_their_own_and_a_taken_one_stops_nothing(filled: Database) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        port = taken.getsockname()[1]
        Metrics(filled).serve(f"127.0.0.1:{port}")  # says so in the log
    metrics = Metrics(filled)
    metrics.serve(f"127.0.0.1:{port}")
    try:
        answer = httpx.get(f"http://127.0.0.1:{port}/metrics", headers={"Accept": MEDIA_TYPE})
        assert values(answer.text)["plumcrate_database_up",] == 1
    finally:
        metrics.close()


def test_who_administers_the_service_reads_them_and_requests_are_timed(service: Service) -> None:
    assert httpx.get(f"{service.url}/api/v1/metrics").status_code == 401
    with httpx.Client(base_url=service.url, headers={"Authorization": f"Bearer {service.key}"}) as client:
        client.get("/api/v1/libraries")
        answer = client.get("/api/v1/metrics")
    assert answer.headers["content-type"] == MEDIA_TYPE
    found = values(answer.text)
    assert found["plumcrate_request_seconds_count", "GET /libraries", "2xx"] >= 1


MONITORING = Path(__file__).parents[2] / "deploy/monitoring"


def alerts() -> list[str]:
    rules = yaml.safe_load((MONITORING / "alerts.yml").read_text())
    return [rule["expr"] for group in rules["groups"] for rule in group["rules"]]


def panels() -> list[str]:
    board = json.loads((MONITORING / "dashboard.json").read_text())
    return [target["expr"] for panel in board["panels"] for target in panel["targets"]]


@pytest.mark.parametrize("asking", [alerts, panels])
def test_alerts_and_dashboard_ask_for_figures_that_there_are(
    filled: Database, asking: Callable[[], list[str]]
) -> None:
    asked = {name for question in asking() for name in re.findall(r"plumcrate_\w+", question)}
    metrics = Metrics(filled, pool=filled)
    told = set(re.findall(r"^# TYPE (plumcrate_\w+)", metrics.text().decode(), re.M))
    assert {re.sub("_(bucket|total|count)$", "", name) for name in asked} <= told
    assert len(asked) >= 5


def test_promtool_finds_no_fault(filled: Database, tmp_path: Path) -> None:
    promtool = shutil.which("promtool")
    if promtool is None:
        pytest.skip("promtool is not there: it comes with Debian's package prometheus")
    rules = [promtool, "check", "rules", str(MONITORING / "alerts.yml")]
    assert subprocess.run(rules, capture_output=True, timeout=60, check=False).returncode == 0
    queries = {
        "groups": [
            {
                "name": "board",
                "rules": [{"record": f"panel:{n}", "expr": one} for n, one in enumerate(panels())],
            }
        ]
    }
    written = tmp_path / "board.yml"
    written.write_text(yaml.safe_dump(queries))
    found = subprocess.run(
        [promtool, "check", "rules", written], capture_output=True, text=True, timeout=60, check=False
    )
    assert "SUCCESS" in found.stdout + found.stderr, found.stderr
    told = generate_latest(Metrics(filled, pool=filled)._registry)  # the form that it reads
    metrics = subprocess.run(
        [promtool, "check", "metrics"], input=told, capture_output=True, timeout=60, check=False
    )
    assert metrics.returncode == 0, metrics.stderr
