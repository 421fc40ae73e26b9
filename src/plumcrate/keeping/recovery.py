"""After a crash: finishing or undoing every change whose journal row is still open, by hash alone.

P is the file's own name, T the staged name beside it. For an exchange:

* P new: it happened. If T holds the old bytes or is gone, the records are closed and T is dropped.
  If T holds something else, somebody wrote just before the exchange: it is exchanged back.
* P old: it never happened; T is dropped.
* P missing while T holds the old bytes: T gets its name back.
* anything else: somebody replaced P since; T, which is ours, is dropped and the journal closed.

For a file that appears (a copy, an original put back): P ours means it happened; otherwise T is dropped.
For a file withdrawn: P and T both gone means it happened; P gone while T is there means T gets its name
back, to be withdrawn another time.
For a copy that is dropped: if it is still ours it is removed, and in any case forgotten.
Pruning: a backup marked as being deleted is deleted, unless it was needed again since.
"""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from plumcrate.records.tables import Journal

from .keeper import Keeper


@dataclass(frozen=True, slots=True)
class Recovered:
    """How many open changes were finished and how many undone."""

    finished: int = 0
    undone: int = 0


def recover(keeper: Keeper, file_id: int | None = None) -> Recovered:
    """Closes the open changes of a library, or of one file. The caller holds the lock(s).

    Raises StorageError when the library cannot be reached; the journal then stays open.
    """
    with keeper.database.begin() as session:
        query = select(Journal).where(Journal.library_id == keeper.library_id).order_by(Journal.id)
        if file_id is not None:
            query = query.where(Journal.file_id == file_id)
        entries = list(session.scalars(query))
    finished = sum(keeper.settle(entry) for entry in entries)
    return Recovered(finished, len(entries) - finished)
