"""Deleting backups. One that is the only original of a treated file goes only when that is said.

A backup is first marked in the records, where a file that needed it also loses its claim; then it is
deleted from the store under the lock of its row; then the row goes. A process killed in between leaves
marked rows, which :func:`finish_pruning` ends.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ColumnElement, exists, func, select, update
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, Pruned
from plumcrate.records.tables import Backup, File, Journal, Ledger

from .journal import PRUNE
from .keeper import Keeper
from .steps import Step, passed


def needed() -> ColumnElement[bool]:
    """Whether a backup is the only original of a file, or part of a change that is under way."""
    claimed = exists(
        select(1)
        .where(File.library_id == Backup.library_id, File.before_sha256 == Backup.sha256)
        .where(File.state != FileState.GONE)
        .correlate(Backup)
    )
    return claimed | in_a_change()


def in_a_change() -> ColumnElement[bool]:
    """Whether a change that is under way relies on a backup."""
    original = Journal.detail["original"].astext == func.encode(Backup.sha256, "hex")
    return exists(
        select(1)
        .where(Journal.library_id == Backup.library_id, original | (Journal.before_sha256 == Backup.sha256))
        .correlate(Backup)
    )


def prune(keeper: Keeper, before: datetime | None, *, needed_too: bool, note: str) -> Pruned:
    """Deletes the backups of a library that were made before a moment, or all.

    ``needed_too``: also those that are the only original of a treated file, which can then not be
    restored any more; the ledger says so for each. Raises StorageError.
    """
    with keeper.database.begin() as session:
        where = [Backup.library_id == keeper.library_id, Backup.pruned_at.is_(None)]
        if before is not None:
            where.append(Backup.created_at < before)
        only = session.scalar(select(func.count()).where(*where, needed())) or 0
        if needed_too:
            where.append(~in_a_change())
        else:
            where.append(~needed())
        rows = session.execute(
            update(Backup)
            .where(*where)
            .values(pruned_at=func.now())
            .returning(Backup.sha256, Backup.size)
            .execution_options(synchronize_session=False)
        ).all()
        hashes = [row.sha256 for row in rows]
        lost = _let_go(session, keeper.library_id, hashes, note) if needed_too else 0
    passed(Step.MARKED)
    finish_pruning(keeper)
    return Pruned(
        backups=len(rows), bytes=sum(row.size for row in rows), needed=lost, left=0 if needed_too else only
    )


def _let_go(session: Session, library_id: int, hashes: list[bytes], note: str) -> int:
    """Files lose their claim to backups that go; says how many backups were claimed."""
    claimed: set[bytes] = set()
    for start in range(0, len(hashes), 5000):
        files = session.execute(
            update(File)
            .where(
                File.library_id == library_id, File.before_sha256 == func.any(hashes[start : start + 5000])
            )
            .values(before_sha256=None)
            .returning(File.id, File.picture_id, File.path, File.sha256, File.state, File.size_before)
            .execution_options(synchronize_session=False)
        ).all()
        claimed.update(file.sha256 for file in files)
        session.add_all(
            Ledger(
                library_id=library_id, picture_id=file.picture_id, file_id=file.id, action=PRUNE,
                path=file.path, bytes_before=file.size_before, detail={"because": note},
            )
            for file in files
        )  # fmt: skip
    return len(claimed)


def finish_pruning(keeper: Keeper) -> int:
    """Deletes what is marked and not needed again; returns how many. Raises StorageError.

    The row is locked first and the need asked after: a change that relies on the backup has its journal
    row committed before it looks whether the backup stands, so one of the two sees the other.
    """
    count = 0
    marked = Backup.library_id == keeper.library_id, Backup.pruned_at.is_not(None)
    while True:
        with keeper.database.begin() as session:
            row = session.scalar(select(Backup).where(*marked).limit(1).with_for_update(skip_locked=True))
            if row is None:
                return count
            if session.scalar(select(needed()).where(Backup.id == row.id)):
                row.pruned_at = None
                continue
            keeper.backups.delete(row.sha256)
            passed(Step.DELETED)
            session.delete(row)
        count += 1
