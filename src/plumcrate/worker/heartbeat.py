"""A worker's signs of life, by which the others, and people, know that it works."""

from __future__ import annotations

from collections.abc import Sequence

import psycopg
from psycopg.types.json import Jsonb
from sqlalchemy import delete
from sqlalchemy.orm import Session

from plumcrate.records.tables import WorkerRow

#: One statement, as it comes every other second.
_ALIVE = (
    "WITH beating AS (UPDATE procrastinate_workers SET last_heartbeat = now() WHERE id = ANY(%(lanes)s)), "
    "silent AS (DELETE FROM workers WHERE heard_at < now() - interval '1 minute' AND id <> %(id)s) "
    "INSERT INTO workers (id, host, pid, children, version, most_pixels, most_bytes, loops, held_back, "
    "heard_at) "
    "VALUES (%(id)s, %(host)s, %(pid)s, %(children)s, %(version)s, %(most_pixels)s, %(most_bytes)s, "
    "%(loops)s, %(held_back)s, now()) "
    "ON CONFLICT (id) DO UPDATE SET loops = excluded.loops, held_back = excluded.held_back, "
    "heard_at = excluded.heard_at"
)


class Heartbeat:
    """A worker's signs of life, on a connection of its own: they cost one round trip each."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._connection: psycopg.Connection | None = None

    def beat(self, row: WorkerRow, lanes: Sequence[int] = ()) -> None:
        """Notes that a worker and its lanes are alive, and forgets the silent. Raises psycopg.Error."""
        told = ("id", "host", "pid", "children", "version", "most_pixels", "most_bytes", "held_back")
        values = {name: getattr(row, name) for name in told}
        values |= {"loops": Jsonb(row.loops or {}), "lanes": list(lanes)}
        if self._connection is None:
            self._connection = psycopg.connect(self._url, autocommit=True)
        try:
            self._connection.execute(_ALIVE, values, prepare=True)
        except psycopg.Error:
            self.close()
            raise

    def close(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.close()


def hear_no_more(session: Session, name: str) -> None:
    """Notes that a worker has ended, so that nobody waits for its silence."""
    session.execute(delete(WorkerRow).where(WorkerRow.id == name))
