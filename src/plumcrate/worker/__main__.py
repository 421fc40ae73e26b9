"""The worker process: ``python -m plumcrate.worker``. Settings come from the environment and the file."""

from plumcrate.starting import started  # isort: skip - first, see there

import asyncio
import sys
import time

import structlog
from sqlalchemy.exc import SQLAlchemyError

from plumcrate import logs, trace
from plumcrate.keeping.state import half_brought
from plumcrate.records.database import Database
from plumcrate.settings import WrongSettings, load

from .process import Worker

log = structlog.get_logger()

_PAUSE = 2.0


def wait_for_tables(url: str) -> None:
    """Returns when the tables are those of this version: the service brings them up to date."""
    database, said = Database(url, pool_size=1), False
    try:
        while True:
            try:
                if database.up_to_date():
                    return
                reason = "the tables are of another version: start the service, or plumcrate tables"
            except SQLAlchemyError as error:
                reason = str(getattr(error, "orig", None) or error).splitlines()[0]
            if not said:
                log.warning("waiting for the records", reason=reason)
                said = True
            time.sleep(_PAUSE)
    finally:
        database.close()


if __name__ == "__main__":
    try:
        settings = load()
    except WrongSettings as error:
        sys.exit(f"plumcrate: {error}")
    logs.configure(settings.log_form)
    try:
        trace.tell(settings.trace_to, "worker")
    except trace.NoCollector as error:
        sys.exit(f"plumcrate: {error}")
    if not settings.database_url:
        sys.exit("plumcrate: no database is named; plumcrate start keeps a private one")
    if (half := half_brought(settings.state_dir)) is not None:
        sys.exit(f"plumcrate: {half}")
    started()
    wait_for_tables(settings.database_url)
    asyncio.run(Worker(settings).run())
