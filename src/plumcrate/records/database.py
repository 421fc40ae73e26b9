"""Connecting to PostgreSQL, and bringing its tables up to date."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session, sessionmaker

#: The NOTIFY channel on which changes of runs and surveys are told.
CHANNEL = "plumcrate"


def sqlalchemy_url(url: str) -> str:
    """``postgresql://…`` with the driver that we use named."""
    return url.replace("postgresql://", "postgresql+psycopg://", 1)


class Database:
    """An engine and its sessions. ``url`` is a ``postgresql://`` address."""

    def __init__(self, url: str, *, pool_size: int = 10) -> None:
        self.url = url
        self.engine: Engine = create_engine(
            sqlalchemy_url(url), pool_size=pool_size, max_overflow=10, pool_pre_ping=True
        )
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    @contextmanager
    def begin(self) -> Iterator[Session]:
        """A session in a transaction that is committed at the end, rolled back on an error."""
        with self._sessions.begin() as session:
            yield session

    @contextmanager
    def advisory_lock(self, space: int, key: int) -> Iterator[bool]:
        """Holds a PostgreSQL advisory lock; yields whether it was free. It dies with the process."""
        with self.engine.connect() as connection:
            params = {"space": space, "key": key & 0x7FFFFFFF}
            got = connection.execute(text("SELECT pg_try_advisory_lock(:space, :key)"), params).scalar_one()
            connection.commit()
            try:
                yield bool(got)
            finally:
                if got:
                    connection.execute(text("SELECT pg_advisory_unlock(:space, :key)"), params)
                    connection.commit()

    def migrate(self) -> None:
        """Brings the tables to the newest revision."""
        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        with self.engine.begin() as connection:
            # Two processes that start at once must not migrate at once.
            connection.execute(text("SELECT pg_advisory_xact_lock(727001)"))
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    def close(self) -> None:
        self.engine.dispose()


def notify(session: Session, **payload: Any) -> None:
    """Tells all listeners, when the transaction commits."""
    session.execute(
        text("SELECT pg_notify(:channel, :payload)"),
        {"channel": CHANNEL, "payload": json.dumps(payload, default=str)},
    )
