"""PostgreSQL's own programs for whole databases: pg_dump and pg_restore."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path
from urllib.parse import unquote, urlsplit

from plumcrate.records.private import PostgresError, binaries

from .records import CannotStart

_SECONDS = 6 * 3600


def dump(url: str, place: Path) -> None:
    """The database as it is at one moment, in the custom format. Raises :class:`CannotStart`."""
    _run("pg_dump", url, "--format=custom", "--no-owner", "--no-privileges", f"--file={place}")


def restore(url: str, place: Path) -> None:
    """Into an empty database, whole or not at all. Raises :class:`CannotStart`."""
    _run(
        "pg_restore",
        url,
        "--no-owner",
        "--no-privileges",
        "--exit-on-error",
        "--single-transaction",
        str(place),
    )


def _run(program: str, url: str, *arguments: str) -> None:
    parts = urlsplit(url)
    # The password is not for the list of processes.
    environment = {"PATH": os.environ.get("PATH", ""), "LC_ALL": "C.UTF-8"}
    if parts.password:
        environment["PGPASSWORD"] = unquote(parts.password)
    user = f"{parts.username}@" if parts.username else ""
    port = f":{parts.port}" if parts.port else ""
    query = f"?{parts.query}" if parts.query else ""
    plain = f"postgresql://{user}{parts.hostname or ''}{port}{parts.path}{query}"
    command = [_program(program), f"--dbname={plain}", "--no-password", *arguments]
    try:
        done = subprocess.run(
            command, env=environment, capture_output=True, text=True, timeout=_SECONDS, check=False
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise CannotStart(f"{program} did not end: {error}") from None
    if done.returncode != 0:
        said = " ".join(done.stderr.split())[-600:]
        raise CannotStart(f"{program} failed: {said}")


def _program(name: str) -> str:
    try:
        newest = binaries() / name
        if newest.exists():
            return str(newest)
    except PostgresError:
        pass
    on_path = shutil.which(name)
    if on_path is None:
        raise CannotStart(f"{name} is not installed: install Debian's package postgresql-client")
    return on_path
