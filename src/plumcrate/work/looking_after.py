"""The jobs that look after what was made: checks, the proof of a hand-back, backups that grew old."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import func, or_, select, update
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, JobState
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import Which, older_than, prune
from plumcrate.keeping.verify import Report, sweep, verify
from plumcrate.records.database import Database, lost_connection, notify
from plumcrate.records.tables import Backup, Check, Copy, File, Journal, Ledger, Library, Run
from plumcrate.storage.errors import NotThere, StorageError

from .runs import upkeep_of

log = structlog.get_logger()

_PRUNE_EVERY = 3600.0


def check_library(database: Database, check_id: int, keeper: Keeper) -> None:
    """Carries out a check that waits in the records. Errors end up in its row, in plain words."""
    with database.begin() as session:
        row = session.get_one(Check, check_id)
        row.state, mend = JobState.RUNNING, row.mend
    try:
        for report in verify(keeper, mend=mend):
            if not _tell(database, check_id, report, JobState.RUNNING):
                return  # somebody stopped it
        _tell(database, check_id, report, JobState.FINISHED)
    except StorageError as error:
        _fail(database, check_id, str(error))
    except Exception as error:
        if lost_connection(error):
            raise
        log.exception("a check failed", check=check_id)
        _fail(database, check_id, f"an internal error ({type(error).__name__}); the worker's log says more")


def _tell(database: Database, check_id: int, report: Report, state: JobState) -> bool:
    with database.begin() as session:
        row = session.get_one(Check, check_id, with_for_update=True)
        if row.state == JobState.STOPPED:
            return False
        for name in ("files", "copies", "backups", "differences", "mended"):
            setattr(row, name, getattr(report, name))
        row.findings = [finding.model_dump() for finding in report.findings]
        row.state = state
        row.finished_at = datetime.now(UTC) if state is JobState.FINISHED else None
        notify(session, check=check_id)
    return True


def _fail(database: Database, check_id: int, reason: str) -> None:
    with database.begin() as session:
        row = session.get_one(Check, check_id)
        row.state, row.reason, row.finished_at = JobState.FAILED, reason, datetime.now(UTC)
        notify(session, check=check_id)


def prove_hand_back(database: Database, run_id: int, keeper: Keeper) -> None:
    """At the end of a hand-back: reads every original again and compares it with what the ledger knows.

    The backups stay until somebody deletes them, so that the proof can be repeated. When all is as it was,
    the folder loses its mark too. Raises NotThere; the proof then begins again later.
    """
    with keeper.store.visit():
        proof = _compare(database, run_id, keeper)
        if proof["verdict"] == "complete":
            keeper.unmark()
    with database.begin() as session:
        session.get_one(Run, run_id).proof = proof
        notify(session, run=run_id)
    log.info("handed back", run=run_id, **proof)


def _compare(database: Database, run_id: int, keeper: Keeper) -> dict[str, Any]:
    with database.begin() as session:
        ours = File.library_id == keeper.library_id
        rows = session.execute(
            select(File.id, File.path, File.before_sha256).where(ours, File.state != FileState.GONE)
        ).all()
        originals = _originals(session, run_id)
        copies = session.scalar(select(func.count()).where(Copy.library_id == keeper.library_id)) or 0
        changes = session.scalar(select(func.count()).where(Journal.library_id == keeper.library_id)) or 0
        used = session.scalar(
            select(func.count()).where(
                ours,
                File.state == FileState.LEFT_ALONE,
                File.sha256.is_not(None),
                File.before_sha256.is_(None),
            )
        )
    identical = differing = treated = 0
    for row in rows:
        treated += row.before_sha256 is not None
        expected = originals.get(row.id)
        if expected is not None:
            if _hash_of(keeper, row.path) == expected:
                identical += 1
            else:
                differing += 1
    strays = sweep(keeper)
    whole = not (differing or treated or copies or strays or changes)
    return {
        "originals_identical": identical,
        "originals_differing": differing,
        "still_treated": treated,
        "copies_left": copies + strays,
        "changes_open": changes,
        "copies_used_elsewhere": used or 0,
        "verdict": "complete" if whole else "incomplete",
    }


def _hash_of(keeper: Keeper, path: str) -> bytes | None:
    try:
        return keeper.store.sha256(path)
    except NotThere:
        raise
    except StorageError as error:
        log.warning("a restored file cannot be read", path=path, reason=str(error))
        return None


def _originals(session: Session, run_id: int) -> dict[int, bytes]:
    """The hash of the original that the run put back, for each of its files."""
    rows = session.execute(
        select(Ledger.file_id, Ledger.after_sha256)
        .where(Ledger.run_id == run_id, Ledger.action.in_(["restore", "put-back"]))
        .order_by(Ledger.id)
    )
    return {row.file_id: row.after_sha256 for row in rows if row.after_sha256}


class Retention:
    """Deletes backups that are older than a library wants to keep; looks once an hour.

    Ages are by the database's clock and by days seen, see :func:`plumcrate.keeping.prune.older_than`. The
    first look after a start only reports, so that a wrong clock is noticed before it costs a backup.
    """

    def __init__(self, database: Database) -> None:
        self._database = database
        self._looked = -_PRUNE_EVERY
        self._reported = False

    def tend(self, keeper_of: Callable[[Library], Keeper], libraries: Sequence[Library]) -> None:
        """One look, when an hour has passed."""
        if time.monotonic() - self._looked < _PRUNE_EVERY:
            return
        self._looked = time.monotonic()
        reporting, self._reported = not self._reported, True
        for library in libraries:
            try:
                self.look(keeper_of(library), library, reporting=reporting)
            except StorageError as error:
                log.warning("old backups were not deleted", library=library.slug, reason=str(error))

    def look(self, keeper: Keeper, library: Library, *, reporting: bool) -> int:
        """Counts a day, and deletes what is old, or only says so; how many backups. Raises StorageError."""
        with self._database.begin() as session:
            session.execute(
                update(Library)
                .where(
                    Library.id == library.id,
                    or_(Library.day_seen.is_(None), Library.day_seen < func.current_date()),
                )
                .values(days_seen=Library.days_seen + 1, day_seen=func.current_date())
            )
        upkeep = upkeep_of(library)
        count = 0
        for days, which in (
            (upkeep.keep_backups_days, Which(older_than(upkeep.keep_backups_days), needed=True)),
            (
                upkeep.keep_orphans_days,
                Which(older_than(upkeep.keep_orphans_days), orphans=True, spare=False),
            ),
        ):
            if days is None:
                continue
            with self._database.begin() as session:
                old = session.scalar(
                    select(func.count()).where(
                        Backup.library_id == library.id, Backup.pruned_at.is_(None), which.where()
                    )
                )
            if not old:
                continue
            if reporting:
                log.info("old backups will be deleted within the hour", library=library.slug, backups=old)
                continue
            done = prune(keeper, which, note=f"older than {days} days")
            log.info("old backups deleted", library=library.slug, backups=done.backups, bytes=done.bytes)
            count += done.backups
        return count
