"""What every change of a file has in common: its journal row while it is open, its ledger row for ever."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, File, Journal, Ledger
from plumcrate.storage.folder import Folder

from .backups import BackupStore
from .steps import Step, passed

REPLACE, RESTORE, COPY, DROP_COPY = "replace", "restore", "copy", "drop-copy"
#: A file takes its name back; a first file makes way for its conversion.
PUT_BACK, WITHDRAW = "put-back", "withdraw"
PRUNE = "prune"


@dataclass(frozen=True, slots=True)
class Note:
    """What goes into the ledger with a change."""

    run_id: int | None = None
    score: float | None = None
    detail: dict[str, Any] = field(default_factory=dict)


class Journalled:
    """Opens and closes changes in the files of one library."""

    def __init__(self, database: Database, library_id: int, folder: Folder, backups: BackupStore) -> None:
        self.database = database
        self.library_id = library_id
        self.folder = folder
        self.backups = backups

    def open_journal(
        self,
        action: str,
        file: File,
        path: str,
        staged: str,
        before_sha: bytes | None,
        after_sha: bytes | None,
        note: Note,
        **extra: Any,
    ) -> Journal:
        """Commits the row that says what is about to happen. ``after_sha`` None: the name goes away."""
        detail = {"run_id": note.run_id, "score": note.score, "note": note.detail, **extra}
        entry = Journal(
            library_id=self.library_id, file_id=file.id, action=action, path=path, staged=staged,
            before_sha256=before_sha, after_sha256=after_sha or b"", detail=detail,
        )  # fmt: skip
        with self.database.begin() as session:
            session.add(entry)
        passed(Step.JOURNALLED)
        return entry

    def backup_stands(self, sha256: bytes) -> bool:
        """Whether a backup is on record and not being deleted; asked once the journal row is committed."""
        with self.database.begin() as session:
            query = select(Backup.pruned_at.is_(None)).where(
                Backup.library_id == self.library_id, Backup.sha256 == sha256
            )
            return bool(session.scalar(query.with_for_update(read=True)))

    def drop_journal(self, entry_id: int) -> None:
        """Closes a change that was undone, or never happened."""
        with self.database.begin() as session:
            session.execute(delete(Journal).where(Journal.id == entry_id))

    def record(
        self, session: Session, entry: Journal, file: File, before: int | None, after: int | None
    ) -> None:
        """Writes the ledger and closes the journal, in the caller's transaction."""
        session.add(
            Ledger(
                library_id=self.library_id,
                picture_id=file.picture_id,
                file_id=file.id,
                run_id=entry.detail.get("run_id"),
                action=entry.action,
                path=entry.path,
                before_sha256=entry.before_sha256,
                after_sha256=entry.after_sha256 or None,
                bytes_before=before,
                bytes_after=after,
                score=entry.detail.get("score"),
                detail=entry.detail.get("note", {}),
            )
        )
        session.execute(delete(Journal).where(Journal.id == entry.id))
