"""What a supervisor is told: that the process lives, and whether it can do its work."""

import asyncio
import re
from pathlib import Path

import httpx
import pytest
from sqlalchemy import func, text

from plumcrate.api.app import CONSOLE, create_app
from plumcrate.api.probes import LIVES, READY
from plumcrate.records.database import Database, newest_revision
from plumcrate.records.tables import WorkerRow
from plumcrate.settings import Settings


def asked(settings: Settings, *paths: str) -> list[httpx.Response]:
    app = create_app(settings)

    async def ask() -> list[httpx.Response]:
        transport = httpx.ASGITransport(app)
        async with httpx.AsyncClient(transport=transport, base_url="http://10.0.0.7") as client:
            return [await client.get(path) for path in paths]

    return asyncio.run(ask())


@pytest.fixture
def settings(database: Database, tmp_path: Path) -> Settings:
    return Settings(database_url=database.url, state_dir=tmp_path / "state", allowed_hosts=["crate.example"])


def test_the_consoles_page_is_answered_at_its_own_addresses_only(settings: Settings) -> None:
    """Those of its router, with something in place of what stands for a value."""
    sources = Path(__file__).parents[2] / "console/src"
    routes = ["/join", *re.findall(r' path="(/[\w-]*)"', (sources / "App.tsx").read_text())]
    listed, service = (sources / "pages.tsx").read_text().split("export const SERVICE", 1)
    routes += [f"/l/ledge/{path}" for path in re.findall(r'\bpath: "([^"]*)"', listed)]
    routes += [f"/service/{path}" for path in re.findall(r'\bpath: "([^"]*)"', service)]
    assert len(routes) > 30
    for route in routes:
        assert CONSOLE.fullmatch(re.sub(r":\w+", "12", route).strip("/")), route
    unknown = (
        "/nowhere",
        "/api",
        "/l",
        "/l/ledge/nowhere",
        "/service/nowhere",
        "/wp-login.php",
        "/l/a/b/../c",
    )
    settings.allowed_hosts.append("10.0.0.7")
    for answer in asked(settings, *unknown):
        assert answer.status_code == 404, answer.url
        assert answer.headers["content-type"] == "application/problem+json"


def a_worker(database: Database, ago: str = "0 s") -> None:
    with database.begin() as session:
        session.add(WorkerRow(id="w", host="rock", pid=1, children=2, version="1", heard_at=func.now()))
        session.flush()
        session.execute(text("UPDATE workers SET heard_at = now() - CAST(:ago AS interval)"), {"ago": ago})


def reason(answer: httpx.Response) -> str:
    assert answer.status_code == 503
    assert answer.headers["content-type"] == "application/problem+json"
    assert int(answer.headers["retry-after"]) > 0
    problem = answer.json()
    assert problem["type"] == "urn:plumcrate:problem:not-ready"
    return str(problem["detail"])


def test_ready_with_a_worker_under_any_host_name(database: Database, settings: Settings) -> None:
    a_worker(database)
    lives, ready, other = asked(settings, LIVES, READY, "/api/v1/health")
    assert (lives.status_code, ready.status_code) == (200, 200)
    assert other.status_code == 400, "only the probes are asked for by number"


@pytest.mark.parametrize("ago", [None, "1 hour"])
def test_not_ready_without_a_worker_that_lives_unless_told_so(
    database: Database, settings: Settings, ago: str | None
) -> None:
    if ago is not None:
        a_worker(database, ago)
    lives, ready = asked(settings, LIVES, READY)
    assert lives.status_code == 200
    assert "no worker lives" in reason(ready)
    (alone,) = asked(settings.model_copy(update={"ready_needs_worker": False}), READY)
    assert alone.status_code == 200


@pytest.mark.parametrize("revision", ["0001", "9999"])
def test_not_ready_over_tables_of_another_version(
    database: Database, settings: Settings, revision: str
) -> None:
    a_worker(database)
    change = text("UPDATE alembic_version SET version_num = :revision")
    with database.begin() as session:
        session.execute(change, {"revision": revision})
    try:
        lives, ready = asked(settings, LIVES, READY)
    finally:  # the tables are lent again
        with database.begin() as session:
            session.execute(change, {"revision": newest_revision()})
    assert lives.status_code == 200
    assert "another version" in reason(ready)


def test_not_ready_while_the_database_is_away_but_alive(tmp_path: Path) -> None:
    nowhere = Settings(database_url="postgresql://nobody@127.0.0.1:1/x", state_dir=tmp_path / "state")
    lives, ready = asked(nowhere, LIVES, READY)
    assert lives.status_code == 200
    assert "PostgreSQL does not answer" in reason(ready)


@pytest.mark.parametrize("path", ["/.env", "/index.php", "/.git/config", "/a/b.txt", "/api/v2/x"])
def test_what_is_no_page_of_the_console_is_not_there(settings: Settings, path: str) -> None:
    (answer,) = asked(settings.model_copy(update={"allowed_hosts": ["*"]}), path)
    assert answer.status_code == 404
    assert answer.json()["type"].endswith(":not-found")
