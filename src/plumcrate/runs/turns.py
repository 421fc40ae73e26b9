"""The turns of a run's item: each a class that carries out one thing and returns a step.

::

    treat, an upload:   LightForm ── light form stands ──> Copies ──> ended
    treat, others:      Whole ──────────────────────────────────────> ended
    restore, hand back: Restoring ────────────────────────────────────> ended

:func:`turn_of` chooses by what is on record alone. An item that comes again, after a pause or because a
person retries it, is therefore taken up where it was: copies follow as long as the light form stands, else
the whole is done.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

from plumcrate.contract.runs import ItemState, RunKind
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.keeper import Keeper
from plumcrate.queue.tasks import NEW_UPLOAD, SINGLE_REQUEST
from plumcrate.records.tables import File, Item, Run
from plumcrate.sandbox.children import Sandbox, Sandboxes
from plumcrate.storage.errors import StorageError

from .steps import CopiesLater, Ended, Step
from .treating import ItemOutcome, Stage, TreatOrder, treat_file


class Turn(Protocol):
    """One thing to do with a file. ``take`` raises ImagingError, SandboxError or StorageError."""

    def take(self, keeper: Keeper, sandboxes: Sandboxes) -> Step: ...


@dataclass(frozen=True, slots=True)
class Whole:
    """Treats a file and writes what stands beside it."""

    file: File
    order: TreatOrder
    priority: int

    def take(self, keeper: Keeper, sandboxes: Sandboxes) -> Step:
        return Ended(treat_file(keeper, pool_for(sandboxes, self.priority), self.file, self.order))


@dataclass(frozen=True, slots=True)
class LightForm:
    """Makes only the file itself light, so that a new upload is served so at once."""

    file: File
    order: TreatOrder

    def take(self, keeper: Keeper, sandboxes: Sandboxes) -> Step:
        light = treat_file(keeper, sandboxes.person, self.file, self.order, Stage.LIGHT)
        return CopiesLater(light) if light.outputs else Ended(light)


@dataclass(frozen=True, slots=True)
class Copies:
    """Writes what stands beside a file whose light form stands; ``former``: the reports of that turn."""

    file: File
    order: TreatOrder
    priority: int
    former: tuple[dict[str, Any], ...]

    def take(self, keeper: Keeper, sandboxes: Sandboxes) -> Step:
        pool = pool_for(sandboxes, self.priority)
        return Ended(treat_file(keeper, pool, self.file, self.order, Stage.BESIDE, self.former))


@dataclass(frozen=True, slots=True)
class Restoring:
    """Puts the original back, and removes what we made."""

    file: File
    run: Run

    def take(self, keeper: Keeper, sandboxes: Sandboxes) -> Step:
        note, handing_back = ChangeNote(run_id=self.run.id), self.run.kind == RunKind.HAND_BACK
        if self.file.size_name is not None or keeper.purpose_of(self.file.sha256) == "size":
            keeper.drop_sized(self.file, note)
            return Ended(ItemOutcome(ItemState.DONE))
        try:
            keeper.restore(self.file, note, overwrite=self.run.overwrite, hold=not handing_back)
        except StorageError as error:
            if handing_back and error.code in ("no-backup", "gone"):
                keeper.drop_all_derived(self.file, note)
            raise
        return Ended(ItemOutcome(ItemState.DONE))


def turn_of(item: Item, run: Run, file: File, order: TreatOrder | None) -> Turn:
    """What is to be done next with an item's file; ``order`` is None for a run that restores."""
    if order is None:
        return Restoring(file, run)
    if item.stage:
        if light_form_stands(file, item):
            return Copies(file, order, run.priority, tuple(item.outputs))
        return Whole(file, order, run.priority)
    # Two turns need the backup: without one the copies must come from the same reading of the file.
    if run.priority >= NEW_UPLOAD and order.automation.backups and file.size_name is None:
        return LightForm(file, order)
    return Whole(file, order, run.priority)


def light_form_stands(file: File, item: Item) -> bool:
    """Whether what the first turn made of a file still stands: nobody restored it since."""
    light = any(one["role"] == "file" and one["verdict"] == "chosen" for one in item.outputs)
    return bool(item.outputs) and (file.sha256 is not None or not light)


def pool_for(sandboxes: Sandboxes, priority: int) -> Sandbox:
    """The children for a run's files, by who waits for it."""
    if priority >= NEW_UPLOAD:
        return sandboxes.arrivals
    return sandboxes.person if priority >= SINGLE_REQUEST else sandboxes.bulk
