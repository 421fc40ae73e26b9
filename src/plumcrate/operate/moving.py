"""Moving the records out of the private server, into a database of the operator's own."""

from __future__ import annotations

import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import inspect

from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.records.queries.workers import SILENT_AFTER, workers_alive

from . import tools
from .records import CannotStart


def _all_silent(source: Database) -> bool:
    """Whether no worker is alive. One that was killed just now is waited for until it counts as silent."""
    deadline = time.monotonic() + SILENT_AFTER + 2
    while True:
        with source.begin() as session:
            if not workers_alive(session):
                return True
        if time.monotonic() > deadline:
            return False
        time.sleep(0.2)


def move_records(server: PrivatePostgres, url: str) -> Path:
    """Copies the records and puts the private server aside; where it is now. Nothing is deleted. Raises
    :class:`CannotStart`."""
    if not server.there:
        raise CannotStart("there is no private server: the records are in a database of yours already")
    if server.running():
        raise CannotStart("stop the service and the workers first: what they do meanwhile would be lost")
    source = Database(server.start())
    target = Database(url)
    try:
        if not _all_silent(source):
            raise CannotStart("a worker is alive: stop it first")
        with target.begin() as session:
            if inspect(session.connection()).get_table_names():
                raise CannotStart("the other database holds tables already: give an empty one")
        with tempfile.TemporaryDirectory(prefix="plumcrate-records-") as folder:
            dumped = Path(folder) / "records.dump"
            tools.dump(source.url, dumped)
            tools.restore(url, dumped)
        target.migrate()
    finally:
        source.close()
        target.close()
        server.stop()
    aside = server.home.with_name(f"postgres-moved-{datetime.now(UTC):%Y-%m-%dT%H%M%S}")
    server.home.rename(aside)
    return aside
