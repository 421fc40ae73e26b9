"""Surveying a library: listing its files, telling what each is, grouping derived sizes.

Works through the tree folder by folder, a few thousand files a transaction, so that memory does not
grow with the library and a survey that is cut off has lost nothing. A repeated survey opens only files
whose size or time changed. When a file that we treated looks changed, its hash decides. Nothing in the
library is written, with one exception: copies of ours beside a file that somebody has since replaced or
deleted would show the old picture, and are removed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import delete, func, select, text, update
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, SurveyState
from plumcrate.imaging import ImagingError
from plumcrate.imaging.errors import MoreDataNeeded
from plumcrate.imaging.identification import EXTENSIONS, identify
from plumcrate.keeping.journal import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database, notify
from plumcrate.records.tables import Copy, File, Journal, Library, Survey
from plumcrate.storage.folder import Entry, Folder, Skipped, StorageError

from .families import ancestors, reach, settle_families
from .locks import PICTURE_LOCK

log = structlog.get_logger()

ENDINGS = frozenset(ending for name, endings in EXTENSIONS.items() if name != "pdf" for ending in endings)
_HEAD = 65_536
_NOTES = 200
_BATCH = 2_000
REPLACED = Note(detail={"because": "the file was changed by somebody else"})
DELETED = Note(detail={"because": "the file was deleted by somebody else"})


@dataclass(slots=True)
class Known:
    id: int
    picture_id: int
    size: int
    mtime_ns: int
    state: str


@dataclass(slots=True)
class Tally:
    """What a survey has found so far."""

    seen: int = 0
    new: int = 0
    changed: int = 0
    gone: int = 0
    notes: list[str] = field(default_factory=list)
    more_notes: int = 0
    others: Counter[str] = field(default_factory=Counter)

    def note(self, sentence: str) -> None:
        if len(self.notes) < _NOTES:
            self.notes.append(sentence)
        else:
            self.more_notes += 1


@dataclass(slots=True)
class _Batch:
    """A few folders that are compared with the records together."""

    entries: list[Entry] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)


def survey(database: Database, survey_id: int, keeper: Keeper) -> None:
    """Carries out a survey that waits in the records. Errors end up in its row, in plain words."""
    with database.begin() as session:
        row = session.get_one(Survey, survey_id)
        row.state, row.started_at = SurveyState.RUNNING, datetime.now(UTC)
        library = session.get_one(Library, row.library_id)
        patterns = list(library.patterns)
        notify(session, survey=survey_id)
    try:
        _refuse_empty(database, library.id, keeper)
        _Surveyor(database, library.id, keeper, patterns, survey_id).carry_out()
    except StorageError as error:
        _fail(database, survey_id, str(error))
    except OperationalError:
        raise  # the database is away: the survey starts again when it is back
    except Exception as error:
        log.exception("a survey failed", survey=survey_id)
        _fail(database, survey_id, f"an internal error ({type(error).__name__}); the worker's log says more")


def _refuse_empty(database: Database, library_id: int, keeper: Keeper) -> None:
    """A folder that is not mounted is not a library whose files were all deleted."""
    root = keeper.folder.root
    if not root.is_dir():
        raise StorageError(
            "folder-missing",
            f"the folder {root} is not there or cannot be read: "
            "nothing was recorded as gone; bring it back and survey again",
        )
    try:
        empty = not any(root.iterdir())
    except OSError:
        return  # the walk says why it cannot be listed
    if empty:
        with database.begin() as session:
            known = session.scalar(
                select(func.count()).where(File.library_id == library_id, File.state != FileState.GONE)
            )
        if known:
            raise StorageError(
                "folder-empty",
                f"the folder {root} is empty although {known:,} files were known in it: is it "
                "mounted? Nothing was recorded as gone",
            )


def _fail(database: Database, survey_id: int, reason: str) -> None:
    with database.begin() as session:
        row = session.get_one(Survey, survey_id)
        row.state, row.reason, row.finished_at = SurveyState.FAILED, reason, datetime.now(UTC)
        notify(session, survey=survey_id)


class _Surveyor:
    def __init__(
        self, database: Database, library_id: int, keeper: Keeper, patterns: list[str], survey_id: int
    ) -> None:
        self.database, self.library_id, self.keeper = database, library_id, keeper
        self.patterns, self.survey_id = patterns, survey_id
        self.tally = Tally()
        self.visited: set[str] = set()
        self.stale: set[str] = set()  # folders in which files came or went
        self.unlisted: list[str] = []

    def carry_out(self) -> None:
        batch = _Batch()
        for folder, entries in self.keeper.folder.walk_folders():
            if len(entries) == 1 and isinstance(entries[0], Skipped) and entries[0].path == (folder or "."):
                self.unlisted.append(folder)
                self.tally.note(f"{entries[0].path}: {entries[0].reason}, left alone")
                continue
            self.visited.add(folder)
            batch.folders.append(folder)
            batch.entries += self._pictures_of(entries)
            if len(batch.entries) >= _BATCH or len(batch.folders) >= _BATCH:
                self._compare(batch)
                batch = _Batch()
        self._compare(batch)
        self._vanished_folders()
        self._finish()

    def _pictures_of(self, entries: Iterable[Entry | Skipped]) -> list[Entry]:
        found = []
        for entry in entries:
            if isinstance(entry, Skipped):
                self.tally.note(f"{entry.path}: {entry.reason}, left alone")
                continue
            ending = "." + entry.path.rpartition(".")[2].lower()
            if ending in ENDINGS:
                found.append(entry)
            else:
                self.tally.others[ending if "." in entry.path.rpartition("/")[2] else "no ending"] += 1
        return found

    def _compare(self, batch: _Batch) -> None:
        """Brings the records of a few folders up to date, in one transaction."""
        with self.database.begin() as session:
            known = known_files(session, self.library_id, File.folder.in_(batch.folders))
            copies = set(
                session.scalars(
                    select(Copy.path)
                    .join(File, File.id == Copy.file_id)
                    .where(File.library_id == self.library_id, File.folder.in_(batch.folders))
                )
            )
            changing = set(session.scalars(select(Journal.path).where(Journal.library_id == self.library_id)))
        arrivals: list[dict[str, Any]] = []
        changes: list[Change] = []
        touched: set[int] = set()
        seen: set[str] = set()
        for entry in batch.entries:
            if entry.path in copies:
                continue
            self.tally.seen += 1
            seen.add(entry.path)
            record = known.get(entry.path)
            if record is None:
                if entry.path in changing:
                    continue  # a copy of ours that is about to be recorded
                arrivals.append(identified(self.keeper.folder, entry))
                self.stale.add(entry.path.rpartition("/")[0])
                continue
            try:
                change = look_at(self.database, self.keeper, entry, record)
            except Busy:
                continue  # a run is at it; the next survey sees what came of it
            if change is not None:
                changes.append(change)
                touched.add(record.picture_id)
                if change.anew:
                    self.stale.add(entry.path.rpartition("/")[0])
        lasting = (FileState.GONE, FileState.REMOVED)
        gone = {path: one for path, one in known.items() if path not in seen and one.state not in lasting}
        busy = self._drop_copies_of_gone([one.id for one in gone.values()])
        gone = {path: one for path, one in gone.items() if one.id not in busy}
        self.stale |= {path.rpartition("/")[0] for path in gone}
        with self.database.begin() as session:
            for change in changes:
                change.apply(session)
            if gone:
                ids = [one.id for one in gone.values()]
                session.execute(update(File).where(File.id.in_(ids)).values(state=FileState.GONE))
                touched |= {one.picture_id for one in gone.values()}
            levels = reach(self.patterns)
            stale = [
                folder
                for folder in batch.folders
                if self.stale.intersection((folder, *ancestors(folder, levels)))
            ]
            if stale or touched:
                settle_families(session, self.library_id, self.patterns, stale, arrivals, touched)
            self.tally.new += len(arrivals)
            self.tally.changed += sum(change.anew for change in changes)
            self.tally.gone += len(gone)
            session.execute(
                update(Survey).where(Survey.id == self.survey_id).values(files_seen=self.tally.seen)
            )
            notify(session, survey=self.survey_id)

    def _drop_copies_of_gone(self, file_ids: list[int]) -> set[int]:
        """Returns those that a run is at just now; the next survey sees what came of it."""
        if not file_ids:
            return set()
        with self.database.begin() as session:
            files = list(
                session.scalars(select(File).where(File.id.in_(file_ids), File.id.in_(select(Copy.file_id))))
            )
        busy: set[int] = set()
        for file in files:
            with self.database.advisory_lock(PICTURE_LOCK, file.picture_id) as free:
                if free:
                    self.keeper.drop_copies(file, DELETED)
                else:
                    busy.add(file.id)
        return busy

    def _vanished_folders(self) -> None:
        """Files of folders that are not there any more are gone; of folders that cannot be listed, not.

        Their copies stay on record: a folder that was away for a while comes back with them.
        """
        with self.database.begin() as session:
            query = select(File.folder).where(
                File.library_id == self.library_id, File.state.not_in([FileState.GONE, FileState.REMOVED])
            )
            vanished = [
                folder
                for folder in session.scalars(query.distinct())
                if folder not in self.visited and not self._is_unlisted(folder)
            ]
            for start in range(0, len(vanished), _BATCH):
                files = session.execute(
                    update(File)
                    .where(
                        File.library_id == self.library_id,
                        File.folder.in_(vanished[start : start + _BATCH]),
                        File.state.not_in([FileState.GONE, FileState.REMOVED]),
                    )
                    .values(state=FileState.GONE)
                    .returning(File.picture_id)
                ).all()
                self.tally.gone += len(files)
                settle_families(
                    session, self.library_id, self.patterns, [], [], {file.picture_id for file in files}
                )

    def _is_unlisted(self, folder: str) -> bool:
        return any(not one or folder == one or folder.startswith(one + "/") for one in self.unlisted)

    def _finish(self) -> None:
        tally = self.tally
        if tally.others:
            listing = ", ".join(f"{count:,} {ending}" for ending, count in tally.others.most_common(8))
            tally.note(f"files that are not pictures by name, left alone: {listing}")
        with self.database.begin() as session:
            row = session.get_one(Survey, self.survey_id)
            row.state, row.finished_at = SurveyState.FINISHED, datetime.now(UTC)
            row.files_seen, row.files_new = tally.seen, tally.new
            row.files_changed, row.files_gone = tally.changed, tally.gone
            row.files_unreadable, row.pictures = session.execute(
                text(
                    "SELECT (SELECT count(*) FROM files WHERE library_id = :id AND state = 'unreadable'), "
                    "(SELECT count(*) FROM pictures WHERE library_id = :id AND state <> 'gone')"
                ),
                {"id": self.library_id},
            ).one()
            row.notes = tally.notes + ([f"and {tally.more_notes:,} more"] if tally.more_notes else [])
            session.execute(
                update(Library)
                .where(Library.id == self.library_id, Library.surveyed_at.is_(None))
                .values(surveyed_at=func.now())
            )
            notify(session, survey=self.survey_id)
            if tally.new + tally.changed + tally.gone > _BATCH:
                # Queries are planned by what the tables hold now, not by what they held before.
                session.execute(text("ANALYZE files, pictures"))
            # The last ten surveys are enough of a history.
            latest = (
                select(Survey.id)
                .where(Survey.library_id == self.library_id)
                .order_by(Survey.id.desc())
                .limit(10)
            )
            session.execute(
                delete(Survey).where(Survey.library_id == self.library_id, Survey.id.not_in(latest))
            )


@dataclass(frozen=True, slots=True)
class Change:
    """New values of a file's row, which hold only if nobody has changed the row since."""

    file_id: int
    seen_mtime_ns: int
    values: dict[str, Any]

    @property
    def anew(self) -> bool:
        """Whether the file is another one than it was."""
        return "width" in self.values

    def apply(self, session: Session) -> None:
        session.execute(
            update(File)
            .where(File.id == self.file_id, File.mtime_ns == self.seen_mtime_ns)
            .values(**self.values)
        )


