"""What follows from a fault in an item's turn: another turn, or an end with a reason in plain words."""

from __future__ import annotations

from dataclasses import dataclass

import structlog

from plumcrate.contract.pictures import FileState
from plumcrate.contract.runs import ItemState
from plumcrate.imaging import ImagingError
from plumcrate.imaging.errors import LeftAlone, TooLarge
from plumcrate.records.tables import Item
from plumcrate.sandbox.children import SandboxError
from plumcrate.storage.errors import NotThere, StorageError

from .steps import Again, Ended, Step
from .treating import ItemOutcome, TooManyBytes

log = structlog.get_logger()

#: A library or the state folder that is away is waited for, in so many seconds, however often.
_AWAY_SECONDS = 15.0
#: What a full disk refused is tried again after so many seconds, as often as it takes.
ROOM_SECONDS = 10.0
#: Faults that pass by themselves: the turn comes again after a pause.
_TRANSIENT = frozenset(
    ("disk-error", "storage-error", "backup-missing", "backups-full", "in-use", "machine-busy", "change-open")
)
#: Faults that pass when somebody does something: the next run tries such a file again.
_PASSING = _TRANSIENT | {
    "no-permission",
    "read-only",
    "changed-outside",
    "stopped",
    "gone",
    "internal-error",
    "no-backup",
    "not-a-file",
    "symbolic-link",
    "folder-is-link",
    "child-died",
    "out-of-memory",
    "backup-damaged",
    "disk-full",
}


@dataclass(frozen=True, slots=True)
class MachineLimits:
    """What this machine takes, and the pauses before further tries, in seconds."""

    most_bytes: int
    most_pixels: int
    pauses: tuple[float, ...]


def after_fault(error: Exception, item: Item, limits: MachineLimits, *, treating: bool) -> Step:
    """What follows from an error of a turn; ``treating`` is false for a run that restores."""
    match error:
        case LeftAlone():
            # What is too large for this machine need not be for another, or tomorrow.
            beyond = {"bytes": limits.most_bytes} if isinstance(error, TooManyBytes) else None
            return Ended(
                ItemOutcome(ItemState.PASSED, FileState.LEFT_ALONE, error.code, str(error), beyond=beyond)
            )
        case ImagingError():
            beyond = {"pixels": limits.most_pixels} if isinstance(error, TooLarge) else None
            return Ended(
                ItemOutcome(ItemState.FAILED, FileState.UNREADABLE, error.code, str(error), beyond=beyond)
            )
        case NotThere():
            return Again(_AWAY_SECONDS, error.code, str(error))
        case SandboxError(code="other-version"):
            # Until somebody restarts the worker: nothing is wrong with any file.
            return Again(_AWAY_SECONDS, error.code, str(error))
        case SandboxError() | StorageError():
            return _after_refusal(error, item, limits, treating)
        case _:
            log.error("an item failed", item=item.id, exc_info=error)
            reason = f"an internal error ({type(error).__name__}); the worker's log says more"
            return Ended(
                ItemOutcome(ItemState.FAILED, FileState.FAILED, "internal-error", reason, settled=False)
            )


def _after_refusal(
    error: SandboxError | StorageError, item: Item, limits: MachineLimits, treating: bool
) -> Step:
    code, reason = error.code, str(error)
    if code == "stopped":
        return Again()
    if code == "disk-full":
        return Again(ROOM_SECONDS, code, reason)
    if code in _TRANSIENT and item.tries < len(limits.pauses):
        return Again(limits.pauses[item.tries], code, reason, counts=True)
    if code == "gone" and treating:
        # The site deleted it meanwhile: nothing failed, and the next look records it.
        return Ended(ItemOutcome(ItemState.PASSED, None, code, reason, settled=False))
    state = FileState.FAILED if treating else None
    return Ended(ItemOutcome(ItemState.FAILED, state, code, reason, settled=code not in _PASSING))
