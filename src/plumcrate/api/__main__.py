"""The service process: ``python -m plumcrate.api``. Settings come from the environment."""

from __future__ import annotations

import uvicorn

from plumcrate.records.database import Database
from plumcrate.settings import Settings

from .app import create_app


def main() -> None:
    """Brings the tables up to date, then serves until told to stop."""
    settings = Settings()
    database = Database(settings.database_url)
    database.migrate()
    database.close()
    uvicorn.run(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        timeout_graceful_shutdown=3,
    )


if __name__ == "__main__":
    main()
