"""The change protocol: how a file is replaced, given a copy, or restored, without ever losing one.

For a replacement: the backup is durable, then the journal row is committed, then the new bytes are
staged in the same folder, then both names are exchanged at once and what came out is hashed. If it
is not what was read, somebody wrote in between: the names are exchanged back. The exchanged-out
file, which the backup holds, is dropped; then ledger, file record and journal are closed in one
transaction.

What survives what: a process killed at any step leaves either the old or the new bytes under the
name, with the backup in the store whenever they are the new ones; see :mod:`.recovery`.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import delete
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract import FileState
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Copy, File, Journal, Ledger
from plumcrate.storage.folder import Folder, StorageError

from .backups import BackupStore
from .steps import Step, passed

REPLACE, RESTORE, COPY, DROP_COPY = "replace", "restore", "copy", "drop-copy"


class Overtaken(StorageError):
    """Somebody else changed the file meanwhile; what they wrote was left in place."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "changed-outside",
            f"{path} was changed by somebody else meanwhile; their version was left in place: survey again",
        )


@dataclass(frozen=True, slots=True)
class Note:
    """What goes into the ledger with a change."""

    run_id: int | None = None
    score: float | None = None
    detail: dict[str, Any] = field(default_factory=dict)


class Keeper:
    """Changes the files of one library. The caller holds the picture's lock."""

    def __init__(self, database: Database, library_id: int, folder: Folder, backups: BackupStore) -> None:
        self.database = database
        self.library_id = library_id
        self.folder = folder
        self.backups = backups

    def replace(self, file: File, before: bytes, after: bytes, note: Note) -> None:
        """Puts ``after`` in the place of ``file``, which holds ``before``; the backup comes first.

        Raises StorageError; :class:`Overtaken` when the file no longer holds ``before``.
        """
        before_sha = hashlib.sha256(before).digest()
        if file.before_sha256 is None or not self.backups.has(file.before_sha256):
            self.back_up(before, before_sha)
            original_sha = before_sha
        else:
            original_sha = file.before_sha256
        self._exchange(REPLACE, file, before_sha, after, note, {"original": original_sha.hex()})

    def restore(self, file: File, note: Note) -> None:
        """Puts the backup back and removes our copies. Raises StorageError.

        A file that somebody changed since is not overwritten (:class:`Overtaken`).
        """
        if file.before_sha256 is not None:
            current = self.folder.sha256(file.path)
            if current != file.before_sha256:
                if current is None or current != file.sha256:
                    raise Overtaken(file.path)
                data = self.backups.get(file.before_sha256)
                self._exchange(RESTORE, file, current, data, note, {})
            self.folder.set_mtime(file.path, file.mtime_ns_before)
        self.drop_copies(file, note)
        facts = self.folder.stat(file.path)
        with self.database.begin() as session:
            row = session.get_one(File, file.id)
            row.state, row.reason = FileState.NEW, None
            row.sha256 = row.before_sha256 = row.score = row.level = row.recipe = row.how = None
            row.treated_at = None
            row.size_now = row.size_before = facts.st_size
            row.mtime_ns = row.mtime_ns_before = facts.st_mtime_ns

    def back_up(self, data: bytes, sha256: bytes) -> None:
        """Makes a durable backup. Raises StorageError."""
        self.backups.put(data, sha256)
        with self.database.begin() as session:
            session.execute(
                insert(Backup)
                .values(library_id=self.library_id, sha256=sha256, size=len(data))
                .on_conflict_do_nothing()
            )
        passed(Step.BACKED_UP)

    def _exchange(
        self, action: str, file: File, before_sha: bytes, after: bytes, note: Note, extra: dict[str, Any]
    ) -> None:
        facts = self.folder.stat(file.path)
        after_sha = hashlib.sha256(after).digest()
        staged = self.folder.staged_name(file.path)
        entry = self._open_journal(action, file, file.path, staged, before_sha, after_sha, note, extra)
        try:
            self.folder.stage(staged, after, facts)
            passed(Step.STAGED)
            self.folder.exchange(file.path, staged)
        except StorageError:
            # The disk may have failed before the exchange or just after it: the hashes tell.
            if not self.settle(entry):
                raise
            return
        passed(Step.EXCHANGED)
        if self.folder.sha256(staged) != before_sha:
            self.settle(entry)
            raise Overtaken(file.path)
        passed(Step.CHECKED)
        self.folder.remove(staged)
        passed(Step.CLEANED)
        self._finish_exchange(entry)
        passed(Step.RECORDED)

    def settle(self, entry: Journal) -> bool:
        """Finishes or undoes an open change by hash alone; says whether it was finished.

        See :mod:`.recovery` for the cases. Raises StorageError when the library cannot be reached;
        the journal row then stays open.
        """
        folder = self.folder
        here = folder.sha256(entry.path)
        staged = folder.sha256(entry.staged)
        if entry.action == COPY:
            done = here == entry.after_sha256
            folder.remove(entry.staged)
            if done:
                self._finish_copy(entry)
        else:
            done = here == entry.after_sha256 and staged in (None, entry.before_sha256, entry.after_sha256)
            if not done and here == entry.after_sha256:
                folder.exchange(entry.path, entry.staged)
            elif here is None and staged == entry.before_sha256:
                folder.publish(entry.staged, entry.path)
            folder.remove(entry.staged)
            if done:
                self._finish_exchange(entry)
        if not done:
            self._drop_journal(entry.id)
        return done

    def _finish_exchange(self, entry: Journal) -> None:
        """Records an exchange that has happened: file record, ledger, journal, in one transaction."""
        facts = self.folder.stat(entry.path)
        with self.database.begin() as session:
            file = session.get_one(File, entry.file_id)
            size_before = file.size_now
            file.size_now, file.mtime_ns = facts.st_size, facts.st_mtime_ns
            if entry.action == REPLACE:
                file.sha256 = entry.after_sha256
                file.before_sha256 = bytes.fromhex(entry.detail["original"])
                file.state = FileState.LIGHTER
                file.score = entry.detail.get("score")
                file.treated_at = datetime.now(UTC)
            else:
                file.sha256 = None
            self._record(session, entry, file, size_before, facts.st_size)

    def _record(
        self, session: Session, entry: Journal, file: File, before: int | None, after: int | None
    ) -> None:
        session.add(
            Ledger(
                library_id=self.library_id,
                picture_id=file.picture_id,
                file_id=file.id,
                run_id=entry.detail.get("run_id"),
                action=entry.action,
                path=entry.path,
                before_sha256=entry.before_sha256,
                after_sha256=entry.after_sha256,
                bytes_before=before,
                bytes_after=after,
                score=entry.detail.get("score"),
                detail=entry.detail.get("note", {}),
            )
        )
        session.execute(delete(Journal).where(Journal.id == entry.id))

    def _open_journal(
        self,
        action: str,
        file: File,
        path: str,
        staged: str,
        before_sha: bytes | None,
        after_sha: bytes,
        note: Note,
        extra: dict[str, Any],
    ) -> Journal:
        detail = {"run_id": note.run_id, "score": note.score, "note": note.detail, **extra}
        entry = Journal(
            library_id=self.library_id, file_id=file.id, action=action, path=path, staged=staged,
            before_sha256=before_sha, after_sha256=after_sha, detail=detail,
        )  # fmt: skip
        with self.database.begin() as session:
            session.add(entry)
        passed(Step.JOURNALLED)
        return entry

    def _drop_journal(self, entry_id: int) -> None:
        """Closes a change that was undone, or never happened."""
        with self.database.begin() as session:
            session.execute(delete(Journal).where(Journal.id == entry_id))

    # -- copies ------------------------------------------------------------------------------

    def write_copy(self, file: File, kind: str, data: bytes, how: str, note: Note) -> None:
        """Puts a copy of ours beside a file, in place of our former one of that kind.

        Raises StorageError, with the code ``name-taken`` when somebody else's file has the name.
        """
        path = f"{file.path}.{kind}"
        sha = hashlib.sha256(data).digest()
        former = next((copy for copy in file.copies if copy.kind == kind), None)
        if former is not None:
            if former.sha256 == sha and self.folder.sha256(path) == sha:
                return
            self.drop_copy(file, former, note)
        if self.folder.exists(path):
            raise StorageError("name-taken", f"{path} is somebody else's file, so no copy was written there")
        staged = self.folder.staged_name(path)
        extra = {"kind": kind, "how": how}
        entry = self._open_journal(COPY, file, path, staged, None, sha, note, extra)
        try:
            self.folder.stage(staged, data, self.folder.stat(file.path))
            passed(Step.STAGED)
            published = self.folder.publish(staged, path)
        except StorageError:
            if not self.settle(entry):
                raise
            return
        if not published:
            self.settle(entry)
            raise StorageError("name-taken", f"{path} is somebody else's file, so no copy was written there")
        passed(Step.EXCHANGED)
        self._finish_copy(entry)
        passed(Step.RECORDED)

    def _finish_copy(self, entry: Journal) -> None:
        """Records a copy that has its name."""
        size = self.folder.stat(entry.path).st_size
        values = {
            "library_id": self.library_id,
            "file_id": entry.file_id,
            "kind": entry.detail["kind"],
            "path": entry.path,
            "size": size,
            "sha256": entry.after_sha256,
            "score": entry.detail.get("score"),
            "how": entry.detail.get("how", ""),
        }
        with self.database.begin() as session:
            file = session.get_one(File, entry.file_id)
            session.execute(
                insert(Copy)
                .values(**values)
                .on_conflict_do_update(index_elements=["file_id", "kind"], set_=values)
            )
            self._record(session, entry, file, None, size)

    def drop_copies(self, file: File, note: Note, *, keep: frozenset[str] = frozenset()) -> None:
        """Removes our copies of a file, except the kinds to keep. Raises StorageError."""
        for copy in list(file.copies):
            if copy.kind not in keep:
                self.drop_copy(file, copy, note)

    def drop_copy(self, file: File, copy: Copy, note: Note) -> None:
        """Removes one copy, unless its bytes are no longer ours. Raises StorageError."""
        current = self.folder.sha256(copy.path)
        if current == copy.sha256:
            self.folder.remove(copy.path)
        with self.database.begin() as session:
            session.execute(delete(Copy).where(Copy.id == copy.id))
            session.add(
                Ledger(
                    library_id=self.library_id, picture_id=file.picture_id, file_id=file.id,
                    run_id=note.run_id, action=DROP_COPY, path=copy.path, before_sha256=copy.sha256,
                    bytes_before=copy.size, bytes_after=None,
                    detail={} if current in (None, copy.sha256) else {"left": "changed by somebody else"},
                )
            )  # fmt: skip
