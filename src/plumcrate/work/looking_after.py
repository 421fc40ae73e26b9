"""The jobs that look after what was made: checks, the proof of a hand-back, backups that grew old."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta

import structlog
from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, JobState
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import prune
from plumcrate.keeping.verify import Report, verify
from plumcrate.records.database import Database, notify
from plumcrate.records.tables import Backup, Check, Copy, File, Ledger, Library, Run
from plumcrate.storage.folder import STAGED_PREFIX, StorageError

from .runs import upkeep_of

log = structlog.get_logger()

_PRUNE_EVERY = 3600.0
#: A clock that differs so much from the time that has passed, in seconds, was set.
_JUMP = 600.0


def check_library(database: Database, check_id: int, keeper: Keeper) -> None:
    """Carries out a check that waits in the records. Errors end up in its row, in plain words."""
    with database.begin() as session:
        row = session.get_one(Check, check_id)
        row.state, mend = JobState.RUNNING, row.mend
    try:
        for report in verify(keeper, mend=mend):
            _tell(database, check_id, report, JobState.RUNNING)
        _tell(database, check_id, report, JobState.FINISHED)
    except StorageError as error:
        _fail(database, check_id, str(error))
    except OperationalError:
        raise
    except Exception as error:
        log.exception("a check failed", check=check_id)
        _fail(database, check_id, f"an internal error ({type(error).__name__}); the worker's log says more")


def _tell(database: Database, check_id: int, report: Report, state: JobState) -> None:
    with database.begin() as session:
        row = session.get_one(Check, check_id)
        for name in ("files", "copies", "backups", "differences", "mended"):
            setattr(row, name, getattr(report, name))
        row.findings = [finding.model_dump() for finding in report.findings]
        row.state = state
        row.finished_at = datetime.now(UTC) if state is JobState.FINISHED else None
        notify(session, check=check_id)


def _fail(database: Database, check_id: int, reason: str) -> None:
    with database.begin() as session:
        row = session.get_one(Check, check_id)
        row.state, row.reason, row.finished_at = JobState.FAILED, reason, datetime.now(UTC)
        notify(session, check=check_id)


def prove_hand_back(database: Database, run_id: int, keeper: Keeper) -> None:
    """At the end of a hand-back: reads every original again and compares it with what the ledger knows.

    The backups stay until somebody deletes them, so that the proof can be repeated.
    """
    with database.begin() as session:
        rows = session.execute(
            select(File.id, File.path, File.state, File.sha256, File.before_sha256).where(
                File.library_id == keeper.library_id, File.state != FileState.GONE
            )
        ).all()
        originals = _originals(session, run_id)
        copies = session.scalar(select(func.count()).where(Copy.library_id == keeper.library_id)) or 0
    identical = differing = ours = 0
    for row in rows:
        ours += row.sha256 is not None or row.before_sha256 is not None
        expected = originals.get(row.id)
        if expected is None:
            continue
        if keeper.folder.sha256(row.path) == expected:
            identical += 1
        else:
            differing += 1
    strays = sum(1 for _ in keeper.folder.root.rglob(f"{STAGED_PREFIX}*"))
    proof = {
        "originals_identical": identical,
        "originals_differing": differing,
        "still_treated": ours,
        "copies_left": copies + strays,
        "verdict": "complete" if not (differing or ours or copies or strays) else "incomplete",
    }
    with database.begin() as session:
        session.get_one(Run, run_id).proof = proof
        notify(session, run=run_id)
    log.info("handed back", run=run_id, **proof)


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

    Ages are only as good as the clock: when it was set while this process ran, nothing is deleted
    any more until the worker is started again.
    """

    def __init__(self, database: Database) -> None:
        self._database = database
        self._offset = time.time() - time.monotonic()
        self._looked = -_PRUNE_EVERY
        self.suspended = False

    def tend(self, keeper_of: dict[int, Keeper], libraries: list[Library]) -> None:
        """One look, when an hour has passed. Raises StorageError."""
        if abs(time.time() - time.monotonic() - self._offset) > _JUMP and not self.suspended:
            self.suspended = True
            log.warning("the clock was set: no backup is deleted by age until the worker is started again")
        if self.suspended or time.monotonic() - self._looked < _PRUNE_EVERY:
            return
        self._looked = time.monotonic()
        for library in libraries:
            days = upkeep_of(library).keep_backups_days
            if days is None:
                continue
            before = datetime.now(UTC) - timedelta(days=days)
            with self._database.begin() as session:
                old = session.scalar(
                    select(func.count()).where(Backup.library_id == library.id, Backup.created_at < before)
                )
            if old:
                note = f"older than {days} days"
                done = prune(keeper_of[library.id], before, needed_too=True, note=note)
                log.info("old backups deleted", library=library.slug, backups=done.backups, bytes=done.bytes)
