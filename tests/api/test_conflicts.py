"""An operation that PostgreSQL undid because it met another one is done once more, whole, and once only."""

from __future__ import annotations

import asyncio

import httpx
import pytest
from fastapi import FastAPI, Request
from sqlalchemy import text

from plumcrate.api import problems
from plumcrate.api.acts import act_of
from plumcrate.api.routers.deps import Session, router_of
from plumcrate.records.database import Database

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
