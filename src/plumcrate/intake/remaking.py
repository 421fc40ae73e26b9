"""What visitors ask for and is not as recorded: copies are made again, changed files looked at; each once."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import structlog
from sqlalchemy import delete, update

from plumcrate.contract.automation import NewFiles
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.locks import PICTURE_LOCK
from plumcrate.records.database import Database
from plumcrate.records.tables import Derived, File, Library
from plumcrate.runs.runs import take_in
from plumcrate.storage.errors import StorageError

from .arrivals import note_arrivals

log = structlog.get_logger()

#: A file that was asked for is not looked at again for so many seconds; so many are remembered.
_QUIET, _MOST = 600.0, 10_000


class Remaking:
    """Takes notes from many requests, and does the work in one thread of its own."""

    def __init__(self, database: Database, state: StateFolder) -> None:
        self._database, self._state = database, state
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="remaking")
        self._noted: dict[object, float] = {}
        self._guard = threading.Lock()

    def note(self, library_id: int, path: str, file_id: int | None) -> bool:
        """That a file, or its copies where a number is given, are not as recorded; whether that is new."""
        key, now = (library_id, path if file_id is None else file_id), time.monotonic()
        with self._guard:
            if now - self._noted.get(key, -_QUIET) < _QUIET:
                return False
            if len(self._noted) >= _MOST:
                self._noted = {one: at for one, at in self._noted.items() if now - at < _QUIET}
            if len(self._noted) >= _MOST:
                return False
            self._noted[key] = now
        self._pool.submit(self._do, library_id, path, file_id)
        return True

    def _do(self, library_id: int, path: str, file_id: int | None) -> None:
        try:
            if file_id is None:
                with self._database.begin() as session:
                    library = session.get(Library, library_id)
                    if library is not None:
                        note_arrivals(session, library, [path])
            else:
                make_copies_again(self._database, self._state, library_id, file_id)
        except StorageError as error:
            log.warning("copies are not made again", path=path, reason=str(error))
        except Exception:
            log.exception("copies are not made again", path=path)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)


def make_copies_again(database: Database, state: StateFolder, library_id: int, file_id: int) -> bool:
    """Forgets copies that do not stand as recorded, and starts a run that makes them; whether there were any.

    Nothing is made in a dormant library, or whose new files are treated by hand: there the next run does.
    """
    with database.begin() as session:
        library, file = session.get(Library, library_id), session.get(File, file_id)
    if library is None or file is None:
        return False
    keeper = Keeper.of(database, library, state)
    with database.advisory_lock(PICTURE_LOCK, file.picture_id) as free:
        if not free:
            return False  # a run is at it
        with database.begin() as session:
            file = session.get(File, file_id)
        if file is None:
            return False
        with keeper.store.visit():
            lost = [copy.id for copy in file.derived if keeper.store.sha256(copy.path) != copy.sha256]
        if not lost:
            return False
        with database.begin() as session:
            session.execute(delete(Derived).where(Derived.id.in_(lost)))
            session.execute(update(File).where(File.id == file_id).values(recipe=None))
    with database.begin() as session:
        library = session.get_one(Library, library_id)
        by_hand = library.automation.get("new_files", NewFiles.BY_HAND) == NewFiles.BY_HAND
        if not by_hand and not library.dormant:
            take_in(session, library, [file.picture_id], at_once=False)
    return True
