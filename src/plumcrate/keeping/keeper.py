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
from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from plumcrate.contract import FileState
from plumcrate.records.tables import Backup, Copy, File, Journal
from plumcrate.storage.folder import StorageError

from .journal import COPY, DROP_COPY, PUT_BACK, REPLACE, RESTORE, WITHDRAW, Journalled, Note
from .steps import Step, passed

#: Kinds of copies that stand for a first file in another format.
CONVERTED = ("jpeg", "png")


class Overtaken(StorageError):
    """Somebody else changed the file meanwhile; what they wrote was left in place."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "changed-outside",
            f"{path} was changed by somebody else meanwhile; their version was left in place: survey again",
        )


class Keeper(Journalled):
    """Changes the files of one library. The caller holds the picture's lock."""

    # -- the file itself ---------------------------------------------------------------------

    def replace(
        self,
        file: File,
        before: bytes,
        after: bytes,
        note: Note,
        *,
        backup: bool = True,
        keep_times: bool = False,
        store_limit: int | None = None,
    ) -> None:
        """Puts ``after`` in the place of ``file``, which holds ``before``; the backup comes first.

        Without ``backup`` nothing keeps the bytes of a file that has none yet. ``store_limit`` is the
        size in bytes that the library's backups may reach. Raises StorageError; :class:`Overtaken` when
        the file no longer holds ``before``.
        """
        before_sha = hashlib.sha256(before).digest()
        original = self._known_original(file, before_sha)
        if original is None and backup:
            self.back_up(before, before_sha, store_limit)
            original = before_sha
        self._exchange(REPLACE, file, before_sha, after, note, keep_times, original)

    def restore(self, file: File, note: Note, *, overwrite: bool = False) -> None:
        """Puts the backup back and removes our copies. Raises StorageError.

        A file that somebody changed since is not overwritten (:class:`Overtaken`) unless the caller says
        so; their version is then backed up first.
        """
        if file.before_sha256 is not None:
            self._put_original(file, note, overwrite)
            self.folder.set_mtime(file.path, file.mtime_ns_before)
        elif file.sha256 is not None:
            raise StorageError(
                "no-backup",
                f"{file.path} has no backup: it was treated without one, or its backup was deleted; "
                "it stays as it is",
            )
        self.drop_copies(file, note)
        facts = self.folder.stat(file.path)
        with self.database.begin() as session:
            row = session.get_one(File, file.id)
            row.state, row.reason = FileState.NEW, None
            row.sha256 = row.before_sha256 = row.score = row.level = row.recipe = row.how = None
            row.treated_at = None
            row.size_now = row.size_before = facts.st_size
            row.mtime_ns = row.mtime_ns_before = facts.st_mtime_ns

    def _put_original(self, file: File, note: Note, overwrite: bool) -> None:
        assert file.before_sha256 is not None
        current = self.folder.sha256(file.path)
        if current == file.before_sha256:
            return
        if current is None and file.state != FileState.REMOVED:
            raise StorageError("gone", f"{file.path} is not there any more; its backup is kept")
        if current is not None and current != file.sha256:
            if not overwrite:
                raise Overtaken(file.path)
            theirs = self.folder.read(file.path)
            current = hashlib.sha256(theirs).digest()
            self.back_up(theirs, current)
        data = self.backups.get(file.before_sha256)
        if current is not None:
            self._exchange(RESTORE, file, current, data, note, False, None)
        else:
            self._appear(PUT_BACK, file, file.path, data, note)

    def withdraw(self, file: File, current: bytes, note: Note) -> None:
        """Takes a first file away whose conversion is in place; its backup stays. Raises StorageError."""
        sha = hashlib.sha256(current).digest()
        original = self._known_original(file, sha)
        if original is None:
            self.back_up(current, sha)
            original = sha
        staged = self.folder.staged_name(file.path)
        entry = self.open_journal(WITHDRAW, file, file.path, staged, sha, None, note, original=original.hex())
        try:
            self._rely_on(original)
            self.folder.withdraw(file.path, staged)
        except StorageError:
            if not self.settle(entry):
                raise
            return
        passed(Step.EXCHANGED)
        if self.folder.sha256(staged) != sha:
            self.folder.publish(staged, file.path)
            self.settle(entry)
            raise Overtaken(file.path)
        passed(Step.CHECKED)
        self.folder.remove(staged)
        passed(Step.CLEANED)
        self._finish_withdrawal(entry)
        passed(Step.RECORDED)

    def _known_original(self, file: File, current: bytes) -> bytes | None:
        """The backup that stands for a file whose bytes are ours or the original; None when they are
        neither, as when somebody wrote them, or when there is no backup."""
        original = file.before_sha256
        if original is None or current not in (file.sha256, original) or not self.backups.has(original):
            return None
        return original

    def back_up(self, data: bytes, sha256: bytes, store_limit: int | None = None) -> None:
        """Makes a durable backup. Raises StorageError.

        The row is locked until the bytes are durable, so that pruning cannot delete them meanwhile.
        """
        with self.database.begin() as session:
            if store_limit is not None:
                held = select(func.coalesce(func.sum(Backup.size), 0)).where(
                    Backup.library_id == self.library_id, Backup.sha256 != sha256
                )
                if int(session.scalar(held) or 0) + len(data) > store_limit:
                    raise StorageError(
                        "backups-full",
                        f"the backups have reached their limit of {store_limit / 1e9:.1f} GB: raise it, or "
                        "delete old backups; nothing was changed",
                    )
            session.execute(
                insert(Backup)
                .values(library_id=self.library_id, sha256=sha256, size=len(data))
                .on_conflict_do_update(index_elements=["library_id", "sha256"], set_={"pruned_at": None})
            )
            self.backups.put(data, sha256)
        passed(Step.BACKED_UP)

    def _rely_on(self, original: bytes | None) -> None:
        if original is not None and not self.backup_stands(original):
            raise StorageError("backup-missing", "the backup was deleted meanwhile; nothing was changed")

    def _exchange(
        self,
        action: str,
        file: File,
        before_sha: bytes,
        after: bytes,
        note: Note,
        keep_times: bool,
        original: bytes | None,
    ) -> None:
        staged = self.folder.staged_name(file.path)
        after_sha = hashlib.sha256(after).digest()
        links = self.folder.stat(file.path).st_nlink
        if links > 1:
            note.detail["links"] = links  # the other names keep the old bytes
        entry = self.open_journal(
            action, file, file.path, staged, before_sha, after_sha, note,
            original=original.hex() if original else None,
        )  # fmt: skip
        try:
            self._rely_on(original)
            self.folder.stage(staged, after, file.path, keep_times=keep_times)
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

    # -- settling ----------------------------------------------------------------------------

    def settle(self, entry: Journal) -> bool:
        """Finishes or undoes an open change by hash alone; says whether it was finished.

        See :mod:`.recovery` for the cases. Raises StorageError when the library cannot be reached;
        the journal row then stays open.
        """
        if not self.folder.root.is_dir():
            raise StorageError(
                "folder-missing",
                f"the folder {self.folder.root} is not there: {entry.path} is settled when it is back",
            )
        if entry.action == DROP_COPY:
            return self._settle_drop(entry)
        if entry.action in (COPY, PUT_BACK):
            return self._settle_appearance(entry)
        if entry.action == WITHDRAW:
            return self._settle_withdrawal(entry)
        folder = self.folder
        here, staged = folder.sha256(entry.path), folder.sha256(entry.staged)
        done = here == entry.after_sha256 and staged in (None, entry.before_sha256, entry.after_sha256)
        if not done and here == entry.after_sha256:
            folder.exchange(entry.path, entry.staged)
        elif here is None and staged == entry.before_sha256:
            folder.publish(entry.staged, entry.path)
        folder.remove(entry.staged)
        if done:
            self._finish_exchange(entry)
        else:
            self.drop_journal(entry.id)
        return done

    def _settle_appearance(self, entry: Journal) -> bool:
        done = self.folder.sha256(entry.path) == entry.after_sha256
        self.folder.remove(entry.staged)
        if done:
            self._finish_appearance(entry)
        else:
            self.drop_journal(entry.id)
        return done

    def _settle_withdrawal(self, entry: Journal) -> bool:
        here, staged = self.folder.sha256(entry.path), self.folder.sha256(entry.staged)
        if here is None and staged is not None:
            self.folder.publish(entry.staged, entry.path)
        self.folder.remove(entry.staged)
        done = here is None and staged is None
        if done:
            self._finish_withdrawal(entry)
        else:
            self.drop_journal(entry.id)
        return done

    def _finish_exchange(self, entry: Journal) -> None:
        """Records an exchange that has happened: file record, ledger, journal, in one transaction."""
        facts = self.folder.stat(entry.path)
        with self.database.begin() as session:
            file = session.get_one(File, entry.file_id)
            size_before = file.size_now
            file.size_now, file.mtime_ns = facts.st_size, facts.st_mtime_ns
            if entry.action == REPLACE:
                original = entry.detail.get("original")
                file.sha256 = entry.after_sha256
                file.before_sha256 = bytes.fromhex(original) if original else None
                file.state = FileState.LIGHTER
                file.score = entry.detail.get("score")
                file.treated_at = datetime.now(UTC)
            else:
                file.sha256 = None
            self.record(session, entry, file, size_before, facts.st_size)

    def _finish_withdrawal(self, entry: Journal) -> None:
        with self.database.begin() as session:
            file = session.get_one(File, entry.file_id)
            size_before = file.size_now
            # What stands for the file from now on is its conversion.
            file.size_now = next((one.size for one in file.copies if one.kind in CONVERTED), 0)
            file.state, file.treated_at = FileState.REMOVED, datetime.now(UTC)
            file.before_sha256 = bytes.fromhex(entry.detail["original"])
            file.sha256 = entry.before_sha256
            self.record(session, entry, file, size_before, None)

    # -- files that appear: copies, and originals that take their name back ------------------------

    def write_copy(
        self, file: File, kind: str, data: bytes, how: str, note: Note, path: str | None = None
    ) -> None:
        """Puts a copy of ours beside a file, in place of our former one of that kind.

        ``path`` is its name when it is not the file's with the kind behind it. Raises StorageError, with
        the code ``name-taken`` when somebody else's file has the name.
        """
        path = path or f"{file.path}.{kind}"
        sha = hashlib.sha256(data).digest()
        former = next((copy for copy in file.copies if copy.kind == kind), None)
        if former is not None:
            if former.sha256 == sha and former.path == path and self.folder.sha256(path) == sha:
                return
            self.drop_copy(file, former, note)
        self._appear(COPY, file, path, data, note, kind=kind, how=how)

    def _appear(self, action: str, file: File, path: str, data: bytes, note: Note, **extra: str) -> None:
        taken = StorageError("name-taken", f"{path} is somebody else's file, so nothing was written there")
        if self.folder.exists(path):
            raise taken
        staged = self.folder.staged_name(path)
        sha = hashlib.sha256(data).digest()
        entry = self.open_journal(action, file, path, staged, None, sha, note, **extra)
        try:
            self.folder.stage(staged, data, file.path if action == COPY else None)
            passed(Step.STAGED)
            published = self.folder.publish(staged, path)
        except StorageError:
            if not self.settle(entry):
                raise
            return
        if not published:
            self.settle(entry)
            raise taken
        passed(Step.EXCHANGED)
        self._finish_appearance(entry)
        passed(Step.RECORDED)

    def _finish_appearance(self, entry: Journal) -> None:
        """Records a copy, or an original, that has its name."""
        facts = self.folder.stat(entry.path)
        with self.database.begin() as session:
            file = session.get_one(File, entry.file_id)
            if entry.action == PUT_BACK:
                file.sha256, file.state = None, FileState.NEW
                file.size_now, file.mtime_ns = facts.st_size, facts.st_mtime_ns
            else:
                values = {
                    "library_id": self.library_id,
                    "file_id": entry.file_id,
                    "kind": entry.detail["kind"],
                    "path": entry.path,
                    "size": facts.st_size,
                    "sha256": entry.after_sha256,
                    "score": entry.detail.get("score"),
                    "how": entry.detail.get("how", ""),
                }
                session.execute(
                    insert(Copy)
                    .values(**values)
                    .on_conflict_do_update(index_elements=["file_id", "kind"], set_=values)
                )
            self.record(session, entry, file, None, facts.st_size)

    def drop_copies(self, file: File, note: Note, *, keep: frozenset[str] = frozenset()) -> None:
        """Removes our copies of a file, except the kinds to keep. Raises StorageError."""
        for copy in list(file.copies):
            if copy.kind not in keep:
                self.drop_copy(file, copy, note)

    def drop_copy(self, file: File, copy: Copy, note: Note) -> None:
        """Removes one copy, unless its bytes are no longer ours. Raises StorageError."""
        entry = self.open_journal(DROP_COPY, file, copy.path, "", copy.sha256, None, note, copy=copy.id)
        self._settle_drop(entry)

    def _settle_drop(self, entry: Journal) -> bool:
        current = self.folder.sha256(entry.path)
        if current == entry.before_sha256:
            self.folder.remove(entry.path)
        passed(Step.CLEANED)
        with self.database.begin() as session:
            copy = session.get(Copy, entry.detail["copy"])
            if current not in (None, entry.before_sha256):
                entry.detail = entry.detail | {"note": {"left": "changed by somebody else"}}
            self.record(
                session, entry, session.get_one(File, entry.file_id), copy.size if copy else None, None
            )
            if copy is not None:
                session.delete(copy)
        return True
