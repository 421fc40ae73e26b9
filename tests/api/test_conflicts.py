"""An operation that PostgreSQL undid because it met another one is done once more, whole, and once only."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest
from conftest import add_library
from fastapi import FastAPI, Request
from sqlalchemy import text

from plumcrate.api import problems
from plumcrate.api.acts import act_of
from plumcrate.api.app import create_app
from plumcrate.api.routers.deps import Session, router_of
from plumcrate.contract.people import KeyRequest
from plumcrate.people.keys import new_key
from plumcrate.records.database import Database
from plumcrate.settings import Settings

DEADLOCK = "DO $$ BEGIN RAISE EXCEPTION 'met another one' USING ERRCODE = '40P01'; END $$"


class Holder:
    """As much of the service as a transaction needs."""

    def __init__(self, database: Database) -> None:
        self.database = database


@pytest.fixture
def app(database: Database) -> FastAPI:
    """An application with one operation, which meets another one so many times."""
    app = FastAPI()
    app.state.service = Holder(database)
    app.state.met, app.state.tries = 0, 0
    problems.install(app)
    router = router_of("test")

    @router.post("/rows")
    def add(session: Session, request: Request) -> int:
        act_of(request).silent = True
        app.state.tries += 1
        session.execute(text("INSERT INTO rows_of_the_test DEFAULT VALUES"))
        if app.state.tries <= app.state.met:
            session.execute(text(DEADLOCK))
        return int(app.state.tries)

    app.include_router(router)
    with database.begin() as session:
        session.execute(text("CREATE TABLE IF NOT EXISTS rows_of_the_test (id bigserial)"))
        session.execute(text("TRUNCATE rows_of_the_test"))
    return app


def rows(database: Database) -> int:
    with database.begin() as session:
        return int(session.execute(text("SELECT count(*) FROM rows_of_the_test")).scalar_one())


@pytest.mark.parametrize(("met", "status", "count"), [(0, 200, 1), (1, 200, 1), (2, 503, 0)])
def test_what_is_answered_is_what_was_committed(
    app: FastAPI, database: Database, met: int, status: int, count: int
) -> None:
    async def ask() -> httpx.Response:
        transport = httpx.ASGITransport(app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://service") as client:
            return await client.post("/rows")

    app.state.met = met
    answer = asyncio.run(ask())
    assert (answer.status_code, rows(database)) == (status, count)
    assert app.state.tries == min(met, 1) + 1
    assert database.engine.pool.checkedout() == 0  # type: ignore[attr-defined]


@pytest.fixture
def recipes(database: Database, tmp_path: Path) -> Callable[..., httpx.Response]:
    """Asks for the recipe of library l, as somebody who may change it."""
    (tmp_path / "library").mkdir()
    add_library(database, tmp_path / "library")
    with database.begin() as session:
        _, key = new_key(session, KeyRequest(name="Ann", service=True), "tests")
    settings = Settings(database_url=database.url, state_dir=tmp_path / "state", allowed_hosts=["*"])
    app = create_app(settings)

    def ask(level: str | None = None, basis: str | None = None) -> httpx.Response:
        headers = {"Authorization": f"Bearer {key}"} | ({"If-Match": basis} if basis is not None else {})

        async def asked() -> httpx.Response:
            transport = httpx.ASGITransport(app)
            async with httpx.AsyncClient(transport=transport, base_url="http://x/api/v1") as client:
                if level is None:
                    return await client.get("/libraries/l/recipe", headers=headers)
                return await client.put("/libraries/l/recipe", json={"level": level}, headers=headers)

        return asyncio.run(asked())

    return ask


def test_a_recipe_that_somebody_saved_meanwhile_is_not_overwritten(
    recipes: Callable[..., httpx.Response],
) -> None:
    tag = recipes().headers["etag"]
    assert tag == '"1"'
    theirs = recipes("lean", tag)
    assert (theirs.status_code, theirs.headers["etag"]) == (200, '"2"')
    mine = recipes("gallery", tag)
    assert mine.status_code == 412
    assert mine.json()["type"].endswith(":changed-meanwhile")
    assert "Ann saved version 2 while you changed 1" in mine.json()["detail"]
    assert recipes().json()["settings"]["level"] == "lean"
    again = recipes("gallery", theirs.headers["etag"])
    assert (again.status_code, again.json()["version"]) == (200, 3)


@pytest.mark.parametrize(
    ("basis", "status"), [("*", 200), (None, 428), ("W/x", 412), ('"77"', 412), ("9" * 200, 412)]
)
def test_a_tag_of_something_else_fits_no_version(
    recipes: Callable[..., httpx.Response], basis: str | None, status: int
) -> None:
    assert recipes("lean", basis).status_code == status


def test_what_is_the_same_is_saved_whatever_it_was_changed_from(
    recipes: Callable[..., httpx.Response],
) -> None:
    recipes("lean", "*")
    assert recipes("lean", '"1"').json()["version"] == 2
