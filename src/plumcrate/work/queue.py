"""The queue: PostgreSQL through procrastinate. Task names and how jobs are put in."""

from __future__ import annotations

from typing import Any

import procrastinate
from sqlalchemy.orm import Session

TREAT_PICTURE = "treat-picture"
RUN_SURVEY = "run-survey"
CHECK_LIBRARY = "check-library"
FORECAST = "forecast"
FINISH_HAND_BACK = "finish-hand-back"

#: Higher goes first.
NEW_UPLOAD, SINGLE_REQUEST, SURVEY, QUIET, BULK = 30, 20, 15, 10, 0

#: New uploads have a lane of their own in each worker.
EXPRESS = "express"


class Queue:
    """Puts jobs in, within the caller's transaction: they exist when it commits."""

    def __init__(self, database_url: str) -> None:
        self._app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=database_url))

    def add(self, session: Session, task: str, arguments: list[dict[str, Any]], priority: int) -> list[int]:
        """Adds one job for each set of arguments; returns their ids."""
        connection = session.connection().connection.driver_connection
        lane = EXPRESS if priority >= NEW_UPLOAD else "default"
        deferrer = self._app.configure_task(task, connection=connection, priority=priority, queue=lane)
        return deferrer.batch_defer(*arguments) if arguments else []
