"""The queue: PostgreSQL through procrastinate. Task names, how jobs are put in, and what was lost from it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import procrastinate
from sqlalchemy import text
from sqlalchemy.orm import Session

TREAT_PICTURE = "treat-picture"
RUN_JOB = "run-job"

#: Higher goes first.
NEW_UPLOAD, SINGLE_REQUEST, COPIES, QUIET, BULK = 30, 20, 15, 10, 0

#: Each worker has lanes, so that nothing waits for what is less urgent: for new uploads, for what a person
#: asked for and waits for, and for the rest.
EXPRESS, ASKED, DEFAULT = "express", "asked", "default"


class Queue:
    """Puts jobs in, within the caller's transaction: they exist when it commits."""

    def __init__(self, database_url: str) -> None:
        self._app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=database_url))

    def add(
        self,
        session: Session,
        task: str,
        arguments: list[dict[str, Any]],
        priority: int,
        lock: str | None = None,
    ) -> list[int]:
        """Adds one job for each set of arguments; returns their ids. ``lock``: of those with the same, one
        is done at a time."""
        connection = session.connection().connection.driver_connection
        lane = DEFAULT
        if priority >= SINGLE_REQUEST:
            lane = EXPRESS if priority >= NEW_UPLOAD else ASKED
        deferrer = self._app.configure_task(
            task, connection=connection, priority=priority, queue=lane, lock=lock
        )
        return deferrer.batch_defer(*arguments) if arguments else []


def without_a_place(session: Session, table: str, column: str, where: str) -> Sequence[int]:
    """The ids of rows of ours whose place in the queue, named by a column, is gone.

    One statement over half a million rows, in the caller's transaction: procrastinate's own way asks for
    each.
    """
    query = (
        f"SELECT id FROM {table} WHERE {where} AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs j "
        f"WHERE j.id = {table}.{column} AND j.status IN ('todo', 'doing'))"
    )
    return session.scalars(text(query)).all()
