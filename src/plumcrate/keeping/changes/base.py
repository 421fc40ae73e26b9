"""What every change has in common: its journal row while it is open, its ledger row for ever."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from enum import Enum
from typing import TYPE_CHECKING, Any, BinaryIO, ClassVar, Self

from pydantic import BaseModel
from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, lazyload

from plumcrate.keeping.steps import Step, passed
from plumcrate.records.tables import Backup, File, Journal, Ledger, Result
from plumcrate.storage.errors import StorageError
from plumcrate.storage.store import NO_FILE, FileFacts, Writers

if TYPE_CHECKING:
    from plumcrate.keeping.keeper import Keeper

#: Where the system does not tell who writes, a file that lost its name is kept for so long, in seconds.
GRACE = 30.0


@dataclass(frozen=True, slots=True)
class ChangeNote:
    """What goes into the ledger with a change. ``made``: of a treatment, as a file's record says it."""

    run_id: int | None = None
    score: float | None = None
    detail: dict[str, Any] = field(default_factory=dict)
    made: dict[str, Any] = field(default_factory=dict)


class Payload(BaseModel):
    """What a change knows of itself after a crash. ``folder``: which folder it was, see Store.folder_id."""

    version: int = 1
    run_id: int | None = None
    score: float | None = None
    note: dict[str, Any] = {}
    folder: str | None = None


class Settled(Enum):
    """What became of an open change. ``OPEN``: it cannot be told yet, and its row stays."""

    FINISHED = "finished"
    UNDONE = "undone"
    OPEN = "open"


