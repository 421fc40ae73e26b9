"""A person says that a library's folder is the right one, as it is: what is not there is gone."""

from __future__ import annotations

from sqlalchemy import delete, func, select

from plumcrate.contract.care import Reattached
from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import File, Journal, Library
from plumcrate.storage.errors import StorageError

from .keeper import Keeper
from .recovery import settle_all


def reattach_library(keeper: Keeper) -> Reattached:
    """Identifies the folder when it holds no identity file, and gives up changes that cannot be settled.

    Files of such changes that are not there count as deleted; their originals stay among the backups. Raises
    StorageError when the folder is not there or holds another identity file.
    """
    with keeper.database.begin() as session:
        library = session.get_one(Library, keeper.library_id)
    borne = keeper.store.read_identity()
    if borne not in (None, library.identity):
        raise StorageError(
            "other-identity",
            f"the folder {keeper.store.label} holds the identity file of another library or installation",
        )
    had_identity = library.identified_at is not None
    if had_identity and borne is None:
        keeper.store.write_identity(library.identity)
    closed = gone = 0
    with keeper.store.visit():
        with keeper.database.begin() as session:
            entries = list(session.scalars(select(Journal).where(Journal.library_id == keeper.library_id)))
        old = settle_all(keeper, entries).open if entries else 0
        if old:
            closed, gone = _give_up(keeper)
        with keeper.database.begin() as session:
            session.get_one(Library, keeper.library_id).device = keeper.store.device()
    return Reattached(identified=had_identity and borne is None, closed=closed, gone=gone)


def _give_up(keeper: Keeper) -> tuple[int, int]:
    """Closes what is still open and not waiting for its time."""
    closed = gone = 0
    with keeper.database.begin() as session:
        waiting = func.coalesce(Journal.due_at > func.now(), False)
        rows = session.scalars(
            select(Journal).where(Journal.library_id == keeper.library_id, ~waiting).with_for_update()
        ).all()
        for row in rows:
            if keeper.store.taken(row.staged):
                continue  # something of somebody's lies there: it is not forgotten
            if row.file_id is not None and not keeper.store.taken(row.path):
                file = session.get(File, row.file_id)
                if file is not None and file.path == row.path and file.state != FileState.REMOVED:
                    file.state = FileState.GONE
                    gone += 1
            session.execute(delete(Journal).where(Journal.id == row.id))
            closed += 1
    return closed, gone
