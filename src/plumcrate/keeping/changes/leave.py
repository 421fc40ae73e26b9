"""Files that leave their name: first files that make way, copies that are dropped, what was put aside.

A file is never deleted under its public name. It goes to a hidden one first and is hashed there, so
that what somebody wrote a moment before is noticed and put back.
"""

from __future__ import annotations

from datetime import timedelta
from typing import ClassVar

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.keeping.steps import Step, passed
from plumcrate.records.tables import Derived, File, Journal, Ledger, Result
from plumcrate.storage.errors import StorageError
from plumcrate.storage.store import NO_FILE, Writers

from .base import Change, Payload, Settled
from .exchange import InUse, Overtaken


class WithdrawPayload(Payload):
    """``original``: the backup that keeps the file, in hexadecimal."""

    original: str


class Withdraw(Change):
    """A first file makes way for its conversion; its backup stays."""

    action: ClassVar[str] = "withdraw"
    Payload = WithdrawPayload
    payload: WithdrawPayload

    def perform(self) -> None:
        """Raises StorageError; :class:`Overtaken` or :class:`InUse` when somebody else is at the file."""
        entry = self.entry
        try:
            self.keeper.rely_on(bytes.fromhex(self.payload.original))
            moved = self.store.withdraw(entry.path, entry.staged)
        except StorageError:
            self.settle()
            raise
        if not moved:
            self.settle()
            raise StorageError("name-taken", f"{entry.staged} is taken, so {entry.path} was left in place")
        passed(Step.EXCHANGED)
        writers = self.writers()
        if writers is Writers.SOME or self.store.sha256(entry.staged) != entry.before_sha256:
            self.settle()
            raise InUse(entry.path) if writers is Writers.SOME else Overtaken(entry.path)
        passed(Step.CHECKED)
        self.complete(grace=writers is Writers.UNKNOWN)

    def settle(self) -> Settled:
        here, out = self.look()
        if here is None and out is None and not self.in_its_folder():
            return Settled.OPEN
        if out is not None:
            self.give_back(out)  # to be withdrawn another time
        return self.undone()

    def finish(self, session: Session) -> None:
        file = self.file(session)
        size_before = file.size_now
        # What stands for the file from now on is its conversion.
        file.size_now = file.conversion.size if file.conversion is not None else 0
        file.state, file.treated_at = FileState.REMOVED, func.now()
        file.before_sha256, file.sha256 = bytes.fromhex(self.payload.original), self.entry.before_sha256
        self.seen_again(session, file.before_sha256, seen=False)
        self.record(session, file, size_before, None)


class DropPayload(Payload):
    """``derived_id``: the record that goes."""

    derived_id: int | None = None


class DropDerived(Change):
    """A copy or conversion of ours goes, unless its bytes are no longer ours; in any case it is forgotten."""

    action: ClassVar[str] = "drop-copy"
    Payload = DropPayload
    payload: DropPayload

    def perform(self) -> None:
        """Raises StorageError."""
        if self.settle() is Settled.OPEN:
            raise StorageError("gone", f"the folder of {self.entry.path} is not there")

    def settle(self) -> Settled:
        entry = self.entry
        here, out = self.look()
        if here == out == entry.before_sha256:  # killed between the two halves of a renaming
            self.store.discard(entry.staged)
            out = None
        if out is None and here == entry.before_sha256:
            if not self.store.withdraw(entry.path, entry.staged):
                raise StorageError(
                    "name-taken", f"{entry.staged} is taken, so {entry.path} was left in place"
                )
            passed(Step.EXCHANGED)
        elif here is None and out is None and not self.in_its_folder():
            return Settled.OPEN
        writers, out = self.writers(), self.store.sha256(entry.staged)
        if out is not None and (writers is Writers.SOME or out != entry.before_sha256):
            self.give_back(out)
            out = None
        if out is None and self.store.taken(entry.path):
            self.payload.note = {"left": "changed by somebody else"}
        return self.complete(grace=writers is Writers.UNKNOWN and out is not None)

    def finish(self, session: Session) -> None:
        derived = session.get(Derived, self.payload.derived_id)
        file = session.get(File, self.entry.file_id)
        self.record(session, file, derived.size if derived else None, None)
        if derived is not None:
            session.delete(derived)


class DropSized(DropDerived):
    """A file that was made for a size of the library goes, unless its bytes are no longer ours."""

    action: ClassVar[str] = "drop-size"

    def finish(self, session: Session) -> None:
        file = self.file(session)
        self.record(session, file, file.size_now, None)
        file.state, file.sha256, file.recipe = FileState.GONE, None, None


class DiscardPayload(Payload):
    """``of``: the change that put the file aside."""

    of: str = ""


class Discard(Change):
    """What a change put aside goes, when its time has come and nobody wrote to it meanwhile."""

    action: ClassVar[str] = "discard"
    Payload = DiscardPayload
    payload: DiscardPayload

    def settle(self) -> Settled:
        if not self._due():
            return Settled.OPEN
        out = self.store.sha256(self.entry.staged)
        if out is None and not self.in_its_folder() and not self._due(days=1):
            return Settled.OPEN  # the folder was moved, or is away
        writers = self.writers()
        if writers is Writers.SOME:
            return Settled.OPEN
        if out not in (None, self.entry.before_sha256, self.entry.after_sha256):
            self._their_bytes_win(out)
            with self.keeper.database.begin() as session:
                self.finish(session)
        else:
            self.discard_staged(self.entry.staged, ours=True)
        return self.undone()

    def _due(self, days: int = 0) -> bool:
        due = func.coalesce(Journal.due_at, func.now()) <= func.now() - timedelta(days=days)
        with self.keeper.database.begin() as session:
            return bool(session.scalar(select(due).where(Journal.id == self.entry.id)))

    def _their_bytes_win(self, out: bytes | None) -> None:
        """Somebody wrote to the file that they had open: it takes its name back from ours."""
        entry = self.entry
        here = self.store.sha256(entry.path)
        if here is None:
            self.give_back(out or NO_FILE)
            return
        if self._is_ours(here):
            self.store.swap(entry.path, entry.staged)
            if not self._is_ours(self.store.sha256(entry.staged)):
                self.store.swap(entry.path, entry.staged)
        self.discard_staged(entry.staged, ours=self._is_ours(self.store.sha256(entry.staged)))

    def _is_ours(self, content: bytes | None) -> bool:
        if content in (self.entry.before_sha256, self.entry.after_sha256):
            return True
        with self.keeper.database.begin() as session:
            query = select(Result.id).where(
                Result.library_id == self.entry.library_id, Result.sha256 == content
            )
            return session.scalar(query) is not None

    def finish(self, session: Session) -> None:
        session.add(
            Ledger(
                library_id=self.entry.library_id,
                file_id=self.entry.file_id,
                action="given-way",
                path=self.entry.path,
                detail={"because": "somebody wrote to the file that they had open"},
            )
        )
