"""Recipes: how a library's pictures are treated, with rules for those that are treated otherwise."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Literal, Self

from pydantic import Field, model_validator

from .common import Answer, Copies, CopyFormat, Flag, Level, Message, Number, Whole
from .pictures import FileRole


class Effort(StrEnum):
    """How long to look for the smallest file."""

    QUICK = "quick"
    NORMAL = "normal"
    THOROUGH = "thorough"


class MetadataKind(StrEnum):
    """What a file says about itself, by kind. What affects looks always stays."""

    RIGHTS = "rights"
    TIME = "time"
    PLACE = "place"
    CAMERA = "camera"
    REST = "rest"


class FirstFile(StrEnum):
    """What becomes of a file that was written in another format."""

    KEEP = "keep"
    REMOVE = "remove"


class Largest(Message):
    """The width and height that originals are fitted into, in pixels; 0 for no limit."""

    width: Whole = Field(0, ge=0, le=100_000)
    height: Whole = Field(0, ge=0, le=100_000)
    existing: Flag = Field(True, description="Also originals that were there before the first survey.")


class Sharpening(Message):
    """Unsharp masking after a picture was made smaller; amount 0 is off."""

    amount: Number = Field(0.0, ge=0, le=5)
    radius: Number = Field(0.6, ge=0.3, le=5)
    threshold: Whole = Field(2, ge=0, le=255)


class FixedQuality(Message):
    """An encoder quality instead of the level's promise; null leaves the promise in force."""

    jpeg: Whole | None = Field(None, ge=1, le=100)
    webp: Whole | None = Field(None, ge=1, le=100)
    avif: Whole | None = Field(None, ge=1, le=100)


class Conversions(Message):
    """Other formats for the file itself, where they are a good deal smaller, or are what browsers show."""

    photographs_to_jpeg: Flag = Field(False, description="Opaque photographic PNGs.")
    flat_to_png: Flag = Field(False, description="JPEGs of few colours.")
    gif_to_png: Flag = Field(False, description="GIFs that do not move.")
    for_the_web: Flag = Field(
        False,
        description="TIFF, HEIF and BMP: a JPEG or PNG beside them, upright and in sRGB, and its copies.",
    )
    first_file: FirstFile = Field(
        FirstFile.KEEP,
        description="Keep the first file under its name, or remove it: pages that refer to it must then "
        "be sent to the new name. Its backup stays.",
    )


class When(Message):
    """What a rule is about. All that is given must hold; null means any."""

    folder: str | None = Field(None, description="This folder and what is under it.")
    name: str | None = Field(None, min_length=1, description="A file name with * and ?, in any case.")
    formats: list[str] | None = Field(None, min_length=1)
    role: Literal["original", "rendition"] | None = None
    smaller_than: Whole | None = Field(None, ge=1, description="Bytes.")
    larger_than: Whole | None = Field(None, ge=0, description="Bytes.")
    longest_side_under: Whole | None = Field(None, ge=1, description="Pixels.")
    longest_side_over: Whole | None = Field(None, ge=0, description="Pixels.")
    transparent: Flag | None = None
    animated: Flag | None = None


class How(Message):
    """What a rule does otherwise than the recipe; null keeps the recipe's setting."""

    level: Level | None = None
    copies: Copies | None = None
    effort: Effort | None = None
    metadata: list[MetadataKind] | None = None


class Rule(Message):
    """The first rule that fits a file decides about it."""

    name: str = Field(min_length=1, max_length=120)
    when: When = Field(default_factory=lambda: When())
    leave: Flag = Field(False, description="Leave such files alone.")
    how: How = Field(default_factory=lambda: How())

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if not self.when.model_dump(exclude_none=True):
            raise ValueError(f"the rule {self.name!r} must say which files it is about")
        if self.leave == bool(self.how.model_dump(exclude_none=True)):
            raise ValueError(f"the rule {self.name!r} must either leave files alone or treat them otherwise")
        return self


