"""Pictures, their files, copies and history."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any, Literal, Self

from pydantic import AliasChoices, Field, model_validator

from .common import Answer, Flag, Id, Level, Message


class Format(Answer):
    """One picture format: its names, and what is done with files of it."""

    name: str
    label: str
    media_type: str
    endings: list[str]
    treated: Flag
    shaped: Flag = Field(description="Files of it can be cut, made smaller and touched up.")
    copy_of_others: Flag = Field(validation_alias=AliasChoices("copy_of_others", "copy"))
    knob: Flag
    conversion: Flag
    shown: Flag


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
    WORST = "worst"
    #: As they were found. Whoever goes through all of them so meets each once, also one that moves meanwhile.
    FOUND = "found"


class WeightClass(StrEnum):
    """What all files of a picture weigh now, together."""

    UNDER_100_KB = "under-100kb"
    TO_500_KB = "100kb-500kb"
    TO_2_MB = "500kb-2mb"
    OVER_2_MB = "over-2mb"


class SavingClass(StrEnum):
    """How much lighter a picture's files became, in parts of what they weighed before."""

    NONE = "none"
    TO_25 = "to-25"
    TO_50 = "25-50"
    OVER_50 = "over-50"


class ScoreClass(StrEnum):
    """The lowest score among a picture's files (SSIMULACRA2); ``none``: nothing was changed with loss."""

    NONE = "none"
    UNDER_60 = "under-60"
    TO_70 = "60-70"
    TO_80 = "70-80"
    TO_90 = "80-90"
    OVER_90 = "over-90"


class Copied(StrEnum):
    """Whether a modern browser fetches anything lighter than the files themselves."""

    YES = "yes"
    NO = "no"


class OwnRule(StrEnum):
    """What is set for a picture alone: a level, or to leave it alone; ``none`` goes by the recipe."""

    NONE = "none"
    EXACT = "exact"
    GALLERY = "gallery"
    EVERYDAY = "everyday"
    LEAN = "lean"
    LEAVE = "leave"


class PictureFilter(Message):
    """Pictures that fit all that is given; of a list any value fits."""

    state: list[FileState] = Field(default_factory=list, description="Without one: all but those gone.")
    folder: str | None = Field(None, max_length=2000, description="In this folder and below it.")
    search: str | None = Field(None, max_length=2000, description="Any part of the path, in any case.")
    format: list[str] = Field(default_factory=list, max_length=50)
    weight: list[WeightClass] = Field(default_factory=list)
    saving: list[SavingClass] = Field(default_factory=list)
    score: list[ScoreClass] = Field(default_factory=list)
    copied: list[Copied] = Field(default_factory=list)
    rule: list[OwnRule] = Field(default_factory=list)


class FacetValue(Answer):
    """One value that a filter could choose, and what it would find beside the other choices."""

    name: str
    pictures: int
    bytes_now: int


class Facets(Answer):
    """What a filter finds, and what each further choice would find.

    The values of a facet are counted as if nothing were chosen of that facet. ``folder`` holds the folders
    directly below the one chosen.
    """

    pictures: int
    files: int
    bytes_before: int
    bytes_now: int
    bytes_lightest: int
    facets: dict[str, list[FacetValue]]


class WorstPlace(Answer):
    """The worst place of a result. ``score`` is what all would score were it like there.

    ``left`` and ``top`` are its middle, 0 to 1 of the upright picture; ``lost`` is a coarse map in rows of
    ``columns`` parts, each two hexadecimal digits: 100 less the score of the worst place in it.
    """

    score: float
    left: float
    top: float
    columns: int
    lost: str


class Purpose(StrEnum):
    """What a derived file is for: the same picture in a lighter format, in place of its file, or leaner for
    who asks for less data."""

    COPY = "copy"
    CONVERSION = "conversion"
    SAVE_DATA = "save-data"


class Derived(Answer):
    """Something that we made and that stands beside a file: a copy, or a conversion to another format.

    ``stands_in``: browsers that know the format fetch it in the file's place.
    """

    purpose: Purpose
    format: str
    width: int
    height: int
    stands_in: Flag
    path: str
    size: int
    score: float | None
    worst_place: WorstPlace | None = None
    how: str


class File(Answer):
    """One file of a picture: the original or a rendition."""

    id: int
    path: str
    role: FileRole
    state: FileState
    reason: str | None = None
    format: str | None = None
    width: int = 0
    height: int = 0
    shown_width: int | None = Field(
        None, description="Width of the current file, where it differs from the original's."
    )
    shown_height: int | None = None
    size_before: int
    size_now: int
    score: float | None = Field(None, description="SSIMULACRA2 against the original bytes.")
    worst_place: WorstPlace | None = None
    level: Level | None = None
    how: str | None = None
    treated_at: datetime | None = None
    has_backup: Flag = False
    held: Flag = Field(False, description="A person restored it, so it is not treated again automatically.")
    size_name: str | None = Field(
        None, description="The library's size that it was made for; null for others."
    )
    slot: str = Field("", description="Which density or width of its size.")
    original_version: str = Field(
        "",
        description="Of the file as it came. In quotes it is the `ETag` of these bytes, and as `If-Match` it "
        "lets an upload replace just them.",
    )
    derived: list[Derived] = Field(default_factory=list)


class LedgerEntry(Answer):
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


class Picture(Answer):
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
    worst: float | None = Field(None, description="The score of the worst place in any of its files.")
    original_id: int = Field(description="The file to show for the picture.")
    override: str | None = Field(
        None, description="A level for this picture alone, or leave: left alone for ever."
    )
    touched: Flag = Field(False, description="It has touch-ups.")


class OverrideRequest(Message):
    """A level for one picture alone, or ``leave``; null follows the recipe again."""

    override: Literal["exact", "gallery", "everyday", "lean", "leave"] | None


class OverridesRequest(OverrideRequest):
    """The same for many: for these pictures, or for all that a filter finds."""

    pictures: list[Id] | None = Field(None, max_length=100_000)
    which: PictureFilter | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> Self:
        if (self.pictures is None) == (self.which is None):
            raise ValueError("give pictures or which")
        return self


class Changed(Answer):
    """How many pictures were changed."""

    pictures: int


class PictureDetail(Picture):
    all_files: list[File]
    history: list[LedgerEntry]
