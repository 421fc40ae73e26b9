"""Connecting to PostgreSQL, and bringing its tables up to date."""

from __future__ import annotations

import contextlib
import json
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
from sqlalchemy import Engine, Executable, create_engine, event, text
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import DBAPIError, InvalidatePoolError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.orm import Session, sessionmaker
from sqlalchemy.pool import ConnectionPoolEntry, PoolProxiedConnection

_MIGRATIONS = Path(__file__).parent / "migrations"
#: The NOTIFY channel on which changes of runs and surveys are told.
CHANNEL = "plumcrate"
#: Seconds.
_JUST_USED = 0.5


def sqlalchemy_url(url: str) -> str:
    """``postgresql://…`` with the driver that we use named."""
    return url.replace("postgresql://", "postgresql+psycopg://", 1)


#: Classes of SQLSTATE (PostgreSQL, Appendix A) that speak of the connection or the server, not of data:
#: connection exception, insufficient resources, operator intervention, system error.
_CONNECTION_CLASSES = ("08", "53", "57", "58")
_CANCELLED = "57014"  # a statement of ours took too long: the server is well
_CONFLICTS = ("40P01", "40001")


def sqlstate(error: BaseException) -> str | None:
    """The SQLSTATE of a database error; None when the server gave none."""
    cause = error.orig if isinstance(error, DBAPIError) else error
    return getattr(cause, "sqlstate", None)


def lost_connection(error: BaseException) -> bool:
    """Whether an error means that the database cannot be reached, rather than that it refused something."""
    if isinstance(error, PoolTimeout):
        return True
    if not isinstance(error, DBAPIError | psycopg.Error):
        return False
    state = sqlstate(error)
    if state is not None:
        return state.startswith(_CONNECTION_CLASSES) and state != _CANCELLED
    cause = error.orig if isinstance(error, DBAPIError) else error
    return isinstance(cause, psycopg.OperationalError | psycopg.InterfaceError)


def conflicted(error: BaseException) -> bool:
    """Whether a transaction was undone because it met another one, and may be tried again."""
    return sqlstate(error) in _CONFLICTS


def _ping_what_was_idle(engine: Engine) -> None:
    """Asks a connection whether it lives before it is used, unless it was used just now: a database that
    went away is not back so soon. A picture takes a connection about twenty times."""

    @event.listens_for(engine, "checkin")
    def _note(_: DBAPIConnection | None, record: ConnectionPoolEntry) -> None:
        record.info["used"] = time.monotonic()

    @event.listens_for(engine, "checkout")
    def _ping(connection: DBAPIConnection, record: ConnectionPoolEntry, _: PoolProxiedConnection) -> None:
        if time.monotonic() - record.info.get("used", time.monotonic()) < _JUST_USED:
            return
        try:
            engine.dialect.do_ping(connection)
        except psycopg.Error as error:
            raise InvalidatePoolError from error