class Change(ABC):
    """One change of what stands under ``entry.path``. The caller holds the picture's lock."""

    action: ClassVar[str]
    Payload: ClassVar[type[Payload]] = Payload

    def __init__(self, keeper: Keeper, entry: Journal) -> None:
        self.keeper, self.entry = keeper, entry
        self.store = keeper.store
        self.payload = self.Payload.model_validate(entry.detail)
        #: Of what we put under the name, taken while it certainly was ours.
        self.facts: FileFacts | None = None

    @classmethod
    def begin(
        cls,
        keeper: Keeper,
        path: str,
        note: ChangeNote,
        *,
        file: File | None = None,
        before: bytes | None = None,
        after: bytes | None = None,
        result: Result | None = None,
        **payload: Any,
    ) -> Self:
        """Commits the row that says what is about to happen; ``before`` and ``after`` are hashes.

        ``result``: what is about to be made, known by content from now on.
        """
        keeper.ensure_identity()
        folder = keeper.store.folder_id(path)
        if folder is None:
            raise StorageError("gone", f"the folder of {path} is not there any more")
        known = cls.Payload(run_id=note.run_id, score=note.score, note=note.detail, folder=folder, **payload)
        entry = Journal(
            library_id=keeper.library_id,
            file_id=file.id if file else None,
            action=cls.action,
            path=path,
            staged=keeper.store.spare_name(path),
            before_sha256=before,
            after_sha256=after,
            detail=known.model_dump(mode="json"),
        )
        with keeper.database.begin() as session:
            session.add(entry)
            if result is not None:
                _remember(session, result)
        passed(Step.JOURNALLED)
        return cls(keeper, entry)

    @abstractmethod
    def settle(self) -> Settled:
        """Finishes or undoes the change by what stands on disk now. Raises StorageError."""

    @abstractmethod
    def finish(self, session: Session) -> None:
        """Brings records and ledger up to what has happened, in the caller's transaction."""

    # -- what stands on disk -------------------------------------------------------------------

    def look(self) -> tuple[bytes | None, bytes | None]:
        """The hashes under the name and under the hidden name, and the facts of what had the name before
        it was hashed: should somebody write in between, these are not theirs."""
        left = self.store.half_swapped(self.entry.path, self.entry.staged)
        if left is not None:
            self.discard_staged(left)
        with suppress(StorageError):
            self.facts = self.store.facts(self.entry.path)
        return self.store.sha256(self.entry.path), self.store.sha256(self.entry.staged)

    def in_its_folder(self) -> bool:
        """Whether the folder is the one in which the change began: only then do absent names mean much."""
        return self.payload.folder is not None and self.payload.folder == self.store.folder_id(
            self.entry.path
        )

    def discard_staged(self, hidden: str, *, ours: bool = False) -> None:
        """Deletes what stands under a hidden name; bytes that nothing else keeps are backed up first.

        ``ours``: it is known that nobody needs them.
        """
        content = self.store.sha256(hidden)
        if content is None:
            return
        if content == NO_FILE:
            raise StorageError("not-a-file", f"under {hidden} stands something of somebody's; it was left")
        if not (ours or content == self.entry.after_sha256 or self.keeper.backups.has(content)):
            self.keeper.back_up(self.store.read(hidden), content, self.entry.path)
        self.store.discard(hidden)

    def give_back(self, content: bytes) -> bool:
        """Gives what lies under the hidden name its public name again; says whether the name was free."""
        if self.store.create(self.entry.staged, self.entry.path):
            return True
        if content == NO_FILE:
            raise StorageError(
                "not-a-file", f"{self.entry.path} is taken, so {self.entry.staged} could not go back to it"
            )
        self.discard_staged(self.entry.staged)
        return False

    def writers(self) -> Writers:
        """Who may still write to the file that lost its name; asked before it is hashed."""
        if self.store.sha256(self.entry.staged) in (None, NO_FILE):
            return Writers.NONE
        return self.store.writers(self.entry.staged)

    # -- closing -------------------------------------------------------------------------------

    def undone(self) -> Settled:
        """Closes the row of a change that was undone, or never happened."""
        self._close()
        return Settled.UNDONE

    def complete_at_once(self) -> Settled:
        """Records a change that put nothing aside."""
        self.store.discard(self.entry.staged)
        with self.keeper.database.begin() as session:
            self.finish(session)
            session.execute(delete(Journal).where(Journal.id == self.entry.id))
        passed(Step.RECORDED)
        return Settled.FINISHED

    def complete(self, *, grace: bool = False) -> Settled:
        """Records the change; then deletes what lies under the hidden name, at once or after a while."""
        aside = {"of": self.action, "run_id": self.payload.run_id, "folder": self.payload.folder}
        due = func.now() + timedelta(seconds=self.keeper.grace if grace else 0)
        with self.keeper.database.begin() as session:
            self.finish(session)
            session.execute(
                update(Journal)
                .where(Journal.id == self.entry.id)
                .values(action="discard", due_at=due, detail=aside)
            )
        passed(Step.RECORDED)
        if not grace:
            self.store.discard(self.entry.staged)
            passed(Step.CLEANED)
            self._close()
            passed(Step.CLOSED)
        return Settled.FINISHED

    def _close(self) -> None:
        self.keeper.database.at_once(delete(Journal).where(Journal.id == self.entry.id))

    def record(self, session: Session, file: File | None, before: int | None, after: int | None) -> None:
        """The ledger row."""
        entry, payload = self.entry, self.payload
        session.add(
            Ledger(
                library_id=entry.library_id,
                picture_id=file.picture_id if file else None,
                file_id=file.id if file else None,
                run_id=payload.run_id,
                action=self.action,
                path=entry.path,
                before_sha256=entry.before_sha256,
                after_sha256=entry.after_sha256,
                bytes_before=before,
                bytes_after=after,
                score=payload.score,
                detail=payload.note,
            )
        )

    def known_facts(self) -> FileFacts:
        """Size and time of what we put under the name."""
        assert self.facts is not None
        return self.facts

    def file(self, session: Session) -> File:
        assert self.entry.file_id is not None
        return session.get_one(File, self.entry.file_id, options=[lazyload(File.derived)])

    def seen_again(self, session: Session, sha256: bytes | None, *, seen: bool) -> None:
        """Notes whether the bytes of a backup stand in the library."""
        session.execute(
            update(Backup)
            .where(Backup.library_id == self.entry.library_id, Backup.sha256 == sha256)
            .values(seen_at=func.now() if seen else None)
        )


def _remember(session: Session, result: Result) -> None:
    values = {
        name: getattr(result, name)
        for name in ("library_id", "sha256", "size", "purpose", "format", "original_sha256", "made")
    }
    statement = insert(Result).values(**values)
    session.execute(
        statement.on_conflict_do_update(
            index_elements=["library_id", "sha256"],
            set_={name: values[name] for name in ("purpose", "format", "original_sha256", "made")},
            where=statement.excluded.original_sha256.is_not(None),
        )
    )


def backup_stands(session: Session, library_id: int, sha256: bytes) -> bool:
    """Whether a backup is on record and not being deleted; asked once the journal row is committed."""
    query = select(Backup.pruned_at.is_(None)).where(Backup.library_id == library_id, Backup.sha256 == sha256)
    return bool(session.scalar(query.with_for_update(read=True)))


def content_sha(data: bytes | BinaryIO) -> bytes:
    """The SHA-256 of bytes, or of a file's content, piece by piece."""
    if isinstance(data, bytes):
        return sha_of(data)
    data.seek(0)
    digest = hashlib.sha256()
    while piece := data.read(1 << 20):
        digest.update(piece)
    return digest.digest()


def sha_of(data: bytes) -> bytes:
    return hashlib.sha256(data).digest()
