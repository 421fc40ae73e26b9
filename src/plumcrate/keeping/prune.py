"""Deleting backups. What must not go by mistake goes only when that is said.

A backup is *needed* while it is the only original of a treated file that stands in the library. It is
*orphaned* when its file was deleted, moved away or overwritten by somebody, and the original's bytes
have not been seen in the library since. Otherwise it is *spare*: the original stands in the library.

A backup is first selected in the records, where a file that needed it also loses its claim; then it is
deleted from the store under the lock of its row; then the row goes. A process killed in between leaves
selected rows, which :func:`finish_pruning` ends.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import ColumnElement, and_, exists, func, or_, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.care import Backups
from plumcrate.contract.jobs import PruneReport
from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import Backup, File, Journal, Ledger, Library

from .keeper import Keeper
from .state import StateFolder
from .steps import Step, passed

PRUNE = "prune"
#: After so many backups it is told how far the work is.
_TELL_EVERY = 100


def claimed() -> ColumnElement[bool]:
    """Whether a backup is the only original of a file that is there, or part of a change under way."""
    by_file = exists(
        select(1)
        .where(File.library_id == Backup.library_id, File.before_sha256 == Backup.sha256)
        .where(File.state != FileState.GONE)
        .correlate(Backup)
    )
    return by_file | in_a_change()


def orphaned() -> ColumnElement[bool]:
    """Whether a backup's file is gone or overwritten, and its bytes were not seen since."""
    return and_(Backup.seen_at.is_(None), ~claimed())


def in_a_change() -> ColumnElement[bool]:
    """Whether a change that is under way relies on a backup."""
    original = Journal.detail["original"].astext == func.encode(Backup.sha256, "hex")
    return exists(
        select(1)
        .where(Journal.library_id == Backup.library_id)
        .where(or_(original, Journal.before_sha256 == Backup.sha256, Journal.after_sha256 == Backup.sha256))
        .correlate(Backup)
    )


def older_than(days: int | None) -> ColumnElement[bool]:
    """Whether a backup has been kept for so many days, both by the database's clock and by days seen.

    The days seen grow by at most one a day and never go back, so that no wrong clock makes a backup old.
    """
    if days is None:
        return true()
    seen = select(Library.days_seen).where(Library.id == Backup.library_id).scalar_subquery()
    return and_(Backup.created_at < func.now() - timedelta(days=days), seen - Backup.born_day >= days)


@dataclass(frozen=True, slots=True)
class Which:
    """Which backups go: spare ones, and with them ``orphans`` and those that are ``needed``."""

    age: ColumnElement[bool]
    orphans: bool = False
    needed: bool = False
    spare: bool = True

    def where(self) -> ColumnElement[bool]:
        kinds = [and_(~claimed(), Backup.seen_at.is_not(None))] if self.spare else []
        if self.orphans:
            kinds.append(orphaned())
        if self.needed:
            kinds.append(and_(claimed(), ~in_a_change()))
        return and_(self.age, or_(*kinds))


def prune(keeper: Keeper, which: Which, *, note: str) -> PruneReport:
    """Deletes the backups of a library that are asked for; see :func:`pruning`."""
    *_, report = pruning(keeper, which, note=note)
    return report


def pruning(keeper: Keeper, which: Which, *, note: str) -> Iterator[PruneReport]:
    """Deletes the backups of a library that are asked for; yields how far it is, the last time whole.

    Files whose only original goes can then not be restored any more; the ledger says so for each. Raises
    StorageError, and NotThere when the state folder is not the right one.
    """
    keeper.backups.has(b"\0" * 32)  # nothing is selected while the store is away
    with keeper.database.begin() as session:
        ours = [Backup.library_id == keeper.library_id, Backup.pruned_at.is_(None)]
        rows = session.execute(
            update(Backup)
            .where(*ours, which.where())
            .values(pruned_at=func.now())
            .returning(Backup.sha256, Backup.size)
            .execution_options(synchronize_session=False)
        ).all()
        sizes = {row.sha256: row.size for row in rows}
        lost = _forget_backups(session, keeper.library_id, list(sizes), note)
    passed(Step.SELECTED)
    report = PruneReport(wanted=len(sizes), needed=lost)
    yield report
    for size in deleting(keeper):
        report.backups += 1
        report.bytes += size
        if report.backups % _TELL_EVERY == 0:
            yield report
    with keeper.database.begin() as session:
        gone = sizes.keys() - _still_there(session, keeper.library_id, list(sizes))
        report.backups, report.bytes = len(gone), sum(sizes[sha256] for sha256 in gone)
        report.left = (
            session.scalar(select(func.count()).where(*ours, which.age, or_(claimed(), orphaned()))) or 0
        )
    yield report


