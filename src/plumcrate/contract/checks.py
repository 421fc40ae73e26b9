"""Looking after what was made: checks of library and backups, pruning, forecasts, the machine."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Literal

from pydantic import Field

from .common import Flag, Message, Number, Whole


class JobState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    FINISHED = "finished"
    FAILED = "failed"
    STOPPED = "stopped"


class CheckRequest(Message):
    mend: Flag = Field(False, description="Also mend what can be mended without a choice.")


class Finding(Message):
    """One difference between disk and records."""

    what: str
    path: str
    detail: str
    mended: Flag = False


class Check(Message):
    """A comparison of every file, copy and backup with the records, byte for byte."""

    id: int
    library: str
    state: JobState
    reason: str | None = None
    mend: Flag
    files: int = Field(0, description="Treated files that were read and hashed.")
    copies: int = 0
    backups: int = 0
    differences: int = 0
    mended: int = 0
    findings: list[Finding] = Field(default_factory=list, description="The first 500.")
    created_at: datetime
    finished_at: datetime | None = None


class Backups(Message):
    """What a library's backup store holds."""

    backups: int
    bytes: int
    needed: int = Field(description="Backups that are the only original of a treated file.")
    bytes_needed: int
    orphaned: int = Field(
        0, description="Backups whose file was deleted, moved away or overwritten by somebody."
    )
    bytes_orphaned: int = 0
    oldest_at: datetime | None
    folder: str
    bytes_free: int | None = Field(description="Free on the disk of the store.")


class PruneRequest(Message):
    """Which backups to delete. ``confirm`` must be the library's short name."""

    older_than_days: Whole | None = Field(None, ge=0, le=36_500, description="Null: of any age.")
    orphans_too: Flag = Field(
        False, description="Also those whose file was deleted, moved away or overwritten by somebody."
    )
    needed_too: Flag = Field(
        False, description="Also the only original of a treated file, which can then never be restored."
    )
    confirm: str


class Pruned(Message):
    backups: int
    bytes: int
    needed: int = Field(description="How many of them were the only original of a treated file.")
    left: int = Field(description="Backups that stay: needed by a treated file, or orphaned.")


class Orphan(Message):
    """A backup whose file was deleted, moved away or overwritten. ``path`` is where the file was."""

    id: int
    path: str
    size: int
    created_at: datetime


class PutBackRequest(Message):
    """Where an orphaned backup is to be put, relative to the library; its former path when left out."""

    path: str | None = Field(None, max_length=2000)


class Recognised(Message):
    """What came of saying that a library's folder is the right one, as it is.

    ``closed``: changes that could not be settled and are given up; ``gone``: files of theirs that are not
    there. Originals of all of them stay among the backups.
    """

    marked: Flag
    closed: int
    gone: int


class RecogniseRequest(Message):
    """``confirm`` must be the library's short name."""

    confirm: str


class ForecastRequest(Message):
    seconds: Number = Field(60.0, gt=0, le=3600, description="How long to sample.")


class Range(Message):
    """An expectation and the interval that holds it nine times in ten."""

    low: int
    expected: int
    high: int


class Outlook(Message):
    """What was found from the sample. All sizes in bytes, over all files the recipe would treat."""

    files: int
    bytes_before: int
    sampled_files: int
    sampled_bytes: int
    bytes_after: Range
    bytes_lightest: Range
    seconds: float
    actual_files: int = Field(0, description="Files treated with this recipe since.")
    actual_before: int = 0
    actual_after: int = 0
    actual_lightest: int = 0


class Forecast(Message):
    """What treating a library is expected to save. Nothing is written for it."""

    id: int
    library: str
    state: JobState
    reason: str | None = None
    recipe_version: int | None
    result: Outlook | None = None
    created_at: datetime
    finished_at: datetime | None = None


class Advice(Message):
    """One line of the check of the machine."""

    what: str
    verdict: Literal["fine", "mind", "broken"]
    detail: str
    todo: str = ""


class Machine(Message):
    """Whether everything is there; the worst line decides."""

    verdict: Literal["fine", "mind", "broken"]
    lines: list[Advice]