class Database:
    """An engine and its sessions. ``url`` is a ``postgresql://`` address.

    ``seconds``: how long a statement may take, and a transaction may stand idle; None for no limit.
    """

    def __init__(self, url: str, *, pool_size: int = 10, seconds: int | None = None) -> None:
        self.url = url
        limits = "" if seconds is None else f"-c statement_timeout={seconds}s "
        idle = 600 if seconds is None else seconds
        self.engine: Engine = create_engine(
            sqlalchemy_url(url),
            pool_size=pool_size,
            max_overflow=10,
            pool_timeout=20,
            connect_args={"options": f"{limits}-c idle_in_transaction_session_timeout={idle}s"},
        )
        _ping_what_was_idle(self.engine)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)
        self._each_by_itself = self.engine.execution_options(isolation_level="AUTOCOMMIT")
        self._reading = sessionmaker(self._each_by_itself, expire_on_commit=False)

    def connections_in_use(self) -> int:
        """Of the pool."""
        return int(self.engine.pool.checkedout())  # type: ignore[attr-defined]

    @contextmanager
    def begin(self) -> Iterator[Session]:
        """A session in a transaction that is committed at the end, rolled back on an error."""
        with self._sessions.begin() as session:
            yield session

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session for reading: each statement sees what was committed before it.

        Without a transaction each saves two round trips.
        """
        with self._reading() as session:
            yield session

    def at_once(self, statement: Executable) -> None:
        """Carries out one statement, which is committed by itself."""
        with self._each_by_itself.connect() as connection:
            connection.execute(statement)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """A session whose user commits; what was not committed at the end is rolled back."""
        with self._sessions() as session:
            yield session

    @contextmanager
    def advisory_lock(self, space: int, key: int) -> Iterator[bool]:
        """Holds a PostgreSQL advisory lock; yields whether it was free. It dies with the process."""
        with self._each_by_itself.connect() as connection:
            params = {"space": space, "key": key & 0x7FFFFFFF}
            got = connection.execute(text("SELECT pg_try_advisory_lock(:space, :key)"), params).scalar_one()
            try:
                yield bool(got)
            finally:
                if got:
                    connection.execute(text("SELECT pg_advisory_unlock(:space, :key)"), params)

    def migrate(self) -> None:
        """Brings the tables to the newest revision. Raises :class:`OtherVersion` for newer ones."""
        if (revision := self._revision()) == newest_revision():
            return
        if revision is not None and revision > newest_revision():
            raise OtherVersion(revision)
        from alembic import command  # heavy, and most starts have nothing to migrate
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(_MIGRATIONS))
        with self.engine.begin() as connection:
            # Two processes that start at once must not migrate at once.
            connection.execute(text("SELECT pg_advisory_xact_lock(727001)"))
            config.attributes["connection"] = connection
            command.upgrade(config, "head")

    def up_to_date(self) -> bool:
        """Whether the tables are of the newest revision. Raises SQLAlchemyError."""
        return self._revision() == newest_revision()

    def check_version(self) -> None:
        """Raises :class:`OtherVersion` for tables that are not of the newest revision."""
        revision = self._revision()
        if revision is not None and revision != newest_revision():
            raise OtherVersion(revision)

    def _revision(self) -> str | None:
        """The revision of the tables that are there; None for no tables."""
        with self.engine.connect() as connection:
            if connection.scalar(text("SELECT to_regclass('alembic_version')")) is None:
                return None
            return str(connection.scalar(text("SELECT version_num FROM alembic_version")))

    def close(self) -> None:
        self.engine.dispose()


class OtherVersion(Exception):
    """The tables are of another revision than the program's."""

    #: The exit code of what ends for it.
    code = 6

    def __init__(self, revision: str) -> None:
        ours = newest_revision()
        advice = (
            "they were made by a newer one: install that version again, or bring back a state that was saved "
            "before the upgrade"
            if revision > ours
            else "bring them up to date first, with plumcrate tables"
        )
        super().__init__(f"the tables are of version {revision} and this program's are of {ours}: {advice}")


def newest_revision() -> str:
    """The revision of this program's tables. Migrations follow one another, and their files' names begin with
    it."""
    return max(path.name for path in (_MIGRATIONS / "versions").glob("[0-9]*.py")).partition("_")[0]


class HeldLocks:
    """Advisory locks that are held for long, all on one connection of their own. They die with it.

    May be used by several threads.
    """

    def __init__(self, url: str) -> None:
        self._url = url
        self._connection: psycopg.Connection | None = None
        self._guard = threading.Lock()

    def take(self, space: int, key: int) -> bool:
        """Whether the lock was free and is held now. Raises psycopg.Error."""
        with self._guard:
            if self._connection is None or self._connection.closed:
                self._connection = psycopg.connect(self._url, autocommit=True)
            row = self._connection.execute(
                "SELECT pg_try_advisory_lock(%s, %s)", [space, key & 0x7FFFFFFF]
            ).fetchone()
            return bool(row and row[0])

    def give_back(self, space: int, key: int) -> None:
        """Gives a lock back; one that was lost with the connection is nobody's."""
        with self._guard, contextlib.suppress(psycopg.Error):
            if self._connection is not None:
                self._connection.execute("SELECT pg_advisory_unlock(%s, %s)", [space, key & 0x7FFFFFFF])

    def hold(self) -> bool:
        """Whether the connection lives, and with it the locks."""
        with self._guard:
            if self._connection is None:
                return False
            try:
                self._connection.execute("SELECT 1")
            except psycopg.Error:
                self._connection.close()
                return False
            return True

    def close(self) -> None:
        with self._guard:
            if self._connection is not None:
                self._connection.close()


def notify(session: Session, **payload: int) -> None:
    """Tells all listeners, when the transaction commits: numbers only, since a notice holds 8,000 bytes."""
    session.execute(
        text("SELECT pg_notify(:channel, :payload)"),
        {"channel": CHANNEL, "payload": json.dumps(payload)},
    )
