"""Comparing library, backup store and records byte for byte, and mending what needs no choice.

What is mended: hidden files that no change owns are removed once it is certain that their bytes are kept:
they are results of ours, or in the backup store, or are backed up first. Copies that are missing or not ours
any more lose their record, so that the next run makes them anew; a backup without a record gets one; a
missing or damaged backup whose original stands in the library is made again; a time that was changed while
the bytes are ours is noted. What is only told: files that somebody changed or deleted, backups that cannot
be had again, and changes that cannot be settled yet.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import timedelta

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert

from plumcrate.contract.jobs import Finding
from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import Backup, Derived, File, Journal, Result
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.store import HALF_SWAPPED, NO_FILE

from .keeper import Keeper

_BATCH = 500
_MOST_FINDINGS = 500


@dataclass(slots=True)
class CheckFindings:
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


def verify(keeper: Keeper, *, mend: bool) -> Iterator[CheckFindings]:
    """Walks everything; yields the report as it grows, the last time whole.

    Raises StorageError; NotThere when the library or the state folder is not the right one.
    """
    with keeper.store.visit():
        yield from _verify(keeper, mend=mend)


def _verify(keeper: Keeper, *, mend: bool) -> Iterator[CheckFindings]:
    report = CheckFindings()
    for files in _treated(keeper):
        for file in files:
            _check_file(keeper, file, report, mend)
        yield report
    _check_copies(keeper, report, mend)
    yield report
    _check_backups(keeper, report, mend)
    yield report
    _check_open(keeper, report)
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


def _check_file(keeper: Keeper, file: File, report: CheckFindings, mend: bool) -> None:
    report.files += 1
    try:
        facts = keeper.store.facts(file.path)
        current = keeper.store.sha256(file.path)
    except StorageError as error:
        if isinstance(error, NotThere):
            raise
        if error.code != "gone":
            report.add("file-unreadable", file.path, str(error), mended=False)
            return
        current = None
    if current is None:
        detail = "the file is not there any more: survey, so that it is recorded"
        if file.before_sha256:
            detail += "; its original stays among the orphaned backups"
        report.add("file-missing", file.path, detail, mended=False)
    elif current != file.sha256 and not _in_hand(keeper, file):
        report.add(
            "file-changed", file.path, "somebody changed it since we treated it: survey again", mended=False
        )
    elif current == file.sha256 and (facts.size, facts.mtime_ns) != (file.size_now, file.mtime_ns):
        if mend:
            with keeper.database.begin() as session:
                session.execute(
                    update(File)
                    .where(File.id == file.id, File.sha256 == current)
                    .values(mtime_ns=facts.mtime_ns, size_now=facts.size)
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


def _check_copies(keeper: Keeper, report: CheckFindings, mend: bool) -> None:
    last = 0
    while True:
        with keeper.database.begin() as session:
            rows = session.scalars(
                select(Derived)
                .join(File, File.id == Derived.file_id)
                .where(
                    Derived.library_id == keeper.library_id, Derived.id > last, File.state != FileState.GONE
                )
                .order_by(Derived.id)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1].id
        for copy in rows:
            report.copies += 1
            current = keeper.store.sha256(copy.path)
            if current == copy.sha256:
                continue
            if mend:
                with keeper.database.begin() as session:
                    session.execute(
                        delete(Derived).where(Derived.id == copy.id, Derived.sha256 == copy.sha256)
                    )
                    # So that the next run makes it again.
                    session.execute(update(File).where(File.id == copy.file_id).values(recipe=None))
            what, detail = (
                ("copy-missing", "the copy is not there any more")
                if current is None
                else ("copy-changed", "somebody put another file in the copy's place; it is left to them")
            )
            report.add(what, copy.path, detail, mended=mend)


def _check_backups(keeper: Keeper, report: CheckFindings, mend: bool) -> None:
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
        paths = set(
            session.scalars(
                select(File.path).where(
                    File.library_id == keeper.library_id, File.before_sha256 == backup.sha256
                )
            )
        )
    for path in {*paths, backup.path} - {""}:
        if keeper.store.sha256(path) == backup.sha256:
            data = keeper.store.read(path)
            if hashlib.sha256(data).digest() == backup.sha256:
                keeper.backups.put(data, backup.sha256)
                return True
    return False


def _check_open(keeper: Keeper, report: CheckFindings) -> None:
    """Changes that began a while ago and cannot be settled."""
    with keeper.database.begin() as session:
        rows = session.execute(
            select(Journal.path, Journal.action).where(
                Journal.library_id == keeper.library_id,
                func.coalesce(Journal.due_at, Journal.opened_at) < func.now() - timedelta(minutes=5),
            )
        ).all()
    for row in rows:
        report.add(
            "change-open",
            row.path,
            f"its last change ({row.action}) cannot be settled: is a volume or a "
            "folder away? When it is gone for good, reattach the folder as it is",
            mended=False,
        )


def _check_strays(keeper: Keeper, report: CheckFindings, mend: bool) -> None:
    for path in strays(keeper):
        mended = mend and _take_away(keeper, path)
        report.add("stray", path, "a hidden file of ours that belongs to no change", mended=mended)


def strays(keeper: Keeper) -> Iterator[str]:
    """Hidden files of ours that no open change owns."""
    for path in keeper.store.strays():
        owner = or_(Journal.staged == path, func.concat(Journal.staged, HALF_SWAPPED) == path)
        with keeper.database.begin() as session:
            query = select(Journal.id).where(Journal.library_id == keeper.library_id, owner).limit(1)
            owned = session.scalar(query) is not None
        if not owned:
            yield path


def sweep(keeper: Keeper) -> int:
    """Takes away what belongs to no change any more; how many stay. Raises StorageError."""
    return sum(not _take_away(keeper, path) for path in strays(keeper))


def _take_away(keeper: Keeper, path: str) -> bool:
    """Deletes a hidden file once its bytes are certainly kept elsewhere, or ours."""
    content = keeper.store.sha256(path)
    if content is None or content == NO_FILE:
        return False
    with keeper.database.begin() as session:
        ours = session.scalar(
            select(Result.id).where(Result.library_id == keeper.library_id, Result.sha256 == content)
        )
    if ours is None and not keeper.backups.sound(content):
        keeper.back_up(keeper.store.read(path), content, path)
    keeper.store.discard(path)
    return True


def _check_store(keeper: Keeper, report: CheckFindings, mend: bool) -> None:
    """Backups in the store that have no record."""
    for sha in keeper.backups.all():
        with keeper.database.begin() as session:
            known = session.scalar(
                select(Backup.id).where(Backup.library_id == keeper.library_id, Backup.sha256 == sha)
            )
            if known is not None:
                continue
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
            "backup-unknown", f"backup {sha.hex()[:12]}…", "a whole backup without a record", mended=mend
        )
