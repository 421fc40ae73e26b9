"""New bytes take a file's place: a treatment's result, or the original again.

The new bytes are staged in the same folder, then both names are exchanged at once, and what came out is
hashed once nobody has it open for writing. If it is not what was read, somebody wrote in between: the
names are exchanged back, and theirs stays. See :mod:`plumcrate.keeping.recovery` for what is done after a
crash.
"""

from __future__ import annotations

from typing import BinaryIO, ClassVar

from sqlalchemy import func
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.keeping.steps import Step, passed
from plumcrate.storage.errors import StorageError
from plumcrate.storage.store import NO_FILE, Writers

from .base import Change, Payload, Settled, backup_stands


class Overtaken(StorageError):
    """Somebody else changed the file meanwhile; what they wrote was left in place."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "changed-outside",
            f"{path} was changed by somebody else meanwhile; their version was left in place: survey again",
        )


class InUse(StorageError):
    """Somebody has the file open for writing; it was left as it is."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "in-use", f"{path} is open for writing by another program, so it was left as it is for now"
        )


class ExchangePayload(Payload):
    """``original``: the backup that keeps the original, in hexadecimal; None when nothing does."""

    original: str | None = None


class Exchange(Change):
    """The two names are exchanged. ``entry`` knows both hashes."""

    Payload = ExchangePayload
    payload: ExchangePayload

    def perform(
        self, after: bytes | BinaryIO, *, keep_times: bool = False, mtime_ns: int | None = None
    ) -> None:
        """``mtime_ns``: the time of the last change that the file is to have.

        Raises StorageError; :class:`Overtaken` or :class:`InUse` when somebody else is at the file.
        """
        entry = self.entry
        try:
            self._rely_on_backup()
            self.store.stage(entry.staged, after, entry.path, keep_times=keep_times)
            if mtime_ns is not None:
                self.store.set_mtime(entry.staged, mtime_ns)
            self.facts = self.store.facts(entry.staged)
            passed(Step.STAGED)
            self.store.swap(entry.path, entry.staged)
        except StorageError:
            # The disk may have failed before the exchange or just after it: the hashes tell.
            if self.settle() is not Settled.FINISHED:
                raise
            return
        passed(Step.EXCHANGED)
        writers = self.writers()
        if writers is Writers.SOME or self.store.sha256(entry.staged) != entry.before_sha256:
            self._take_back()
            raise InUse(entry.path) if writers is Writers.SOME else Overtaken(entry.path)
        passed(Step.CHECKED)
        self.complete(grace=writers is Writers.UNKNOWN)

    def _rely_on_backup(self) -> None:
        if self.payload.original is None:
            return
        with self.keeper.database.reading() as session:
            if not backup_stands(session, self.entry.library_id, bytes.fromhex(self.payload.original)):
                raise StorageError("backup-missing", "the backup was deleted meanwhile; nothing was changed")

    def settle(self) -> Settled:
        entry = self.entry
        here, out = self.look()
        if here is None and out is None and not self.in_its_folder():
            return Settled.OPEN
        if here == entry.after_sha256 and out in (None, entry.before_sha256, entry.after_sha256):
            writers = self.writers()
            if writers is Writers.SOME or self.store.sha256(entry.staged) != out:
                return self._take_back()
            return self.complete(grace=writers is Writers.UNKNOWN)
        if here == entry.after_sha256:
            return self._take_back()
        if out is not None and (out == NO_FILE or (here is None and out == entry.before_sha256)):
            self.give_back(out)
        # Before the exchange the hidden name holds what we staged, whole or cut off.
        self.discard_staged(entry.staged, ours=here == entry.before_sha256)
        return self.undone()

    def _take_back(self) -> Settled:
        """Exchanges the names again. Should somebody have written once more, theirs stays."""
        entry = self.entry
        for _ in range(8):
            self.store.swap(entry.path, entry.staged)
            if self.store.sha256(entry.staged) == entry.after_sha256:
                break
        # Eight versions between our steps: whatever is left under the hidden name is backed up.
        self.discard_staged(entry.staged)
        return self.undone()


class Replace(Exchange):
    """A treatment's result takes the place of the file."""

    action: ClassVar[str] = "replace"

    def finish(self, session: Session) -> None:
        facts = self.known_facts()
        file = self.file(session)
        size_before = file.size_now
        original = bytes.fromhex(self.payload.original) if self.payload.original else None
        file.size_now, file.mtime_ns = facts.size, facts.mtime_ns
        file.sha256, file.before_sha256 = self.entry.after_sha256, original
        file.state, file.held = FileState.LIGHTER, False
        file.score, file.treated_at = self.payload.score, func.now()
        self.seen_again(session, original, seen=False)
        self.record(session, file, size_before, facts.size)


class Restore(Exchange):
    """The original takes its place again."""

    action: ClassVar[str] = "restore"

    def finish(self, session: Session) -> None:
        facts = self.known_facts()
        file = self.file(session)
        size_before = file.size_now
        file.size_now, file.mtime_ns, file.sha256 = facts.size, facts.mtime_ns, None
        self.seen_again(session, self.entry.after_sha256, seen=True)
        self.record(session, file, size_before, facts.size)


class Supersede(Exchange):
    """A file that somebody sent takes the place of another. It is taken in as one that was changed."""

    action: ClassVar[str] = "supersede"

    def finish(self, session: Session) -> None:
        file = self.file(session)
        self.seen_again(session, bytes.fromhex(self.payload.original or ""), seen=False)
        self.record(session, file, file.size_now, self.known_facts().size)
