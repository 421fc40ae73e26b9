"""The worker process: ``python -m plumcrate.work``. Settings come from the environment."""

import asyncio

from plumcrate import logs
from plumcrate.settings import Settings

from .worker import Worker

if __name__ == "__main__":
    logs.configure()
    asyncio.run(Worker(Settings()).run())
