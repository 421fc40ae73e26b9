"""What a list costs the database: the same few statements whatever its length."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from sqlalchemy import Engine, event

from plumcrate.api.app import create_app
from plumcrate.contract.people import KeyRequest
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.people.keys import new_key
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Run
from plumcrate.settings import Settings

LIBRARIES, RUNS, KEYS = 20, 30, 30


@pytest.fixture
def statements() -> Iterator[list[str]]:
    """Every statement that the service sends."""
    seen: list[str] = []

    def note(_connection: object, _cursor: object, statement: str, *_: object) -> None:
        seen.append(statement)

    event.listen(Engine, "before_cursor_execute", note)
    yield seen
    event.remove(Engine, "before_cursor_execute", note)


@pytest.fixture
def key(database: Database, tmp_path: Path) -> str:
    """A key for a crowded house: every library bears runs that are under way and surveys, every key opens
    one."""
    slugs = [f"library-{number:02}" for number in range(LIBRARIES)]
    with database.begin() as session:
        for slug in slugs:
            library = new_library(session, slug, slug, str(tmp_path / slug), [], RecipeSettings(), "the test")
            session.add(Run(library_id=library.id, kind="restore", state="running", settings=None))
        session.add_all(
            Run(library_id=library.id, kind="restore", state="finished", settings=None)
            for _ in range(RUNS - LIBRARIES)
        )
        for number in range(KEYS):
            request = KeyRequest(name=f"key {number}", libraries=[slugs[number % LIBRARIES]])
            new_key(session, request, "the test")
        return new_key(session, KeyRequest(name="reader", libraries=None, service=True), "the test")[1]


@pytest.mark.parametrize(
    ("address", "length"), [("/libraries", LIBRARIES), ("/runs", RUNS), ("/keys", KEYS + 1)]
)
def test_a_list_takes_at_most_seven_statements(
    database: Database, tmp_path: Path, key: str, statements: list[str], address: str, length: int
) -> None:
    settings = Settings(database_url=database.url, state_dir=tmp_path / "state", allowed_hosts=["*"])
    app = create_app(settings)

    async def ask() -> httpx.Response:
        async with httpx.AsyncClient(
            transport=httpx.ASGITransport(app), base_url="http://service/api/v1"
        ) as client:
            return await client.get(address, headers={"Authorization": f"Bearer {key}"})

    statements.clear()
    answer = asyncio.run(ask())
    assert answer.status_code == 200, answer.text
    listed = answer.json()
    assert len(listed if isinstance(listed, list) else listed["rows"]) == length
    counted = [one for one in statements if "pg_catalog" not in one and "show " not in one]
    assert len(counted) <= 7, counted
