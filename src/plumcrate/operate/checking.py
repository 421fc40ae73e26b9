"""Checking the machine before anything runs: no key, no service, nothing written but hidden probes."""

from __future__ import annotations

import os
import socket
import stat
from collections.abc import Iterator

from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from plumcrate.contract.care import Advice, Machine
from plumcrate.diagnostics.machine import examine_before
from plumcrate.records.database import Database
from plumcrate.records.private import PostgresError, PrivatePostgres
from plumcrate.sandbox.children import Sandbox
from plumcrate.sandbox.kernels import place_kernels
from plumcrate.settings import Settings, file_of_settings


def check(settings: Settings) -> Machine:
    """Everything that starting needs: each fine, or what to do."""
    place_kernels(settings.state_dir)
    sandbox = Sandbox(1, settings.child_memory_mb, settings.seconds_per_megapixel)
    try:
        holds = sandbox.ready()
    finally:
        sandbox.close()
    browser = str(settings.browser) if settings.browser is not None else None
    more = [*_user(), *_file(), *_records(settings), *_port(settings)]
    return examine_before(settings.state_dir, holds, browser, more)


def _user() -> Iterator[Advice]:
    if os.geteuid() == 0:
        yield Advice(
            what="user",
            verdict="warning",
            detail="the service runs as root and may do everything",
            todo="start the service as a user of its own that may write the libraries and the state folder",
        )
    else:
        yield Advice(what="user", verdict="fine", detail=f"number {os.geteuid()}, without rights of root")


def _file() -> Iterator[Advice]:
    place = file_of_settings()
    if place is None:
        return
    if place.stat().st_mode & (stat.S_IROTH | stat.S_IWOTH):
        yield Advice(
            what="settings",
            verdict="warning",
            detail=f"every user of this machine can read {place}",
            todo=f"chmod o= {place}: it may hold passwords",
        )
    else:
        yield Advice(what="settings", verdict="fine", detail=str(place))


def _records(settings: Settings) -> Iterator[Advice]:
    if not settings.database_url:
        try:
            server = PrivatePostgres(settings.state_dir / "postgres")
            programs = server.bin
        except PostgresError as error:
            yield Advice(what="records", verdict="broken", detail=str(error), todo="see there")
            return
        kept = "is there" if server.there else "is made at the first start"
        detail = f"a private PostgreSQL below {settings.state_dir} {kept}, by {programs}"
        yield Advice(what="records", verdict="fine", detail=detail)
        return
    database = Database(settings.database_url)
    try:
        with database.begin() as session:
            version = session.execute(text("SHOW server_version")).scalar_one()
        yield Advice(what="records", verdict="fine", detail=f"PostgreSQL {version} answers")
    except SQLAlchemyError as error:
        said = str(getattr(error, "orig", None) or error).splitlines()[0]
        yield Advice(
            what="records", verdict="broken", detail=said, todo="start PostgreSQL, or mend database_url"
        )
    finally:
        database.close()


def _port(settings: Settings) -> Iterator[Advice]:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((settings.host, settings.port))
        except OSError as error:
            yield Advice(
                what="address",
                verdict="warning",
                detail=f"{settings.host}:{settings.port} cannot be taken ({error.strerror})",
                todo="this is right if the service is running; otherwise set another port",
            )
            return
    yield Advice(what="address", verdict="fine", detail=f"{settings.host}:{settings.port} is free")
