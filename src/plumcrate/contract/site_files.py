"""What a site's own software asks of its files, by their paths."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from .common import Answer, Flag, Level, Message
from .pictures import FileRole, FileState
from .sizes import Focus


class SiteFilesRequest(Message):
    """Paths in the library."""

    paths: list[Annotated[str, StringConstraints(max_length=4_000)]] = Field(max_length=1_000)


class SizeFile(Answer):
    """A file that was made of a picture for a size of the library."""

    size_name: str
    slot: str
    path: str
    width: int
    height: int


class SiteFile(Answer):
    """A file on record. ``lightest`` is what a modern browser fetches, in bytes."""

    path: str
    picture_id: int
    file_id: int
    role: FileRole
    state: FileState
    size_before: int
    size_now: int
    lightest: int
    score: float | None
    level: Level | None
    has_original: Flag = Field(
        description="The bytes that the site wrote can be fetched as version before, and show the same as "
        "the file: it has no touch-up and no watermark."
    )
    focus: Focus | None = Field(description="Where its picture is cut around, when a person chose that.")
    sizes: list[SizeFile] = Field(description="Files of its picture for the library's sizes.")
    alternatives: dict[str, str] = Field(
        default_factory=dict,
        description="What its picture says by language, the library's languages in their order first; empty "
        "where it is decorative.",
    )
