"""Libraries: what is connected, and its totals."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from .automation import Automation
from .common import Answer, Copies, CopyFormat, Flag, Level, Message
from .delivery import Delivery
from .jobs import Job
from .recipes import MetadataKind


class LibraryRequest(Message):
    """A folder tree to connect."""

    name: str = Field(min_length=1, max_length=120)
    root: str = Field(
        pattern=r"^/[^\x00-\x1f]*$",
        max_length=4000,
        description="Absolute path of the folder, as the service sees it.",
    )
    slug: str | None = Field(None, pattern=r"^[a-z0-9](?:[a-z0-9-]{0,60}[a-z0-9])?$")
    level: Level = Level.EVERYDAY
    copies: Copies = Field(default_factory=lambda: list(CopyFormat))
    metadata: list[MetadataKind] = Field(
        default_factory=lambda: [MetadataKind.RIGHTS],
        description="Metadata that files keep. Unless set otherwise, "
        "credits stay and everything else is removed.",
    )
    patterns: list[str] | None = Field(
        None,
        description="Name patterns of derived sizes, such as {stem}-{width}x{height}{ext}; "
        "null for the usual ones.",
    )


class LibraryChange(Message):
    """New settings; what is left out stays as it is. How pictures are treated is in the recipe."""

    name: str | None = Field(None, min_length=1, max_length=120)
    patterns: list[str] | None = None
    automation: Automation | None = None
    delivery: Delivery | None = None


class Library(Answer):
    """A connected folder tree, its settings and its totals."""

    warnings: list[str] = Field(default_factory=list, description="What an administrator must know.")
    slug: str
    name: str
    root: str
    recipe_version: int
    level: Level = Field(description="Of the recipe in use; its rules may say otherwise.")
    copy_formats: list[CopyFormat] = Field(description="Of the copies that the recipe wants.")
    patterns: list[str]
    automation: Automation
    delivery: Delivery = Field(default_factory=Delivery, description="How its files are served.")
    dormant: Flag = Field(False, description="Handed back: nothing is treated by itself until a person does.")
    created_at: datetime
    tag: str = Field("", description="Of the settings that can be changed: the library's `ETag`.")
    pictures: int = Field(0, description="Pictures: an original with its renditions counts once.")
    files: int = Field(0, description="Files of originals and renditions; our copies not counted.")
    files_new: int = Field(0, description="Files not yet treated.")
    files_treated: int = Field(
        0, description="Files that a run has finished: made lighter, or light already."
    )
    files_unreadable: int = 0
    files_failed: int = 0
    copies: int = 0
    bytes_before: int = Field(0, description="What the files weighed when first seen.")
    bytes_now: int = Field(0, description="What the same files weigh now.")
    bytes_lightest: int = Field(
        0, description="What a modern browser would fetch: the lightest of file and copies."
    )
    bytes_backups: int = 0
    last_survey: Job | None = None
