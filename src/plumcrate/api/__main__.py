"""The service process: ``python -m plumcrate.api``. Settings come from the environment."""

from __future__ import annotations

from plumcrate.starting import started  # isort: skip - first, see there

import asyncio
import sys

import structlog
import uvicorn

from plumcrate import logs, trace
from plumcrate.keeping.state import StateFolder, half_brought
from plumcrate.people.invitations import set_up
from plumcrate.records.database import Database, OtherVersion
from plumcrate.settings import Settings, WrongSettings, load
from plumcrate.storage.errors import StorageError

from .app import create_app
from .connections import bounded

log = structlog.get_logger()


def main() -> None:
    """Brings the tables up to date, then serves until told to stop."""
    started()
    try:
        settings = load()
    except WrongSettings as error:
        sys.exit(f"plumcrate: {error}")
    logs.configure(settings.log_form)
    try:
        trace.tell(settings.trace_to, "service")
    except trace.NoCollector as error:
        sys.exit(f"plumcrate: {error}")
    if not settings.database_url:
        sys.exit("plumcrate: no database is named; plumcrate start keeps a private one")
    if (half := half_brought(settings.state_dir)) is not None:
        sys.exit(f"plumcrate: {half}")
    database = Database(settings.database_url)
    try:
        database.migrate()
    except OtherVersion as error:
        print(f"plumcrate: {error}", file=sys.stderr)
        sys.exit(error.code)
    try:
        StateFolder(database, settings.state_dir).check()
    except StorageError as error:
        log.error("the state folder is not there; nothing is changed until it is", reason=str(error))
    say_who_comes_first(database, settings)
    database.close()
    config = uvicorn.Config(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        http=bounded(settings.most_connections, settings.most_connections_each, settings.trusted_proxies),
        ws="none",
        log_config=None,  # its lines are written as ours
        log_level="warning",
        server_header=False,
        proxy_headers=bool(settings.trusted_proxies),
        forwarded_allow_ips=settings.trusted_proxies,
        timeout_graceful_shutdown=3,
        timeout_keep_alive=15,
        backlog=512,
    )
    _Server(config).run()


class _Server(uvicorn.Server):
    """uvicorn's, which looks whether it is to stop, and what time it is, twice a second and not ten times."""

    async def main_loop(self) -> None:
        while not await self.on_tick(0):
            await asyncio.sleep(0.5)


def say_who_comes_first(database: Database, settings: Settings) -> None:
    """Logs a link that makes the first administrator, while there is nobody."""
    with database.begin() as session:
        token = set_up(session)
    if token is not None:
        home = (settings.address or f"http://{settings.host}:{settings.port}").rstrip("/")
        log.warning("nobody has an account yet: open the link to make the first", link=f"{home}/join#{token}")


if __name__ == "__main__":
    main()