def known_files(session: Session, library_id: int, which: Any) -> dict[str, Known]:
    """The records of some files by path."""
    rows = session.execute(
        select(
            File.path, File.id, File.picture_id, File.size_now, File.mtime_ns, File.state,
        ).where(File.library_id == library_id, which)
    )  # fmt: skip
    return {row.path: Known(*row[1:]) for row in rows}


class Busy(Exception):
    """A run is at the picture just now."""


def look_at(database: Database, keeper: Keeper, entry: Entry, known: Known) -> Change | None:
    """What must be recorded about a known file; None when nothing has changed.

    Raises StorageError, and :class:`Busy`.
    """
    away = known.state in (FileState.GONE, FileState.REMOVED)
    if (known.size, known.mtime_ns) == (entry.size, entry.mtime_ns) and not away:
        return None
    with database.advisory_lock(PICTURE_LOCK, known.picture_id) as free:
        if not free:
            raise Busy
        return _look_closer(database, keeper, entry, known)


def _look_closer(database: Database, keeper: Keeper, entry: Entry, known: Known) -> Change | None:
    with database.begin() as session:
        file = session.get_one(File, known.id)
    try:
        facts = keeper.folder.stat(entry.path)
    except StorageError:
        return None
    if file.state == FileState.GONE and file.sha256 is not None:
        if keeper.folder.sha256(entry.path) == file.sha256:  # it was only away
            return Change(file.id, file.mtime_ns, {"state": FileState.LIGHTER, "mtime_ns": facts.st_mtime_ns})
    elif file.state not in (FileState.GONE, FileState.REMOVED):
        if (file.size_now, file.mtime_ns) == (facts.st_size, facts.st_mtime_ns):
            return None
        if file.sha256 is not None and keeper.folder.sha256(entry.path) == file.sha256:
            return Change(file.id, file.mtime_ns, {"mtime_ns": facts.st_mtime_ns})
    if file.copies:
        keeper.drop_copies(file, REPLACED)
    return Change(file.id, file.mtime_ns, identified(keeper.folder, entry))


