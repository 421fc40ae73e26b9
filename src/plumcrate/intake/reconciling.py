"""The one place where paths become findings: for surveys, watching, webhooks and uploads alike.

Given paths, it says for each what has become of it and records it: new, changed by somebody, gone, back
again, moved, a second copy of a file of ours. What is ours is known by content, whatever it is called: a
file whose hash is one of our results is that file, and brings its original along. Nothing is recorded
about a known file without looking again under its picture's lock, and nothing at all while the library's
folder is not the right one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import structlog
from sqlalchemy import literal, or_, select, union, update
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.recovery import at_rest
from plumcrate.queue.locks import PICTURE_LOCK
from plumcrate.records.database import Database, conflicted, lost_connection
from plumcrate.records.queries.folders import below
from plumcrate.records.tables import Derived, File, Journal, Library, MappedRendition, Picture
from plumcrate.storage.errors import NO_FILE_CODES, NotThere, StorageError
from plumcrate.storage.grouping import conventions_of, homes_of
from plumcrate.storage.names import shown
from plumcrate.storage.store import ListedFile

from .families import settle_families
from .headers import identified, no_treatment
from .moving import Mover

log = structlog.get_logger()

_ABSENT = (FileState.GONE, FileState.REMOVED)
REPLACED = ChangeNote(detail={"because": "the file was changed by somebody else"})
DELETED = ChangeNote(detail={"because": "the file was deleted by somebody else"})


@dataclass(slots=True)
class Findings:
    """What was found. ``anew``: paths of new and changed files; ``busy``: to be looked at again."""

    new: int = 0
    changed: int = 0
    gone: int = 0
    moved: int = 0
    anew: list[str] = field(default_factory=list)
    busy: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class _KnownFile:
    id: int
    picture_id: int
    size: int
    mtime_ns: int
    state: str


@dataclass(slots=True)
class _Records:
    """What the records say about some paths."""

    files: dict[str, _KnownFile]
    copies: set[str]
    changing: set[str]


class Busy(Exception):
    """A run is at the picture just now, or its last change cannot be settled yet."""


class Reconciler:
    """Brings the records of one library up to what stands in its store."""

    def __init__(self, database: Database, keeper: Keeper, library: Library) -> None:
        self.database, self.keeper = database, keeper
        self.store = keeper.store
        self.library_id, self.patterns = library.id, list(library.patterns)
        self.mover = Mover(database, keeper, library.id)

    def look(self, sightings: Mapping[str, ListedFile | None], folders: Iterable[str] = ()) -> Findings:
        """Looks at paths, and at every known file in some folders. Raises NotThere.

        ``sightings``: each path with what a listing said of it, or None when it was only told of. A known
        file of the folders that is not among them may be gone.
        """
        folders = list(folders)
        findings = Findings()
        touched: set[int] = set()
        with self.store.visit():
            records = self._records(list(sightings), folders)
            arrivals: list[dict[str, Any]] = []
            # What is new before what is gone: it may be the same, under another name.
            fresh = sightings.keys() - records.files.keys() - records.copies
            for path in sorted(fresh):
                with self._each_by_itself(path, findings):
                    if path in records.changing:
                        raise Busy
                    arrivals += self._look_at_unknown(path, sightings[path])
            arrivals, strays = self.mover.recognise(arrivals, findings, touched)
            self._record(arrivals, folders, findings, touched)
            if strays:
                self._record(self.mover.find_homes(strays, findings, touched), folders, findings, touched)
            for path, known in sorted(records.files.items()):
                with self._each_by_itself(path, findings):
                    self._look_at_known(path, known, sightings.get(path), findings, touched)
            self._record([], folders, findings, touched)
        return findings

    @contextmanager
    def _each_by_itself(self, path: str, findings: Findings) -> Iterator[None]:
        """A file's fault is its own: the others are looked at all the same."""
        try:
            yield
        except Busy:
            findings.busy.append(path)
        except NotThere:
            raise
        except StorageError as error:
            log.info("a file was not looked at", path=shown(path), reason=str(error))
            findings.busy.append(path)
        except Exception as error:
            if lost_connection(error):
                raise
            log.exception("a file was not looked at", path=shown(path))

    def _records(self, paths: list[str], folders: list[str]) -> _Records:
        with self.database.begin() as session:
            which = File.path.in_(paths) if not folders else File.path.in_(paths) | File.folder.in_(folders)
            files = session.execute(
                select(File.path, File.id, File.picture_id, File.size_now, File.mtime_ns, File.state).where(
                    File.library_id == self.library_id, which
                )
            )
            beside = select(File.id).where(File.library_id == self.library_id, File.folder.in_(folders))
            copies = or_(Derived.path.in_(paths), Derived.file_id.in_(beside))
            return _Records(
                {row.path: _KnownFile(*row[1:]) for row in files},
                set(
                    session.scalars(select(Derived.path).where(Derived.library_id == self.library_id, copies))
                ),
                self._changing(session),
            )

    def _changing(self, session: Session) -> set[str]:
        """Names at which a change is under way that is about to be recorded."""
        return set(
            session.scalars(
                select(Journal.path).where(
                    Journal.library_id == self.library_id, Journal.action.in_(("copy", "size", "put-back"))
                )
            )
        )

    # -- files that are known ------------------------------------------------------------------

    def _look_at_known(
        self, path: str, known: _KnownFile, entry: ListedFile | None, findings: Findings, touched: set[int]
    ) -> None:
        away = known.state in _ABSENT
        if entry is not None and not away and (known.size, known.mtime_ns) == (entry.size, entry.mtime_ns):
            return
        if entry is None and away and not self.store.taken(path) and self._is_as_recorded(known):
            return
        with self.database.advisory_lock(PICTURE_LOCK, known.picture_id) as free:
            if not free:
                raise Busy
            if not at_rest(self.keeper, known.id):
                raise Busy
            with self.database.begin() as session:
                file = session.get(File, known.id)
            if file is None or file.path != path:
                return  # moved meanwhile
            values = self._look_again(file, findings)
            if values is None:
                return
            with self.database.begin() as session:
                session.execute(update(File).where(File.id == file.id).values(**values))
            touched.add(file.picture_id)

    def _is_as_recorded(self, known: _KnownFile) -> bool:
        """Whether a file that is nowhere is known to be gone, or its conversion stands for it."""
        if known.state == FileState.GONE:
            return True
        with self.database.begin() as session:
            copies = session.scalars(select(Derived.path).where(Derived.file_id == known.id)).all()
        return any(self.store.taken(path) for path in copies)

    def _look_again(self, file: File, findings: Findings) -> dict[str, Any] | None:
        """What must be recorded about a file, looked at under its picture's lock; None for nothing."""
        away = file.state in _ABSENT
        try:
            facts = self.store.facts(file.path)
        except StorageError as error:
            if error.code not in {"gone", "name-too-long", "folder-is-link", *NO_FILE_CODES}:
                raise
            if file.state == FileState.GONE or any(
                self.store.taken(copy.path) for copy in file.derived if away
            ):
                return None
            self.keeper.drop_all_derived(file, DELETED)
            findings.gone += 1
            return {"state": FileState.GONE}
        if not away and (file.size_now, file.mtime_ns) == (facts.size, facts.mtime_ns):
            return None
        content = self.store.sha256(file.path)
        if file.state != FileState.REMOVED and file.sha256 is not None and content == file.sha256:
            return {"mtime_ns": facts.mtime_ns, **(self._back(file, findings) if away else {})}
        if file.derived:
            self.keeper.drop_all_derived(file, REPLACED)
        findings.changed += 1
        findings.anew.append(file.path)
        values = no_treatment() | identified(self.store, ListedFile(file.path, facts.size, facts.mtime_ns))
        if content is not None:
            self.mover.note_original_seen(content)
            values |= self.mover.claims(content) or {}
        if file.role == FileRole.ORIGINAL and values["before_sha256"] != file.before_sha256:
            self._drop_touches(file.picture_id)
        return values

    def _drop_touches(self, picture_id: int) -> None:
        """Another picture stands under the name: what was done by hand to the former one is not for it."""
        with self.database.begin() as session:
            session.execute(
                update(Picture)
                .where(Picture.id == picture_id)
                .values(touches=None, focus=None, touched_by="", touched_at=None)
            )

    def _back(self, file: File, findings: Findings) -> dict[str, Any]:
        """A treated file that was gone is there again, as we left it; without its copies it is made again."""
        if file.derived:
            return {"state": FileState.LIGHTER}
        findings.changed += 1
        findings.anew.append(file.path)
        return {"state": FileState.LIGHTER, "recipe": None, "treated_at": None}

    # -- files that are not ------------------------------------------------------------------

    def _look_at_unknown(self, path: str, entry: ListedFile | None) -> list[dict[str, Any]]:
        """The values of a new file's row, when a regular file stands there."""
        if entry is None:
            try:
                facts = self.store.facts(path)
            except StorageError as error:
                if error.code in {"gone", "name-too-long", "bad-name", "folder-is-link", *NO_FILE_CODES}:
                    return []
                raise
            entry = ListedFile(path, facts.size, facts.mtime_ns)
        return [no_treatment() | identified(self.store, entry)]

    def _record(
        self, arrivals: list[dict[str, Any]], folders: list[str], findings: Findings, touched: set[int]
    ) -> None:
        """Records new files; should the database refuse one of them, the others by themselves."""
        try:
            self._record_together(arrivals, folders, findings, touched)
        except DBAPIError as error:
            if lost_connection(error) or (len(arrivals) < 2 and not conflicted(error)):
                raise
            for values in arrivals:
                try:
                    self._record_together([values], folders, findings, touched)
                except DBAPIError as refused:
                    if lost_connection(refused):
                        raise
                    log.exception("a file was not recorded", path=shown(values["path"]))

    def _record_together(
        self, arrivals: list[dict[str, Any]], folders: list[str], findings: Findings, touched: set[int]
    ) -> None:
        """Adds the new files and makes all in their folders belong to the right pictures."""
        with self.database.begin() as session:
            # Looked at again: a copy of ours may have got its record since.
            paths = [values["path"] for values in arrivals]
            ours = set(
                session.scalars(
                    select(Derived.path).where(Derived.library_id == self.library_id, Derived.path.in_(paths))
                )
            ) | self._changing(session)
            findings.busy += [path for path in paths if path in ours]
            arrivals = [values for values in arrivals if values["path"] not in ours]
            findings.new += len(arrivals)
            fresh = (FileState.NEW, FileState.UNREADABLE)
            findings.anew += [values["path"] for values in arrivals if values["state"] in fresh]
            if not (arrivals or touched or findings.gone or findings.changed or findings.moved):
                return
            stale = {path.rpartition("/")[0] for path in (*findings.anew, *(row["path"] for row in arrivals))}
            if findings.gone or findings.moved:
                stale |= set(folders) | self._folders_of(session, touched)
            settle_families(
                session,
                self.library_id,
                self.patterns,
                self._with_those_below(session, stale),
                arrivals,
                touched,
            )

    def _folders_of(self, session: Session, pictures: set[int]) -> set[str]:
        return set(session.scalars(select(File.folder).where(File.picture_id.in_(pictures)).distinct()))

    def _with_those_below(self, session: Session, folders: set[str]) -> set[str]:
        """Folders, with those in which renditions of their files may lie."""
        conventions = conventions_of(self.patterns)
        if not folders:
            return folders
        known = select(File.folder, literal(False)).where(File.library_id == self.library_id)
        told = select(MappedRendition.folder, literal(True)).where(
            MappedRendition.library_id == self.library_id, MappedRendition.home.in_(folders)
        )
        return folders | {
            folder
            for folder, said in session.execute(union(known, told))
            if said or folders & homes_of(folder, conventions)
        }


def known_in(session: Session, library_id: int, folder: str) -> list[str]:
    """The paths of files in a folder and below that are not known to be gone."""
    return list(
        session.scalars(
            select(File.path).where(
                File.library_id == library_id, below(File.folder, folder), File.state != FileState.GONE
            )
        )
    )