class RecipeSettings(Message):
    """Everything that decides what a treated file looks like."""

    level: Level = Level.EVERYDAY
    copies: Copies = Field(default_factory=lambda: list(CopyFormat), description="Formats, beside each file.")
    keep_larger_copies: Flag = Field(False, description="Keep copies that are no smaller than the file.")
    save_data: Flag = Field(
        False,
        description="Make the copies of pictures that weighed pages show once more, at the level below, for "
        "visitors whose browser asks for less data.",
    )
    document_ppi: Whole = Field(
        0,
        ge=0,
        le=1200,
        description="Pixels to the inch that pictures within documents have at most where they are shown "
        "largest; 0 leaves their size. Not at the exact level.",
    )
    effort: Effort = Effort.NORMAL
    fixed_quality: FixedQuality = Field(default_factory=lambda: FixedQuality())
    metadata: list[MetadataKind] = Field(
        default_factory=lambda: [MetadataKind.RIGHTS],
        description="Metadata that files keep. Unless set otherwise, "
        "credits stay and everything else is removed.",
    )
    clear_hidden: Flag = Field(True, description="Clear the colour under full transparency.")
    originals: Flag = True
    renditions: Literal["all", "none", "chosen"] = "all"
    chosen_sizes: list[str] = Field(default_factory=list, description="Such as 300x200.")
    largest: Largest = Field(default_factory=lambda: Largest())
    sharpening: Sharpening = Field(default_factory=lambda: Sharpening())
    sharpen_all: Flag = Field(
        False, description="Also pictures that keep their size; not at the exact level, and never what moves."
    )
    conversions: Conversions = Field(default_factory=lambda: Conversions())
    rules: list[Rule] = Field(default_factory=list, max_length=100)

    @model_validator(mode="after")
    def _sizes_fit(self) -> Self:
        for size in self.chosen_sizes:
            width, cross, height = size.partition("x")
            if not (cross and width.isdigit() and height.isdigit()):
                raise ValueError(f"{size!r} is no size: give width and height, such as 300x200")
        return self


class Recipe(Answer):
    """One saved version of a library's recipe."""

    library: str
    version: int
    settings: RecipeSettings
    by: str
    created_at: datetime


class Effect(Answer):
    """What a recipe would do to a library, in files, before it does anything."""

    files: int
    new: int = Field(description="Files that were not treated yet and would be.")
    again: int = Field(
        description="Files treated with other settings. They would be treated again, from their backups."
    )
    settled: int = Field(description="Treated just so already.")
    left_out: int = Field(description="Left alone by a rule or by the recipe.")
    without_backup: int = Field(
        description="Files treated with other settings that have no backup. They stay as they are."
    )
    by_rule: dict[str, int] = Field(description="Files each rule decides about; the rest follow the recipe.")


class FilePlan(Answer):
    """What would happen to one file: the first half of a treatment."""

    path: str
    rule: str | None = Field(description="The rule that decides; null for the recipe itself.")
    verdict: Literal["treat", "again", "settled", "leave"]
    because: str
    level: Level | None
    copies: list[CopyFormat]
    largest: tuple[int, int] = (0, 0)
    metadata: list[MetadataKind] = Field(default_factory=list)
    effort: Effort | None = None


class TrialRequest(Message):
    """Which part of a picture to try settings on; ``x`` and ``y`` are its middle, 0 to 1."""

    settings: RecipeSettings | None = Field(None, description="Without them: the recipe in use.")
    level: Level | None = Field(None, description="This level, whatever the settings and rules say.")
    x: Number = Field(0.5, ge=0, le=1)
    y: Number = Field(0.5, ge=0, le=1)
    pixels: Whole = Field(160_000, ge=10_000, le=1_000_000, description="Of the part, at most.")


class TrialOutput(Answer):
    """One output that was considered for the part. ``data`` is its file in Base64, null where none was
    taken."""

    role: str
    format: str
    verdict: str
    reason: str
    size: int
    score: float | None
    worst: float | None = Field(None, description="The score of its worst place.")
    how: str
    data: str | None


class UploadTrial(Answer):
    """What would become of a file if it were uploaded; nothing was written. Sizes in bytes."""

    path: str
    taken: Flag = Field(description="A file has the name: an upload would be refused without `If-Match`.")
    role: FileRole = Field(description="Whether it is a picture, or by its name a rendition of another.")
    rule: str | None = Field(description="The rule that decides; null for the recipe itself.")
    because: str
    level: Level | None = Field(description="Null where the recipe leaves it alone.")
    format: str
    width: int
    height: int
    size: int
    outputs: list[TrialOutput] = Field(
        description="What its treatment would make. Their `data` is null; touch-ups, watermarks and sizes of "
        "the library come on top."
    )


class Trial(Answer):
    """What settings make of a part of a picture; nothing was changed. Sizes are of the part, in bytes."""

    level: Level
    because: str = Field(description="What decided about the picture.")
    format: str
    width: int
    height: int
    size: int
    data: str = Field(description="The part as it was, in Base64.")
    outputs: list[TrialOutput]
