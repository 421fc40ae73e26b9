"""Comparing library, backup store and records byte for byte, and mending what needs no choice.

What is mended: staged files that no change owns are removed (the backup has their bytes, or they are
results that were never put in place); copies that are missing or not ours any more lose their record, so
that the next run makes them anew; a backup without a record gets one; a missing or damaged backup whose
original stands in the library is made again; a time that was changed while the bytes are ours is noted.
What is only told: files that somebody changed or deleted, and backups that cannot be had again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import delete, select, update
from sqlalchemy.dialects.postgresql import insert

from plumcrate.contract import FileState, Finding
from plumcrate.records.tables import Backup, Copy, File, Journal
from plumcrate.storage.folder import STAGED_PREFIX, StorageError

from .keeper import Keeper

_BATCH = 500
_MOST_FINDINGS = 500


@dataclass(slots=True)
class Report:
    """What was compared and what was found; ``findings`` holds the first 500."""

    files: int = 0
    copies: int = 0
    backups: int = 0
    differences: int = 0
    mended: int = 0
    findings: list[Finding] = field(default_factory=list)

    def add(self, what: str, path: str, detail: str, *, mended: bool) -> None:
        self.differences += 1
        self.mended += mended
        if len(self.findings) < _MOST_FINDINGS:
            self.findings.append(Finding(what=what, path=path, detail=detail, mended=mended))


def verify(keeper: Keeper, *, mend: bool) -> Iterator[Report]:
    """Walks everything; yields the report as it grows, the last time whole. Raises StorageError."""
    if not keeper.folder.root.is_dir():
        raise StorageError(
            "folder-missing", f"the folder {keeper.folder.root} is not there: bring it back first"
        )
    report = Report()
    for files in _treated(keeper):
        for file in files:
            _check_file(keeper, file, report, mend)
        yield report
    _check_copies(keeper, report, mend)
    yield report
    _check_backups(keeper, report, mend)
    yield report
    _check_strays(keeper, report, mend)
    _check_store(keeper, report, mend)
    yield report


def _treated(keeper: Keeper) -> Iterator[list[File]]:
    last = 0
    while True:
        with keeper.database.begin() as session:
            files = list(
                session.scalars(
                    select(File)
                    .where(
                        File.library_id == keeper.library_id,
                        File.id > last,
                        File.sha256.is_not(None),
                        File.state.not_in([FileState.GONE, FileState.REMOVED]),
                    )
                    .order_by(File.id)
                    .limit(_BATCH)
                )
            )
        if not files:
            return
        yield files
        last = files[-1].id


def _check_file(keeper: Keeper, file: File, report: Report, mend: bool) -> None:
    report.files += 1
    try:
        facts = keeper.folder.stat(file.path)
        current = keeper.folder.sha256(file.path)
    except StorageError as error:
        if error.code != "gone":
            report.add("file-unreadable", file.path, str(error), mended=False)
            return
        current = None
    if current is None:
        detail = (
            "the file is not there any more; its backup can be restored" if file.before_sha256 else "gone"
        )
        report.add("file-missing", file.path, detail, mended=False)
    elif current != file.sha256 and not _in_hand(keeper, file):
        report.add(
            "file-changed", file.path, "somebody changed it since we treated it: survey again", mended=False
        )
    elif current == file.sha256 and (facts.st_size, facts.st_mtime_ns) != (file.size_now, file.mtime_ns):
        if mend:
            with keeper.database.begin() as session:
                session.execute(
                    update(File)
                    .where(File.id == file.id, File.sha256 == current)
                    .values(mtime_ns=facts.st_mtime_ns, size_now=facts.st_size)
                )
        report.add(
            "time-changed", file.path, "the bytes are ours, but the file's time was changed", mended=mend
        )


def _in_hand(keeper: Keeper, file: File) -> bool:
    """Whether a change is under way, or has been made since the record was read."""
    with keeper.database.begin() as session:
        if session.scalar(select(Journal.id).where(Journal.file_id == file.id).limit(1)):
            return True
        row = session.get(File, file.id)
    return row is None or row.sha256 != file.sha256


def _check_copies(keeper: Keeper, report: Report, mend: bool) -> None:
    last = 0
    while True:
        with keeper.database.begin() as session:
            rows = session.scalars(
                select(Copy)
                .join(File, File.id == Copy.file_id)
                .where(Copy.library_id == keeper.library_id, Copy.id > last, File.state != FileState.GONE)
                .order_by(Copy.id)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1].id
        for copy in rows:
            report.copies += 1
            current = keeper.folder.sha256(copy.path)
            if current == copy.sha256:
                continue
            if mend:
                with keeper.database.begin() as session:
                    session.execute(delete(Copy).where(Copy.id == copy.id, Copy.sha256 == copy.sha256))
                    # So that the next run makes it again.
                    session.execute(update(File).where(File.id == copy.file_id).values(recipe=None))
            what, detail = (
                ("copy-missing", "the copy is not there any more")
                if current is None
                else ("copy-changed", "somebody put another file in the copy's place; it is left to them")
            )
            report.add(what, copy.path, detail, mended=mend)


def _check_backups(keeper: Keeper, report: Report, mend: bool) -> None:
    last = 0
    while True:
        with keeper.database.begin() as session:
            rows = session.scalars(
                select(Backup)
                .where(Backup.library_id == keeper.library_id, Backup.id > last, Backup.pruned_at.is_(None))
                .order_by(Backup.id)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1].id
        for backup in rows:
            report.backups += 1
            try:
                keeper.backups.get(backup.sha256)
            except StorageError as error:
                mended = mend and _made_again(keeper, backup)
                report.add(error.code, f"backup {backup.sha256.hex()[:12]}…", str(error), mended=mended)


def _made_again(keeper: Keeper, backup: Backup) -> bool:
    """Whether the backup's bytes still stand in the library, and were put into the store again."""
    with keeper.database.begin() as session:
        files = list(
            session.scalars(
                select(File).where(File.library_id == keeper.library_id, File.before_sha256 == backup.sha256)
            )
        )
        if not files:  # nobody needs it: it is forgotten
            session.execute(delete(Backup).where(Backup.id == backup.id))
            return True
    for file in files:
        try:
            data = keeper.folder.read(file.path)
        except StorageError:
            continue
        if hashlib.sha256(data).digest() == backup.sha256:
            keeper.backups.delete(backup.sha256)
            keeper.backups.put(data, backup.sha256)
            return True
    return False


