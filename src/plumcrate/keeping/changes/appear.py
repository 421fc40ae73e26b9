"""Files that appear under a name that is free: copies, originals that come back, uploads."""

from __future__ import annotations

from typing import Any, BinaryIO, ClassVar

from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.keeping.steps import Step, passed
from plumcrate.records.tables import Derived
from plumcrate.storage.errors import StorageError

from .base import Change, Payload, Settled


def name_taken(path: str) -> StorageError:
    return StorageError("name-taken", f"{path} is somebody else's file, so nothing was written there")


class Appear(Change):
    """``entry.after_sha256`` appears under ``entry.path``."""

    def perform(
        self, data: bytes | BinaryIO, like: str | None = None, *, mtime_ns: int | None = None
    ) -> None:
        """``mtime_ns``: the time of the last change that the file is to have.

        Raises StorageError, with the code ``name-taken`` when somebody else's file has the name.
        """
        entry = self.entry
        try:
            self.store.stage(entry.staged, data, like)
            if mtime_ns is not None:
                self.store.set_mtime(entry.staged, mtime_ns)
            self.facts = self.store.facts(entry.staged)
            passed(Step.STAGED)
            published = self.store.create(entry.staged, entry.path)
        except StorageError:
            if self.settle() is not Settled.FINISHED:
                raise
            return
        if not published:
            self.settle()
            raise name_taken(entry.path)
        passed(Step.EXCHANGED)
        self.complete_at_once()

    def settle(self) -> Settled:
        here, out = self.look()
        if here is None and out is None and not self.in_its_folder():
            return Settled.OPEN
        if here == self.entry.after_sha256:
            return self.complete_at_once()
        self.discard_staged(self.entry.staged, ours=True)
        return self.undone()


class DerivedPayload(Payload):
    """What appears; see :class:`~plumcrate.keeping.derived.Beside`."""

    purpose: str
    format: str
    width: int = 0
    height: int = 0
    worst_place: dict[str, Any] | None = None
    how: str = ""


class WriteDerived(Appear):
    """A copy or a conversion of ours appears beside a file."""

    action: ClassVar[str] = "copy"
    Payload = DerivedPayload
    payload: DerivedPayload

    def finish(self, session: Session) -> None:
        facts = self.known_facts()
        payload = self.payload
        values = {
            "library_id": self.entry.library_id,
            "file_id": self.entry.file_id,
            "purpose": payload.purpose,
            "format": payload.format,
            "width": payload.width,
            "height": payload.height,
            "stands_in": payload.purpose != Purpose.SAVE_DATA,
            "path": self.entry.path,
            "size": facts.size,
            "sha256": self.entry.after_sha256,
            "score": payload.score,
            "worst_place": payload.worst_place,
            "how": payload.how,
        }
        one_of_a_kind = ["file_id", "purpose", "format", "width", "height"]
        session.execute(
            insert(Derived).values(**values).on_conflict_do_update(index_elements=one_of_a_kind, set_=values)
        )
        self.record(session, self.file(session), None, facts.size)


class MakeSized(Appear):
    """A file that is made for a size of the library appears."""

    action: ClassVar[str] = "size"

    def finish(self, session: Session) -> None:
        facts = self.known_facts()
        file = self.file(session)
        file.sha256, file.before_sha256, file.state = self.entry.after_sha256, None, FileState.LIGHTER
        file.size_before = file.size_now = facts.size
        file.mtime_ns = file.mtime_ns_before = facts.mtime_ns
        self.record(session, file, None, facts.size)


class PutBack(Appear):
    """An original takes its name back, which nobody else has taken since."""

    action: ClassVar[str] = "put-back"

    def finish(self, session: Session) -> None:
        facts = self.known_facts()
        self.seen_again(session, self.entry.after_sha256, seen=True)
        file = None
        if self.entry.file_id is not None:
            file = self.file(session)
            file.sha256, file.state = None, FileState.NEW
            file.size_now, file.mtime_ns = facts.size, facts.mtime_ns
        self.record(session, file, None, facts.size)


class Upload(Appear):
    """A new file that somebody sent. Its record is made when it is taken in."""

    action: ClassVar[str] = "upload"

    def finish(self, session: Session) -> None:
        self.record(session, None, None, self.known_facts().size)
