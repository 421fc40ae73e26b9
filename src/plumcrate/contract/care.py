"""Looking after what was made: backups, what lost its file, the machine."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from .common import Answer, Flag, Message


class Backups(Answer):
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


class Orphan(Answer):
    """A backup whose file was deleted, moved away or overwritten. ``path`` is where the file was."""

    id: int
    path: str
    size: int
    created_at: datetime


class PutBackRequest(Message):
    """Where an orphaned backup is to be put, relative to the library; its former path when left out."""

    path: str | None = Field(None, max_length=2000)


class Reattached(Answer):
    """What came of saying that a library's folder is the right one, as it is.

    ``closed``: changes that could not be settled and are given up; ``gone``: files of theirs that are not
    there. Originals of all of them stay among the backups.
    """

    identified: Flag
    closed: int
    gone: int


class ReattachRequest(Message):
    """``confirm`` must be the library's short name."""

    confirm: str


class Advice(Answer):
    """One line of the check of the machine."""

    what: str
    verdict: Literal["fine", "warning", "broken"]
    detail: str
    todo: str = ""


class Machine(Answer):
    """Whether everything is there; the worst line decides."""

    verdict: Literal["fine", "warning", "broken"]
    lines: list[Advice]
