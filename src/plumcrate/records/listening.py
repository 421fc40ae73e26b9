"""Connections that wait for what PostgreSQL says."""

from __future__ import annotations

from typing import Any, TypeVar

import psycopg
from psycopg.abc import PQGen

_Told = TypeVar("_Told")
#: The library looks ten times a second for what may have come up meanwhile; in an event loop nothing can.
_SECONDS = 60.0


class PatientConnection(psycopg.AsyncConnection[Any]):
    """Sleeps until the server says something."""

    async def wait(
        self, gen: PQGen[_Told], interval: float = _SECONDS, timeout: float | None = None
    ) -> _Told:
        """As the library's own, however short the ``interval`` that is asked for."""
        return await super().wait(gen, max(interval, _SECONDS), timeout)
