"""The keeper of a library: changes its files without ever losing one.

For a replacement: the backup is durable, then the journal row is committed, then the new bytes are
staged in the same folder, then both names are exchanged at once, then what came out is hashed once
nobody has it open for writing. Ledger and file record follow in one transaction; only then is the
exchanged-out file deleted. The classes of :mod:`.changes` hold the steps, :mod:`.recovery` what is done
after a crash.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert

from plumcrate.contract.pictures import FileState
from plumcrate.records.database import Database
from plumcrate.records.queries.tallies import total, totals
from plumcrate.records.tables import Backup, Derived, File, Library, Result
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import LocalStore
from plumcrate.storage.store import NO_FILE, FileFacts, Store

from .backups import BackupStore
from .changes import (
    ChangeNote,
    DropDerived,
    DropSized,
    MakeSized,
    Overtaken,
    PutBack,
    Replace,
    Restore,
    Supersede,
    Upload,
    Withdraw,
    WriteDerived,
)
from .changes.appear import name_taken
from .changes.base import GRACE, backup_stands, content_sha, sha_of
from .derived import Beside
from .state import StateFolder
from .steps import Step, passed

_SAMPLE = 50


class Keeper:
    """Changes the files of one library. The caller holds the picture's lock.

    ``grace``: where the system does not tell who has a file open, in seconds, see :mod:`.changes`.
    """

    def __init__(
        self,
        database: Database,
        library_id: int,
        store: Store,
        backups: BackupStore,
        *,
        grace: float = GRACE,
    ) -> None:
        self.database = database
        self.library_id = library_id
        self.store = store
        self.backups = backups
        self.grace = grace

    @classmethod
    def of(cls, database: Database, library: Library, state: StateFolder) -> Keeper:
        """The keeper of a connected library, which is entered only under its own identity file."""
        identity = library.identity if library.identified_at else None
        backups = BackupStore(state.backups_of(library.slug), state.check)
        return cls(database, library.id, LocalStore(Path(library.root), identity), backups)

    # -- identity ----------------------------------------------------------------------------

    def ensure_identity(self) -> None:
        """Before a change: the store holds its identity file. Raises NotThere when it cannot be the right
        one."""
        if self.store.identity is not None:
            return
        with self.database.reading() as session:
            library = session.get_one(Library, self.library_id)
            known = list(
                session.scalars(
                    select(File.path)
                    .where(File.library_id == self.library_id, File.state != FileState.GONE)
                    .order_by(File.id)
                    .limit(_SAMPLE)
                )
            )
        if library.identified_at is None:
            with (
                self.store.visit()
            ):  # the folder that gets its identity file is the very one that was looked at
                self._refuse_another(library, known)
                self.store.write_identity(library.identity)
            with self.database.begin() as session:
                row = session.get_one(Library, self.library_id)
                row.identified_at, row.device = func.now(), self.store.device()
        self.store.identity = library.identity
        with self.store.visit():
            return

    def _refuse_another(self, library: Library, known: list[str]) -> None:
        borne = self.store.read_identity()
        if borne not in (None, library.identity):
            raise NotThere(
                f"the folder {self.store.label} holds the identity file of another library or installation: "
                "two must not treat the same files"
            )
        if known and not any(self.store.taken(path) for path in known):
            raise NotThere(
                f"none of the files known in {self.store.label} is there: is the right volume mounted? "
                "Nothing is changed until it is back"
            )

    def remove_identity(self) -> None:
        """At the end of a hand-back: the folder is as it was, and bears nothing of ours."""
        with self.database.begin() as session:
            row = session.get_one(Library, self.library_id, with_for_update=True)
            if row.identified_at is not None:
                row.identified_at = None
                self.store.remove_identity()

    # -- the file itself ---------------------------------------------------------------------

    def replace(
        self,
        file: File,
        before: bytes,
        after: bytes,
        note: ChangeNote,
        *,
        backup: bool = True,
        keep_times: bool = False,
        store_limit: int | None = None,
    ) -> None:
        """Puts ``after`` in the place of ``file``, which holds ``before``; the backup comes first.

        Without ``backup`` nothing keeps the bytes of a file that has none yet. ``store_limit`` is the
        size in bytes that the library's backups may reach. Raises StorageError; :class:`Overtaken` when
        the file no longer holds ``before``, :class:`InUse` when somebody has it open for writing.
        """
        self.ensure_identity()
        with self.store.visit():
            before_sha = sha_of(before)
            original = self._known_original(file, before_sha)
            if original == before_sha or (original is None and backup):
                # A backup that is there already is read: it may be all that is left in a moment.
                self.back_up(before, before_sha, file.path, store_limit)
                original = before_sha
            detail = dict(note.detail)
            links = self.store.facts(file.path).links
            if links > 1:
                detail["links"] = links  # the other names keep the old bytes
            result = Result(
                library_id=self.library_id,
                sha256=sha_of(after),
                size=len(after),
                purpose="file",
                original_sha256=original,
                made=note.made,
            )
            change = Replace.begin(
                self,
                file.path,
                ChangeNote(note.run_id, note.score, detail),
                file=file,
                before=before_sha,
                after=result.sha256,
                result=result,
                original=original.hex() if original else None,
            )
            change.perform(after, keep_times=keep_times)

    def restore(self, file: File, note: ChangeNote, *, overwrite: bool = False, hold: bool = False) -> None:
        """Puts the backup back and removes our copies. Raises StorageError.

        A file that somebody changed since is not overwritten (:class:`Overtaken`) unless the caller says
        so; their version is then backed up first. ``hold``: it is not treated again by itself.
        """
        self.ensure_identity()
        with self.store.visit():
            facts = None
            if file.before_sha256 is not None:
                facts = self._put_original(file, note, overwrite)
            elif file.sha256 is not None:
                raise StorageError(
                    "no-backup",
                    f"{file.path} has no backup: it was treated without one, or its backup was deleted; "
                    "it stays as it is",
                )
            self.drop_all_derived(file, note)
        with self.database.begin() as session:
            row = session.get_one(File, file.id)
            row.state, row.reason, row.held = FileState.NEW, None, hold
            row.sha256 = row.before_sha256 = row.score = row.level = row.recipe = row.how = None
            row.treated_at = row.shown_width = row.shown_height = None
            if facts is not None:
                row.size_now = row.size_before = facts.size
                row.mtime_ns = row.mtime_ns_before = facts.mtime_ns

    def _put_original(self, file: File, note: ChangeNote, overwrite: bool) -> FileFacts:
        """Size and time of the original, which stands in its place then."""
        assert file.before_sha256 is not None
        facts: FileFacts | None = None
        with suppress(StorageError):
            facts = self.store.facts(file.path)  # before it is hashed: should somebody write, not theirs
        current = self.store.sha256(file.path)
        if current == file.before_sha256 and facts is not None:
            return facts
        if current is None and file.state not in (FileState.REMOVED, FileState.GONE):
            raise StorageError(
                "gone", f"{file.path} is not there any more; its backup is kept: survey, then look at Keep"
            )
        if current is not None and current != file.sha256:
            if not overwrite or current == NO_FILE:
                raise Overtaken(file.path)
            theirs = self.store.read(file.path)
            current = sha_of(theirs)
            self.back_up(theirs, current, file.path)
        data = self.backups.get(file.before_sha256)
        if current is None:
            return self._put_back(file.path, data, note, file)
        change = Restore.begin(self, file.path, note, file=file, before=current, after=file.before_sha256)
        change.perform(data, mtime_ns=file.mtime_ns_before)
        return change.known_facts()

    def _put_back(self, path: str, data: bytes, note: ChangeNote, file: File | None = None) -> FileFacts:
        self.store.make_folder(path.rpartition("/")[0])
        if self.store.taken(path):
            raise name_taken(path)
        change = PutBack.begin(self, path, note, file=file, after=sha_of(data))
        change.perform(data, mtime_ns=file.mtime_ns_before if file else None)
        return change.known_facts()

    def put_back_as(self, sha256: bytes, path: str, note: ChangeNote) -> None:
        """Puts a backup into the library under a name that is free. Raises StorageError."""
        self.ensure_identity()
        with self.store.visit():
            data = self.backups.get(sha256)
            self._put_back(path, data, note)

    def upload(self, path: str, data: bytes | BinaryIO, note: ChangeNote) -> None:
        """Puts a new file into the library under a name that is free: bytes, or a file's content, which
        is never in memory whole. Raises StorageError."""
        self.ensure_identity()
        with self.store.visit():
            self.store.make_folder(path.rpartition("/")[0])
            if self.store.taken(path):
                raise StorageError("name-taken", f"{path} is there already; nothing was written")
            Upload.begin(self, path, note, after=content_sha(data)).perform(data)

    def supersede(self, file: File, data: BinaryIO, note: ChangeNote) -> None:
        """Puts a file's content, which is never in memory whole, in the place of ``file``. The original that
        stood there is backed up, however the library keeps backups. Raises StorageError; :class:`Overtaken`
        when the file is not as recorded any more, :class:`InUse` when somebody has it open for writing."""
        self.ensure_identity()
        with self.store.visit():
            facts = self.store.facts(file.path)
            if (facts.size, facts.mtime_ns) != (file.size_now, file.mtime_ns):
                raise Overtaken(file.path)
            current = self.store.read(file.path)
            sha = sha_of(current)
            original = self._known_original(file, sha)
            if original is None or original == sha:
                self.back_up(current, sha, file.path)
                original = sha
            elif not self.backups.sound(original):
                raise StorageError(
                    "backup-damaged", f"the backup of {file.path} is damaged, so the file was left in place"
                )
            change = Supersede.begin(
                self,
                file.path,
                note,
                file=file,
                before=sha,
                after=content_sha(data),
                original=original.hex(),
            )
            change.perform(data)

    def withdraw(self, file: File, current: bytes, note: ChangeNote) -> None:
        """Takes a first file away whose conversion is in place; its backup stays. Raises StorageError."""
        self.ensure_identity()
        with self.store.visit():
            sha = sha_of(current)
            original = self._known_original(file, sha)
            if original is None or original == sha:
                self.back_up(current, sha, file.path)
                original = sha
            elif not self.backups.sound(original):
                raise StorageError(
                    "backup-damaged", f"the backup of {file.path} is damaged, so the file was left in place"
                )
            change = Withdraw.begin(
                self,
                file.path,
                note,
                file=file,
                before=sha,
                original=original.hex(),
            )
            change.perform()

    # -- what is derived ------------------------------------------------------------------------

    def write_derived(self, file: File, beside: Beside, data: bytes, note: ChangeNote) -> None:
        """Puts a copy or conversion of ours beside a file, in place of our former one of that kind.

        Raises StorageError, with the code ``name-taken`` when somebody else's file has the name.
        """
        self.ensure_identity()
        path = beside.path(file.path)
        sha = sha_of(data)
        with self.store.visit():
            former = next(
                (derived for derived in file.derived if (derived.purpose, derived.format) == beside.key), None
            )
            if former is not None:
                if former.sha256 == sha and former.path == path and self.store.sha256(path) == sha:
                    return
                self.drop_derived(file, former, note)
            if self.store.taken(path):
                raise name_taken(path)
            result = Result(
                library_id=self.library_id,
                sha256=sha,
                size=len(data),
                purpose=beside.purpose,
                format=beside.format,
                made={},
                original_sha256=file.before_sha256 or self.store.sha256(file.path),
            )
            change = WriteDerived.begin(
                self,
                path,
                note,
                file=file,
                after=sha,
                result=result,
                purpose=beside.purpose,
                format=beside.format,
                width=beside.width,
                height=beside.height,
                how=beside.how,
                worst_place=beside.worst_place,
            )
            change.perform(data, file.path)

    # -- what is made for sizes -------------------------------------------------------------------

    def put_sized(self, file: File, data: bytes, original: bytes, like: str, note: ChangeNote) -> None:
        """Puts a file that was made for a size under its name, in place of our former one.

        ``original``: the hash of what it was made from; ``like``: a file whose mode and owner it gets. Raises
        StorageError, with the code ``name-taken`` when somebody else's file has the name.
        """
        self.ensure_identity()
        sha = sha_of(data)
        result = Result(
            library_id=self.library_id,
            sha256=sha,
            size=len(data),
            purpose="size",
            format=file.format,
            original_sha256=original,
            made={},
        )
        with self.store.visit():
            there = self.store.sha256(file.path)
            if there is None:
                self.store.make_folder(file.path.rpartition("/")[0])
                MakeSized.begin(self, file.path, note, file=file, after=sha, result=result).perform(
                    data, like
                )
            elif file.sha256 is None or there != file.sha256:
                raise name_taken(file.path)
            elif there != sha:
                change = Replace.begin(
                    self, file.path, note, file=file, before=there, after=sha, result=result, original=None
                )
                change.perform(data)

    def drop_sized(self, file: File, note: ChangeNote) -> None:
        """Removes a file that was made for a size, with its copies, unless somebody else wrote to it. Raises
        StorageError."""
        self.ensure_identity()
        with self.store.visit():
            self.drop_all_derived(file, note)
            if file.sha256 is not None and self.store.folder_id(file.path) is not None:
                DropSized.begin(self, file.path, note, file=file, before=file.sha256).perform()

    def purpose_of(self, content: bytes | None) -> str | None:
        """What bytes were made for, see :class:`~plumcrate.records.tables.Result`; None for what is not
        ours."""
        with self.database.reading() as session:
            found: str | None = session.scalar(
                select(Result.purpose).where(Result.library_id == self.library_id, Result.sha256 == content)
            )
        return found

    def drop_all_derived(
        self, file: File, note: ChangeNote, *, keep: frozenset[tuple[str, str]] = frozenset()
    ) -> None:
        """Removes what we made beside a file, except those of the keys to keep. Raises StorageError."""
        for derived in list(file.derived):
            if (derived.purpose, derived.format) not in keep:
                self.drop_derived(file, derived, note)

    def drop_derived(self, file: File, derived: Derived, note: ChangeNote) -> None:
        """Removes one, unless its bytes are no longer ours. Raises StorageError."""
        self.ensure_identity()
        with self.store.visit():
            if self.store.folder_id(derived.path) is None:
                # With its folder gone nothing can be removed; should it come back, its content tells.
                with self.database.begin() as session:
                    session.execute(delete(Derived).where(Derived.id == derived.id))
                return
            change = DropDerived.begin(
                self, derived.path, note, file=file, before=derived.sha256, derived_id=derived.id
            )
            change.perform()

    # -- backups -------------------------------------------------------------------------------

    def _known_original(self, file: File, current: bytes) -> bytes | None:
        """The backup that stands for a file whose bytes are ours or the original; None when they are
        neither, as when somebody wrote them, or when there is no backup."""
        original = file.before_sha256
        if original is None or current not in (file.sha256, original) or not self.backups.has(original):
            return None
        return original

    def back_up(self, data: bytes, sha256: bytes, path: str = "", store_limit: int | None = None) -> None:
        """Makes a durable backup, or makes sure that the one there is sound. Raises StorageError.

        The row is locked until the bytes are durable, so that pruning cannot delete them meanwhile.
        """
        with self.database.begin() as session:
            ours = Backup.library_id == self.library_id, Backup.sha256 == sha256
            new = store_limit is not None and session.scalar(select(Backup.id).where(*ours)) is None
            if new and store_limit is not None:
                held = total(totals(session, self.library_id), "backup").bytes_now
                if held + len(data) > store_limit:
                    raise StorageError(
                        "backups-full",
                        f"the backups have reached their limit of {store_limit / 1e9:.1f} GB: raise it, or "
                        "delete old backups; nothing was changed",
                    )
            day = select(Library.days_seen).where(Library.id == self.library_id).scalar_subquery()
            session.execute(
                insert(Backup)
                .values(library_id=self.library_id, sha256=sha256, size=len(data), path=path, born_day=day)
                .on_conflict_do_update(
                    index_elements=["library_id", "sha256"], set_={"pruned_at": None, "seen_at": None}
                )
            )
            self.backups.put(data, sha256)
        passed(Step.BACKED_UP)

    def rely_on(self, original: bytes) -> None:
        """Raises StorageError when a backup is not on record, or is being deleted."""
        with self.database.reading() as session:
            if not backup_stands(session, self.library_id, original):
                raise StorageError("backup-missing", "the backup was deleted meanwhile; nothing was changed")
