"""Pictures, their files, copies and history."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any, Literal

from pydantic import Field

from .common import Flag, Level, Message


class FileRole(StrEnum):
    ORIGINAL = "original"
    RENDITION = "rendition"


class FileState(StrEnum):
    """Where a file stands."""

    NEW = "new"
    LIGHTER = "lighter"
    KEPT = "kept"
    LEFT_ALONE = "left-alone"
    UNREADABLE = "unreadable"
    FAILED = "failed"
    REMOVED = "removed"
    GONE = "gone"


class PictureSort(StrEnum):
    PATH = "path"
    SAVED = "saved"
    SIZE = "size"
    SCORE = "score"


class Copy(Message):
    """A WebP or AVIF beside a file."""

    kind: str
    path: str
    size: int
    score: float | None
    how: str


class File(Message):
    """One file of a picture: the original or a rendition."""

    id: int
    path: str
    role: FileRole
    state: FileState
    reason: str | None = None
    format: str | None = None
    width: int = 0
    height: int = 0
    size_before: int
    size_now: int
    score: float | None = Field(None, description="SSIMULACRA2 against the original bytes.")
    level: Level | None = None
    how: str | None = None
    treated_at: datetime | None = None
    has_backup: Flag = False
    held: Flag = Field(False, description="Put back by a person: not treated again by itself.")
    copies: list[Copy] = Field(default_factory=list)


class LedgerEntry(Message):
    """One change that was made to a file, or to a copy of it."""

    id: int
    at: datetime
    action: str
    path: str
    bytes_before: int | None
    bytes_after: int | None
    score: float | None
    run_id: int | None
    detail: dict[str, Any] = Field(default_factory=dict)


class Picture(Message):
    """One picture, counted once, with the sums over its files."""

    id: int
    library: str
    path: str
    name: str
    folder: str
    format: str | None
    width: int
    height: int
    state: FileState
    reason: str | None = None
    files: int
    bytes_before: int
    bytes_now: int
    bytes_lightest: int
    score: float | None = Field(None, description="The lowest score among its files.")
    original_id: int = Field(description="The file to show for the picture.")
    own: str | None = Field(None, description="A level of its own, or leave: left alone for ever.")


class OwnRequest(Message):
    """A level for one picture alone, or ``leave``; null follows the recipe again."""

    own: Literal["exact", "gallery", "everyday", "lean", "leave"] | None


class PictureDetail(Picture):
    all_files: list[File]
    history: list[LedgerEntry]
