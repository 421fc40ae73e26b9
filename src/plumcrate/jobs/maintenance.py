"""The jobs that look after what was made: checks, the proof of a hand-back, backups that grew old."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from datetime import timedelta

import structlog
from sqlalchemy import ColumnElement, delete, func, or_, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import CheckReport, CheckRequest, ProofReport, PruneReport, PruneRequest
from plumcrate.contract.pictures import FileState
from plumcrate.keeping import resumable
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import Which, older_than, prune, pruning
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.verify import sweep, verify
from plumcrate.records.database import Database, notify
from plumcrate.records.queries.kept_answers import forget_answers
from plumcrate.records.queries.originals import originals_put_back
from plumcrate.records.tables import Backup, Derived, File, Item, Journal, LeftStore, Library, Run
from plumcrate.runs.runs import automation_of
from plumcrate.settings import Settings
from plumcrate.storage.errors import NotThere, StorageError

from .long_work import Follow, expire

log = structlog.get_logger()

_PRUNE_EVERY = 3600.0


def check_library(keeper: Keeper, follow: Follow) -> CheckReport:
    """Compares a library byte for byte, and mends when asked to. Raises StorageError, and Stopped."""
    request = CheckRequest.model_validate(follow.request)
    report = CheckReport()
    for step in verify(keeper, mend=request.mend):
        report = CheckReport.model_validate(step, from_attributes=True)
        follow.report(report)
    return report


def prune_backups(keeper: Keeper, follow: Follow) -> PruneReport:
    """Deletes the backups that a person asked for. Raises StorageError, and Stopped."""
    request = PruneRequest.model_validate(follow.request)
    age: ColumnElement[bool] = true()
    if request.older_than_days is not None:
        # A person who says so goes by the calendar; what happens by itself also by the days seen.
        age = Backup.created_at < func.now() - timedelta(days=request.older_than_days)
    which = Which(age, orphans=request.orphans_too, needed=request.needed_too)
    report = PruneReport()
    for report in pruning(keeper, which, note=f"deleted by {follow.by}"):
        follow.report(report)
    return report


def prove_hand_back(database: Database, run_id: int, keeper: Keeper) -> ProofReport:
    """At the end of a hand-back: reads every original again and compares it with what the ledger knows.

    The backups stay until somebody deletes them, so that the proof can be repeated. When all is as it was,
    the folder loses its identity file too. Raises NotThere; the proof then begins again later.
    """
    with keeper.store.visit():
        proof = _compare(database, run_id, keeper)
        if proof.verdict == "complete":
            keeper.remove_identity()
    with database.begin() as session:
        session.get_one(Run, run_id).proof = proof.model_dump()
        notify(session, run=run_id)
    log.info("handed back", run=run_id, **proof.model_dump())
    return proof


def _compare(database: Database, run_id: int, keeper: Keeper) -> ProofReport:
    with database.begin() as session:
        ours = File.library_id == keeper.library_id
        rows = session.execute(
            select(File.id, File.path, File.before_sha256).where(ours, File.state != FileState.GONE)
        ).all()
        originals, before = originals_put_back(session, keeper.library_id, run_id)
        copies = session.scalar(select(func.count()).where(Derived.library_id == keeper.library_id)) or 0
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
        elif row.id in before and _hash_of(keeper, row.path) == before[row.id]:
            identical += 1  # else somebody has put another picture there since
    strays = sweep(keeper)
    whole = not (differing or treated or copies or strays or changes)
    return ProofReport(
        originals_identical=identical,
        originals_differing=differing,
        still_treated=treated,
        copies_left=copies + strays,
        changes_open=changes,
        copies_used_elsewhere=used or 0,
        verdict="complete" if whole else "incomplete",
    )


def _hash_of(keeper: Keeper, path: str) -> bytes | None:
    try:
        return keeper.store.sha256(path)
    except NotThere:
        raise
    except StorageError as error:
        log.warning("a restored file cannot be read", path=path, reason=str(error))
        return None


class Retention:
    """Deletes what is older than it is to be kept: backups as each library wants, and as the settings say the
    items of ended runs, ended jobs, and the stores of libraries that were disconnected. Looks once an hour.

    Ages are by the database's clock and by days seen, see :func:`plumcrate.keeping.prune.older_than`. The
    first look after a start only reports, so that a wrong clock is noticed before it costs a backup.
    """

    def __init__(self, database: Database, state: StateFolder, settings: Settings) -> None:
        self._database, self._state, self._settings = database, state, settings
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
        with self._database.begin() as session:
            jobs = expire(session, self._settings.keep_history_days)
            items = forget_items(session, self._settings.keep_history_days)
            forget_answers(session)
        if jobs or items:
            log.info("old history forgotten", jobs=jobs, items=items)
        try:
            with self._database.begin() as session:
                resumable.clear(session, self._state)
            self.clear_left_stores(reporting=reporting)
        except StorageError as error:
            log.warning("stores of disconnected libraries were not looked at", reason=str(error))

    def clear_left_stores(self, *, reporting: bool) -> int:
        """Deletes stores of libraries that were disconnected long ago, or only says so. Raises NotThere."""
        self._state.check()
        age = LeftStore.left_at < func.now() - timedelta(days=self._settings.keep_left_days)
        connected = select(Library.slug)
        with self._database.begin() as session:
            slugs = session.scalars(select(LeftStore.slug).where(age, LeftStore.slug.not_in(connected))).all()
        for slug in slugs:
            if reporting:
                log.info("the store of a disconnected library will be deleted within the hour", library=slug)
                continue
            shutil.rmtree(self._state.backups_of(slug), ignore_errors=True)
            with self._database.begin() as session:
                session.execute(delete(LeftStore).where(LeftStore.slug == slug))
            log.info("the store of a disconnected library was deleted", library=slug)
        return 0 if reporting else len(slugs)

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
        automation = automation_of(library)
        count = 0
        for days, which in (
            (automation.keep_backups_days, Which(older_than(automation.keep_backups_days), needed=True)),
            (
                automation.keep_orphans_days,
                Which(older_than(automation.keep_orphans_days), orphans=True, spare=False),
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


def forget_items(session: Session, days: int) -> int:
    """Deletes what runs that ended so many days ago say of single files; their sums stay. How many."""
    old = select(Run.id).where(Run.finished_at < func.now() - timedelta(days=days))
    gone = session.execute(delete(Item).where(Item.run_id.in_(old)))
    return int(getattr(gone, "rowcount", 0))