def _check_strays(keeper: Keeper, report: Report, mend: bool) -> None:
    """Staged files that no open change owns."""
    with keeper.database.begin() as session:
        owned = set(session.scalars(select(Journal.staged).where(Journal.library_id == keeper.library_id)))
    for place in keeper.folder.root.rglob(f"{STAGED_PREFIX}*"):
        path = place.relative_to(keeper.folder.root).as_posix()
        if path in owned or place.is_dir():
            continue
        with keeper.database.begin() as session:
            began = session.scalar(select(Journal.id).where(Journal.staged == path).limit(1))
        if began is None:
            if mend:
                keeper.folder.remove(path)
            report.add("stray", path, "a file of ours that was never put in place", mended=mend)


def _check_store(keeper: Keeper, report: Report, mend: bool) -> None:
    """Backups in the store that have no record."""
    for sha in keeper.backups.all():
        with keeper.database.begin() as session:
            known = session.scalar(
                select(Backup.id).where(Backup.library_id == keeper.library_id, Backup.sha256 == sha)
            )
            if known is not None:
                continue
            place: Path = keeper.backups.place(sha)
            try:
                size = len(keeper.backups.get(sha))
            except StorageError as error:
                report.add(error.code, f"backup {sha.hex()[:12]}…", str(error), mended=False)
                continue
            if mend:
                session.execute(
                    insert(Backup)
                    .values(library_id=keeper.library_id, sha256=sha, size=size)
                    .on_conflict_do_nothing()
                )
        report.add(
            "backup-unknown", f"backup {place.name[:12]}…", "a whole backup without a record", mended=mend
        )