def identified(folder: Folder, entry: Entry) -> dict[str, Any]:
    """Values of a file's row as its header tells them, with nothing yet done to it."""
    values: dict[str, Any] = {
        "path": entry.path,
        "folder": entry.path.rpartition("/")[0],
        "size_before": entry.size,
        "size_now": entry.size,
        "mtime_ns": entry.mtime_ns,
        "mtime_ns_before": entry.mtime_ns,
        "state": FileState.NEW,
        "reason": None,
        "format": None,
        "width": 0,
        "height": 0,
        "transparent": False,
        "animated": False,
        "sha256": None,
        "before_sha256": None,
        "score": None,
        "level": None,
        "recipe": None,
        "how": None,
        "treated_at": None,
    }
    try:
        try:
            facts = identify(folder.read(entry.path, _HEAD))
        except MoreDataNeeded:
            facts = identify(folder.read(entry.path))
        width, height = facts.shown_size
        values |= {"format": facts.format, "width": width, "height": height}
        values |= {"transparent": facts.alpha, "animated": facts.animated}
    except MoreDataNeeded:
        values |= {"state": FileState.UNREADABLE, "reason": "the file ends within its header"}
    except ImagingError as error:
        values |= {"state": FileState.UNREADABLE, "reason": str(error)}
    except StorageError as error:
        values |= {"state": FileState.UNREADABLE, "reason": str(error)}
    return values
