"""After a crash: finishing or undoing every change whose journal row is still open, by hash alone.

P is the file's own name, T the hidden name beside it. For an exchange:

* P new, T old or gone: it happened. The records are closed, then T is deleted.
* P new, T anything else, or T open for writing: somebody wrote just before the exchange, or still does:
  it is exchanged back.
* P old: it never happened; T, which is ours, is deleted.
* P missing while T holds the old bytes: T gets its name back.
* P and T both missing: only when their folder is the very one in which the change began (its number on its
  file system says so) was the file deleted, and the change is void. In any other folder nothing is
  concluded, and the row stays open: a volume may be away, or the folder was moved.
* anything else: somebody replaced P since; T is deleted, backed up first when nothing else keeps it.

For a file that appears (a copy, an original put back, an upload): P ours means it happened; otherwise T is
deleted. For one that leaves its name (withdrawn, a copy dropped): T there and not recorded yet means that T
gets its name back, or that the copy, when it is still ours, goes. What is recorded and waits under T is
deleted when its time has come, unless somebody wrote to it: then theirs takes the name again.

Before any of it the store must hold the library's identity file; without it nothing is looked at. A row that
cannot be settled does not keep the others from it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import structlog
from sqlalchemy import select

from plumcrate.records.tables import Journal
from plumcrate.storage.errors import NotThere, StorageError

from .changes import Settled, change_of
from .keeper import Keeper

log = structlog.get_logger()


@dataclass(frozen=True, slots=True)
class Recovered:
    """How many open changes were finished, how many undone, and how many stay open for now."""

    finished: int = 0
    undone: int = 0
    open: int = 0


def recover(keeper: Keeper, file_id: int | None = None, *, entry_id: int | None = None) -> Recovered:
    """Closes the open changes of a library, of one file, or one of them. The caller holds the lock(s).

    Raises NotThere when the store is not the right one; the journal then stays open.
    """
    with keeper.database.reading() as session:
        query = select(Journal).where(Journal.library_id == keeper.library_id).order_by(Journal.id)
        if file_id is not None:
            query = query.where(Journal.file_id == file_id)
        if entry_id is not None:
            query = query.where(Journal.id == entry_id)
        entries = list(session.scalars(query))
    return settle_all(keeper, entries) if entries else Recovered()


def at_rest(keeper: Keeper, file_id: int) -> bool:
    """Closes the open changes of a file; whether none is left, but for what only waits to be deleted. The
    caller holds its picture's lock. Raises NotThere."""
    if not recover(keeper, file_id).open:
        return True
    with keeper.database.reading() as session:
        query = select(Journal.id).where(Journal.file_id == file_id, Journal.action != "discard").limit(1)
        return session.scalar(query) is None


def settle_all(keeper: Keeper, entries: Sequence[Journal]) -> Recovered:
    """Settles these rows, each by itself. Raises NotThere."""
    keeper.ensure_identity()
    counts = dict.fromkeys(Settled, 0)
    with keeper.store.visit():
        for entry in entries:
            try:
                counts[change_of(keeper, entry).settle()] += 1
            except NotThere:
                raise
            except StorageError as error:
                log.warning("a change stays open", path=entry.path, action=entry.action, reason=str(error))
                counts[Settled.OPEN] += 1
    return Recovered(counts[Settled.FINISHED], counts[Settled.UNDONE], counts[Settled.OPEN])
