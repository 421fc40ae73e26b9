"""Surveying a library: listing its files, telling what each is, grouping derived sizes.

Works through the tree folder by folder, a few thousand files at a time, so that memory does not grow
with the library and a survey that is cut off has lost nothing. A repeated survey opens only files whose
size or time changed. What becomes of each path is the reconciler's to say.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

from sqlalchemy import func, select, text, update

from plumcrate.contract.jobs import SurveyReport
from plumcrate.contract.pictures import FileState
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.names import shown
from plumcrate.storage.store import ListedFile, Listing

from .headers import is_picture
from .reconciling import Findings, Reconciler, known_in

_NOTES = 200
_BATCH = 2_000


@dataclass(slots=True)
class SurveyTally:
    """What a survey has found so far."""

    seen: int = 0
    new: int = 0
    changed: int = 0
    gone: int = 0
    moved: int = 0
    notes: list[str] = field(default_factory=list)
    more_notes: int = 0
    others: Counter[str] = field(default_factory=Counter)

    def note(self, sentence: str) -> None:
        if len(self.notes) < _NOTES:
            self.notes.append(sentence)
        else:
            self.more_notes += 1

    def add(self, findings: Findings) -> None:
        self.new += findings.new
        self.changed += findings.changed
        self.gone += findings.gone
        self.moved += findings.moved


@dataclass(slots=True)
class _FolderBatch:
    """A few folders that are compared with the records together."""

    entries: list[ListedFile] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)


def survey(
    database: Database,
    keeper: Keeper,
    library: Library,
    tell: Callable[[SurveyReport], None],
    arrived: Callable[[list[str]], None] = lambda _: None,
) -> SurveyReport:
    """Looks through a library; ``tell`` hears how far it is, ``arrived`` the paths of new and changed files.
    Raises StorageError."""
    with keeper.store.visit():
        _refuse_another(database, library, keeper)
        return _Surveyor(database, library, keeper, tell, arrived).carry_out()


def _refuse_another(database: Database, library: Library, keeper: Keeper) -> None:
    """A folder that is not mounted is not a library whose files were all deleted.

    One that holds its identity file was entered under it. One that was never changed holds none: it is known
    by its device, or by any file that is on record and stands there.
    """
    device = keeper.store.device()
    if library.identified_at is None:
        with database.begin() as session:
            present = File.library_id == library.id, File.state != FileState.GONE
            known = list(session.scalars(select(File.path).where(*present).order_by(File.id).limit(50)))
        if known and not any(_stands(keeper, path) for path in known):
            listing = keeper.store.list()
            if device != library.device or not (listing.files or listing.folders):
                raise NotThere(
                    f"the folder {keeper.store.label} is empty or another one, although files were known in "
                    "it: is it mounted? Nothing was recorded as gone"
                )
    if device != library.device:
        with database.begin() as session:
            session.get_one(Library, library.id).device = device


def _stands(keeper: Keeper, path: str) -> bool:
    """Whether something has a name; what may not be looked at is there."""
    try:
        return keeper.store.taken(path)
    except NotThere:
        raise
    except StorageError:
        return True


#: A library of more pictures than these, none of which has a rendition, is worth a word.
_MANY = 20
_NO_RENDITIONS = (
    "no file was found to be a rendition of another: if the site makes its own sizes, say which file was "
    "made of which (plumcrate map), or give the library a name pattern"
)


class _Surveyor:
    def __init__(
        self,
        database: Database,
        library: Library,
        keeper: Keeper,
        tell: Callable[[SurveyReport], None],
        arrived: Callable[[list[str]], None],
    ) -> None:
        self.database, self.library_id, self.keeper = database, library.id, keeper
        self.reconciler = Reconciler(database, keeper, library)
        self.tell, self.arrived = tell, arrived
        self.tally = SurveyTally()
        self.visited: set[str] = set()
        self.unlisted: list[str] = []

    def carry_out(self) -> SurveyReport:
        batch = _FolderBatch()
        for folder, listing in self.keeper.store.walk():
            if len(listing.skipped) == 1 and listing.skipped[0].path == (folder or "."):
                self.unlisted.append(folder)
                self.tally.note(f"{folder or 'the folder'}: {listing.skipped[0].reason}, left alone")
                continue
            self.visited.add(folder)
            batch.folders.append(folder)
            batch.entries += self._pictures_of(listing)
            if len(batch.entries) >= _BATCH or len(batch.folders) >= _BATCH:
                self._compare(batch)
                batch = _FolderBatch()
        self._compare(batch)
        self._vanished_folders()
        return self._finish()

    def _pictures_of(self, listing: Listing) -> list[ListedFile]:
        pictures = []
        for skipped in listing.skipped:
            self.tally.note(f"{skipped.path}: {skipped.reason}, left alone")
        for entry in listing.files:
            if is_picture(entry.path):
                pictures.append(entry)
            else:
                name = entry.path.rpartition("/")[2]
                ending = "." + name.rpartition(".")[2].lower() if "." in name else "no ending"
                self.tally.others[shown(ending, 12)] += 1
        return pictures

    def _compare(self, batch: _FolderBatch) -> None:
        """Brings the records of a few folders up to date."""
        sightings = {entry.path: entry for entry in batch.entries}
        findings = self.reconciler.look(sightings, batch.folders)
        self.tally.add(findings)
        if findings.anew:
            self.arrived(findings.anew)
        self.tally.seen += len(batch.entries)
        self._tell_progress()

    def _tell_progress(self) -> None:
        self.tell(self._report())

    def _vanished_folders(self) -> None:
        """Files of folders that are not there any more are gone; of folders that cannot be listed, not."""
        with self.database.begin() as session:
            query = select(File.folder).where(
                File.library_id == self.library_id, File.state != FileState.GONE
            )
            folders = session.scalars(query.distinct()).all()
        vanished = [
            folder for folder in folders if folder not in self.visited and not self._is_unlisted(folder)
        ]
        for folder in vanished:
            with self.database.begin() as session:
                paths = known_in(session, self.library_id, folder)
            for start in range(0, len(paths), _BATCH):
                self.tally.add(self.reconciler.look(dict.fromkeys(paths[start : start + _BATCH])))
                self._tell_progress()

    def _is_unlisted(self, folder: str) -> bool:
        return any(not top or folder == top or folder.startswith(top + "/") for top in self.unlisted)

    def _report(self) -> SurveyReport:
        tally = self.tally
        return SurveyReport(
            files_seen=tally.seen, files_new=tally.new, files_changed=tally.changed, files_gone=tally.gone
        )

    def _finish(self) -> SurveyReport:
        tally = self.tally
        if tally.moved:
            tally.note(f"{tally.moved:,} files of ours were moved by somebody; they were recognised")
        if tally.others:
            listing = ", ".join(f"{count:,} {ending}" for ending, count in tally.others.most_common(8))
            tally.note(f"files that are not pictures by name, left alone: {listing}")
        report = self._report()
        report.notes = tally.notes + ([f"and {tally.more_notes:,} more"] if tally.more_notes else [])
        with self.database.begin() as session:
            counts = session.execute(
                text(
                    "SELECT (SELECT count(*) FROM files WHERE library_id = :id AND state = 'unreadable'), "
                    "(SELECT count(*) FROM pictures WHERE library_id = :id AND state <> 'gone'), "
                    "(SELECT count(*) FROM files WHERE library_id = :id "
                    "AND state NOT IN ('gone', 'removed')), "
                    "count(*), count(m.path) FROM files f "
                    "LEFT JOIN mapped_renditions m ON m.library_id = f.library_id AND m.path = f.path "
                    "WHERE f.library_id = :id AND f.role = 'rendition' AND f.state <> 'gone' "
                    "AND f.size_name IS NULL"
                ),
                {"id": self.library_id},
            ).one()
            report.files_unreadable, report.pictures, files, report.renditions, report.renditions_told = (
                counts
            )
            report.copies, report.files_seen = max(0, tally.seen - files), min(tally.seen, files)
            if not report.renditions and report.pictures > _MANY:
                report.notes.insert(0, _NO_RENDITIONS)
            session.execute(
                update(Library)
                .where(Library.id == self.library_id, Library.surveyed_at.is_(None))
                .values(surveyed_at=func.now())
            )
            if tally.new + tally.changed + tally.gone > _BATCH:
                # Queries are planned by what the tables hold now, not by what they held before.
                session.execute(text("ANALYZE files, pictures"))
        return report