def _still_there(session: Session, library_id: int, hashes: list[bytes]) -> set[bytes]:
    """Which of these backups stand. The worker's upkeep may be deleting beside us: this waits for it."""
    there: set[bytes] = set()
    for start in range(0, len(hashes), 5000):
        some = Backup.library_id == library_id, Backup.sha256 == func.any(hashes[start : start + 5000])
        there.update(session.scalars(select(Backup.sha256).where(*some).with_for_update()))
    return there


def _forget_backups(session: Session, library_id: int, hashes: list[bytes], note: str) -> int:
    """Files lose their claim to backups that go; says how many backups were claimed by files there."""
    lost: set[bytes] = set()
    for start in range(0, len(hashes), 5000):
        files = session.execute(
            select(File.id, File.picture_id, File.path, File.before_sha256, File.state, File.size_before)
            .where(
                File.library_id == library_id, File.before_sha256 == func.any(hashes[start : start + 5000])
            )
            .order_by(File.id)
            .with_for_update()
        ).all()
        lost.update(file.before_sha256 for file in files if file.state != FileState.GONE)
        session.execute(
            update(File)
            .where(File.id.in_([file.id for file in files]))
            .values(before_sha256=None)
            .execution_options(synchronize_session=False)
        )
        session.add_all(
            Ledger(
                library_id=library_id,
                picture_id=file.picture_id,
                file_id=file.id,
                action=PRUNE,
                path=file.path,
                bytes_before=file.size_before,
                detail={"because": note},
            )
            for file in files
        )
    return len(lost)


def finish_pruning(keeper: Keeper) -> int:
    """Deletes what is selected and not needed again; returns how many. Raises StorageError."""
    return sum(1 for _ in deleting(keeper))


def deleting(keeper: Keeper) -> Iterator[int]:
    """Deletes what is selected and not needed again, one after the other; yields their sizes. Raises
    StorageError.

    The row is locked first and the need asked after: a change that relies on the backup has its journal
    row committed before it looks whether the backup stands, so one of the two sees the other.
    """
    selected = Backup.library_id == keeper.library_id, Backup.pruned_at.is_not(None)
    while True:
        with keeper.database.begin() as session:
            row = session.scalar(select(Backup).where(*selected).limit(1).with_for_update(skip_locked=True))
            if row is None:
                return
            if session.scalar(select(claimed()).where(Backup.id == row.id)):
                row.pruned_at = None
                continue
            keeper.backups.delete(row.sha256)
            passed(Step.DELETED)
            session.delete(row)
            size = row.size
        yield size


def backups_view(session: Session, library: Library, state: StateFolder) -> Backups:
    """What the store of a library holds."""
    size = Backup.size
    needed, lost = claimed(), orphaned()
    row = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(size), 0),
            func.count().filter(needed),
            func.coalesce(func.sum(size).filter(needed), 0),
            func.count().filter(lost),
            func.coalesce(func.sum(size).filter(lost), 0),
            func.min(Backup.created_at),
        ).where(Backup.library_id == library.id, Backup.pruned_at.is_(None))
    ).one()
    return Backups(
        backups=row[0],
        bytes=int(row[1]),
        needed=row[2],
        bytes_needed=int(row[3]),
        orphaned=row[4],
        bytes_orphaned=int(row[5]),
        oldest_at=row[6],
        folder=str(state.backups_of(library.slug)),
        bytes_free=shutil.disk_usage(state.path).free if state.path.is_dir() else None,
    )
