"""Runs and their items."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Self

from pydantic import Field, model_validator

from .common import Answer, Copies, CopyFormat, Flag, Id, Level, Message
from .pictures import PictureFilter


class RunKind(StrEnum):
    TREAT = "treat"
    RESTORE = "restore"
    HAND_BACK = "hand-back"


class RunOrigin(StrEnum):
    """Who asked for a run."""

    PERSON = "person"
    ARRIVAL = "arrival"
    SCHEDULE = "schedule"


class RunState(StrEnum):
    RUNNING = "running"
    PAUSED = "paused"
    STOPPED = "stopped"
    FINISHED = "finished"


#: A run that is over.
RUN_ENDS = (RunState.FINISHED, RunState.STOPPED)


class ItemSort(StrEnum):
    """The latest results first; or as they were put into the run, in which order none moves meanwhile."""

    LATEST = "latest"
    NUMBER = "number"


class ItemState(StrEnum):
    """One file of a run. ``passed`` means there was nothing to do, and the reason says why."""

    WAITING = "waiting"
    QUEUED = "queued"
    WORKING = "working"
    DONE = "done"
    PASSED = "passed"
    FAILED = "failed"


class Scope(Message):
    """Which files: all, single pictures, those of another run; of these, in a folder, untreated, or fitting a
    filter."""

    folder: str | None = Field(None, max_length=2000, description="With any of the others: within it.")
    pictures: list[Id] | None = Field(default=None, max_length=100_000)
    run: Id | None = Field(None, description="The files of this run.")
    failed_of: Id | None = Field(None, description="The files that failed in this run.")
    untreated: Flag = Field(False, description="Only files that no run has finished.")
    which: PictureFilter | None = Field(None, description="Only files of pictures that it finds.")

    @model_validator(mode="after")
    def _one_kind(self) -> Self:
        kinds = (self.pictures, self.run, self.failed_of)
        if sum(kind is not None for kind in kinds) > 1:
            raise ValueError("give one of pictures, run and failed_of")
        return self


class RunRequest(Message):
    """Something to do to many files. Level and copies default to the library's recipe."""

    library: str = Field(max_length=100)
    kind: RunKind = RunKind.TREAT
    level: Level | None = None
    copies: Copies | None = None
    scope: Scope = Field(default_factory=lambda: Scope())
    force: Flag = Field(False, description="Also files already treated with the same settings.")
    first: Flag = Field(False, description="Goes before everything that waits, even with many pictures.")
    overwrite: Flag = Field(
        False, description="Restoring: also files that somebody changed since; their version is backed up."
    )
    confirm: str | None = Field(None, description="Handing back: the library's short name.")


class Run(Answer):
    """A run and how far it is. Counts are of files."""

    id: int
    library: str
    kind: RunKind
    origin: RunOrigin
    state: RunState
    recipe_version: int | None = None
    level: Level | None
    copies: list[CopyFormat]
    scope: Scope
    waits_for: str | None = Field(None, description="Why the run makes no progress now.")
    held_back: str | None = Field(None, description="What slows the run down now, in plain words.")
    files: int
    done: int
    passed: int
    failed: int
    left: int
    already: int = Field(0, description="Files passed over: treated before with the same settings.")
    left_out: int = Field(0, description="Files that the recipe or a rule leaves alone.")
    elsewhere: int = Field(0, description="Files that another open run has still to do.")
    bytes_before: int = Field(description="Of the files done so far.")
    bytes_after: int
    bytes_lightest: int
    megapixels: float = 0.0
    megapixels_done: float = 0.0
    megapixels_per_second: float | None = Field(None, description="Over the last minute of work.")
    seconds_left: float | None = Field(None, description="An estimate, by megapixels left.")
    in_hand: list[str] = Field(default_factory=list, description="Paths being worked on now.")
    proof: dict[str, int | str] | None = Field(
        None, description="Handing back: what was compared, byte for byte, at the end."
    )
    created_at: datetime
    finished_at: datetime | None = None


class OutputReport(Answer):
    """One output that was considered for a file, and why it was taken or not."""

    format: str
    role: str = "file"
    verdict: str
    reason: str
    size: int
    score: float | None
    how: str = ""
    worst: float | None = Field(None, description="The score of its worst place.")


class Item(Answer):
    """One file of a run and what became of it."""

    id: int
    run_id: int
    picture_id: int
    file_id: int
    path: str
    state: ItemState
    code: str | None = None
    reason: str | None = None
    bytes_before: int | None = None
    bytes_after: int | None = None
    bytes_lightest: int | None = None
    score: float | None = None
    seconds: float | None = None
    not_before: datetime | None = Field(None, description="When it is tried again by itself.")
    outputs: list[OutputReport] = Field(default_factory=list)
    finished_at: datetime | None = None
