"""Where the records are: in the database that the settings name, or in a private server of our own."""

from __future__ import annotations

import os
import time
from pathlib import Path

from plumcrate.records.private import PostgresError, PrivatePostgres
from plumcrate.settings import Settings
from plumcrate.storage.names import IDENTITY_NAME

_PATIENCE = 60.0


class CannotStart(Exception):
    """What is needed is not there; the text says what to do."""


def private_server(settings: Settings) -> PrivatePostgres:
    """The server below the state folder. Raises :class:`CannotStart`."""
    try:
        server = PrivatePostgres(settings.state_dir / "postgres")
    except PostgresError as error:
        raise CannotStart(str(error)) from None
    if not server.there and (settings.state_dir / IDENTITY_NAME).exists():
        raise CannotStart(
            f"{settings.state_dir} was in use before, but its records are not in it: if they are in a "
            "database of yours, name it in database_url; if not, bring them back from where they were saved"
        )
    return server


def begun(settings: Settings) -> tuple[Settings, PrivatePostgres | None]:
    """The settings with the records' address; and the private server, where it was started for this. Raises
    :class:`CannotStart`."""
    if settings.database_url:
        return settings, None
    server = private_server(settings)
    try:
        settings.state_dir.mkdir(parents=True, exist_ok=True)
        running = server.there and server.running() and not _left_running(server)
        url = server.start()
        if not running:
            _starter(server).write_text(str(os.getpid()))
    except (PostgresError, OSError) as error:
        raise CannotStart(str(error)) from None
    return settings.model_copy(update={"database_url": url}), None if running else server


def _starter(server: PrivatePostgres) -> Path:
    """Holds the number of the process that started the server and will stop it."""
    return server.home / "started-by"


def _left_running(server: PrivatePostgres) -> bool:
    """Whether the process that started the server was killed: then it is ours to stop."""
    try:
        os.kill(int(_starter(server).read_text()), 0)
    except ProcessLookupError:
        return True
    except (OSError, ValueError):
        return False
    return False


def found(settings: Settings) -> Settings:
    """The settings with the records' address, of a private server that somebody else starts; it is waited
    for. Raises :class:`CannotStart`."""
    if settings.database_url:
        return settings
    server = private_server(settings)
    deadline = time.monotonic() + _PATIENCE
    while (url := server.address()) is None:
        if time.monotonic() > deadline:
            raise CannotStart(
                "the private PostgreSQL does not run: start it first (plumcrate start --only records), or "
                "name a database in database_url"
            )
        time.sleep(0.5)
    return settings.model_copy(update={"database_url": url})
