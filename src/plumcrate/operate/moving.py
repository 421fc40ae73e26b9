"""Moving the records out of the private server, into a database of the operator's own."""

from __future__ import annotations

import tempfile
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import inspect

from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.work.feeding import workers_alive

from . import tools
from .records import CannotStart


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
        with source.begin() as session:
            if workers_alive(session):
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
