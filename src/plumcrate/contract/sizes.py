"""Sizes: the named files of a library's own that are made of each picture for its places on pages."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated, Literal, Self

from pydantic import Field, StringConstraints, field_validator, model_validator

from .common import Answer, Copies, Flag, Level, Message, Number, Whole
from .recipes import Sharpening, When

#: The longest side of a file that is made.
LONGEST_SIDE = 16_384
#: So many sizes a library may have, and so many widths a ladder.
MOST_SIZES, MOST_RUNGS = 40, 24
DENSITIES = (1.0, 1.5, 2.0, 3.0)
USUAL_PATTERN = "{stem}-{name}-{width}{ext}"

SizeName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9](?:[a-z0-9-]{0,38}[a-z0-9])?$")]
Side = Annotated[Whole, Field(ge=0, le=LONGEST_SIDE)]


class Way(StrEnum):
    """How a picture comes to a size: fitted into it, filling it and cut, or stretched to it."""

    FIT = "fit"
    FILL = "fill"
    STRETCH = "stretch"


class Anchor(StrEnum):
    """Around what a picture is cut: a place, its own focal point, or what matters in it."""

    TOP_LEFT = "top-left"
    TOP = "top"
    TOP_RIGHT = "top-right"
    LEFT = "left"
    CENTRE = "centre"
    RIGHT = "right"
    BOTTOM_LEFT = "bottom-left"
    BOTTOM = "bottom"
    BOTTOM_RIGHT = "bottom-right"
    FOCUS = "focus"
    MATTERS = "matters"


class SizeSettings(Message):
    """A size. Nothing is made larger: pictures too small for it are passed over, or cut at their own size."""

    way: Way = Way.FIT
    width: Side = Field(0, description="Pixels; 0 for no limit.")
    height: Side = Field(0, description="Pixels; 0 for no limit.")
    densities: list[Number] = Field(
        default_factory=lambda: [1.0],
        description="Further pixel densities to make, for high-density screens.",
    )
    widths: list[Side] = Field(
        default_factory=list, max_length=MOST_RUNGS, description="A ladder of widths in place of one size."
    )
    anchor: Anchor = Anchor.FOCUS
    grey: Flag = False
    format: Literal["jpeg", "png", "webp", "avif"] | None = Field(None, description="Null: the picture's.")
    level: Level | None = Field(None, description="Null: the recipe's.")
    copies: Copies | None = Field(None, description="Null: the recipe's.")
    sharpening: Sharpening = Field(default_factory=lambda: Sharpening())
    pattern: str = Field(
        USUAL_PATTERN,
        max_length=200,
        description="The file's name: {stem} and {ext} of the picture's, {name}, {width}, {height}, {times}.",
    )
    when: When = Field(default_factory=lambda: When(), description="Which pictures.")

    @field_validator("densities")
    @classmethod
    def _known_densities(cls, values: list[float]) -> list[float]:
        if not values or set(values) - set(DENSITIES):
            raise ValueError("densities are some of 1, 1.5, 2 and 3")
        return sorted(set(values))

    @field_validator("widths")
    @classmethod
    def _rising(cls, values: list[int]) -> list[int]:
        if 0 in values:
            raise ValueError("a ladder has no width of 0")
        return sorted(set(values))

    @model_validator(mode="after")
    def _is_a_size(self) -> Self:
        if self.widths:
            if self.way is not Way.FIT or self.width or self.height or self.densities != [1.0]:
                raise ValueError("a ladder only has widths, into which pictures are fitted")
        elif self.way is Way.FIT:
            if not (self.width or self.height):
                raise ValueError("give a width, a height or both: a size of 0 by 0 is none")
        elif not (self.width and self.height):
            raise ValueError(f"to {self.way}, both width and height are needed")
        for density in self.densities:
            if max(self.width, self.height) * density > LONGEST_SIDE:
                raise ValueError(f"no file is made with more than {LONGEST_SIDE:,} pixels a side")
        if self.when.role is not None:
            raise ValueError("sizes are made of originals: a role makes no difference")
        return self


class SizeProposal(Message):
    """A size as it might be saved; null: as it would be removed."""

    settings: SizeSettings | None


class NamedSize(Answer):
    """A size of a library, with what was made for it."""

    library: str
    name: str
    settings: SizeSettings
    files: int = Field(0, description="Made and standing there.")
    bytes: int = 0
    bytes_lightest: int = Field(0, description="As browsers fetch them that know the copies.")
    waiting: int = Field(0, description="To be made, made again or removed by the next run.")
    by: str = ""
    created_at: datetime


class SizeEffect(Answer):
    """What sizes would do to a library at its next run, in files, before anything is done."""

    make: int
    remake: int = Field(description="Made otherwise before.")
    remove: int = Field(description="No longer wanted.")
    stay: int
    too_small: int = Field(description="Pictures that are no larger than the size: nothing is made of them.")
    of_the_site: int = Field(description="The site makes a file of that size itself; it is only treated.")
    removed_unused: int = Field(0, description="Nobody asked for it, so it is not made until somebody does.")
    taken: int = Field(description="The name belongs to another file, so nothing would be made.")
    taken_paths: list[str] = Field(default_factory=list, description="Some of them.")
    bytes: int | None = Field(None, description="About so much for what is made, from files that size here.")


class LadderRequest(Message):
    """A ladder of widths whose steps cost about the same in bytes."""

    least: Side = Field(320, ge=16)
    most: Side = Field(1920, ge=32)
    step: Whole = Field(25_000, ge=1_000, le=10_000_000, description="Bytes from one width to the next.")

    @model_validator(mode="after")
    def _goes_up(self) -> Self:
        if self.most <= self.least:
            raise ValueError("the widest must be wider than the narrowest")
        return self


class Ladder(Answer):
    """Widths, and what a file of each weighs here; ``files``: how many files that was measured on."""

    widths: list[int]
    bytes: list[int]
    files: int


class UnusedSize(Answer):
    """Files of a size that nothing asked for."""

    name: str
    files: int
    bytes: int
    young: int = Field(0, description="Of these files, made later than so many days ago: too early to tell.")
    asked_for: int = Field(description="Files of the size that something did ask for.")
    removed_unused: int = Field(
        0, description="Files that were removed, and are not made until somebody asks."
    )


class UnusedSizes(Answer):
    """What nobody asked for within the last ``days``. ``since``: from when on there are counts of what was
    asked for; null when there are none at all, and then nothing can be called unused."""

    since: datetime | None
    days: int
    sizes: list[UnusedSize]


class RemoveUnused(Message):
    """Which files to remove: those that stand there for so many days and that nobody asked for in them."""

    days: Whole = Field(30, ge=1, le=3650)
    size: SizeName | None = Field(None, description="Null: of every size.")


class BringingBack(Message):
    size: SizeName | None = Field(None, description="Null: of every size.")


class UnusedFiles(Answer):
    """Files that the next run removes, or makes again; ``bytes``: what they weigh, or weighed."""

    files: int
    bytes: int


class Cut(Answer):
    """What one file of a size shows of its picture, in parts of the picture's width and height."""

    name: str
    slot: str
    width: int
    height: int
    left: float
    top: float
    right: float
    bottom: float


class Cuts(Answer):
    """The focal point, set by hand or else found, and every size's cut."""

    x: float
    y: float
    by_hand: Flag
    cuts: list[Cut]


class Focus(Message):
    """The point that matters most, in parts of width and height from the left and the top."""

    x: Number = Field(ge=0, le=1)
    y: Number = Field(ge=0, le=1)


class FocusRequest(Message):
    focus: Focus | None = Field(description="Null: it is found again by itself.")
