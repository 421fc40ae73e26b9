"""Starting: the records, the service and a worker, together or each by itself."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
from types import FrameType

import structlog

from plumcrate.keeping.state import half_brought
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.sandbox.kernels import place_kernels
from plumcrate.settings import PREFIX, Settings

from .records import CannotStart, begun, found

log = structlog.get_logger()

_MODULES = {"service": "plumcrate.api", "worker": "plumcrate.worker"}
#: A process that ended is started again after so long; one that lives shorter than the second has failed.
_PAUSE, _SHORT = 2.0, 10.0
#: So many times in a row a process may end at once before all is given up.
_MOST_FAILURES = 5


class _Stop(Exception):
    """Somebody asked to stop."""


def _stop(*_: int | FrameType | None) -> None:
    raise _Stop


def start(settings: Settings, only: str | None = None) -> int:
    """Starts and stays until it is told to stop; the exit code. Raises
    :class:`~plumcrate.operate.records.CannotStart`."""
    if (half := half_brought(settings.state_dir)) is not None and only != "records":
        raise CannotStart(half)
    signal.signal(signal.SIGTERM, _stop)
    place_kernels(settings.state_dir)
    server: PrivatePostgres | None = None
    running: dict[str, subprocess.Popen[bytes]] = {}
    try:
        if only in _MODULES:
            return _become(found(settings), _MODULES[only])
        settings, server = begun(settings)
        if only == "records":
            return _stay(server)
        database = Database(settings.database_url)
        database.migrate()
        database.close()
        log.info("starting", address=f"http://{settings.host}:{settings.port}", state=str(settings.state_dir))
        return _both(settings, running)
    except (_Stop, KeyboardInterrupt):
        return 0
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        _end(running)
        if server is not None:
            server.stop()


def _environment(settings: Settings) -> dict[str, str]:
    return os.environ | {f"{PREFIX}DATABASE_URL": settings.database_url}


def _become(settings: Settings, module: str) -> int:
    """This process becomes the service or the worker, so that signals reach it."""
    os.execve(sys.executable, [sys.executable, "-m", module], _environment(settings))


def _stay(server: PrivatePostgres | None) -> int:
    if server is None:
        log.info("nothing to start: the records are in a database that runs already")
        return 0
    log.info("the records are up", folder=str(server.home))
    while server.running():
        time.sleep(2)
    log.error("PostgreSQL ended by itself", log=str(server.data / "server.log"))
    return 1


def _both(settings: Settings, running: dict[str, subprocess.Popen[bytes]]) -> int:
    begun_at: dict[str, float] = {}
    failures = dict.fromkeys(_MODULES, 0)
    while True:
        for name, module in _MODULES.items():
            process = running.get(name)
            if process is not None and process.poll() is None:
                continue
            if process is not None:
                short = time.monotonic() - begun_at[name] < _SHORT
                failures[name] = failures[name] + 1 if short else 1
                log.error("a process ended; it is started again", process=name, code=process.returncode)
                if failures[name] >= _MOST_FAILURES:
                    log.error("it ended too often; see above why", process=name)
                    return 1
                time.sleep(_PAUSE)
            running[name] = subprocess.Popen(
                [sys.executable, "-m", module],
                env=_environment(settings),
                stdin=subprocess.DEVNULL,
                start_new_session=True,
            )
            begun_at[name] = time.monotonic()
        time.sleep(0.5)


def _end(running: dict[str, subprocess.Popen[bytes]]) -> None:
    for process in running.values():
        with contextlib.suppress(ProcessLookupError):
            process.terminate()
    for process in running.values():
        try:
            process.wait(20)
        except subprocess.TimeoutExpired:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
