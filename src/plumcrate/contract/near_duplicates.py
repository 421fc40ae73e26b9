"""Near duplicates: groups of pictures that show the same, and pictures that are answered with another."""

from __future__ import annotations

from pydantic import Field

from .common import Answer, Flag, Id, Message


class ShownAlike(Answer):
    """How a picture shows what the largest of its group does."""

    identical: Flag = Field(False, description="Their originals are the same bytes.")
    scale: float = Field(description="Pixels of this one to one of the largest.")
    turn: float = Field(description="How far it is turned, in degrees clockwise.")
    part: float = Field(description="How much of the largest it shows, of its area, 0 to 1.")
    alike: float = Field(description="The correlation of both, small, up to 1.")


class NearDuplicate(Answer):
    """One picture of a group."""

    picture_id: int
    file_id: int | None = Field(description="Its original's file.")
    path: str
    format: str | None
    width: int
    height: int
    files: int
    bytes: int = Field(description="Of all its files, as they are now.")
    largest: Flag = False
    shows: ShownAlike | None = Field(
        None, description="Null for the largest, and for one that resembles only others of the group."
    )
    pages: list[str] = Field(default_factory=list, description="Weighed pages that show it; the first five.")
    redirect: int | None = Field(None, description="The picture that it is answered with.")


class NearDuplicateGroup(Answer):
    """Pictures that show the same, the largest first."""

    id: int
    pictures: list[NearDuplicate]
    bytes: int
    spare: int = Field(description="Bytes of all of them but the largest.")
    pages: list[str] = Field(
        default_factory=list,
        description="Weighed pages that show several of them, and would load one; the first five.",
    )


class NearDuplicates(Answer):
    """Groups, those with most bytes to spare first."""

    rows: list[NearDuplicateGroup]
    total: int = Field(description="Groups in all.")
    pictures: int = Field(description="Pictures in them.")
    spare: int = Field(description="Bytes of all of them but the largest of each group.")
    cursor: str | None = None


class KeptApart(Message):
    """Whether a picture shows the same as no other, whatever is found."""

    apart: Flag


class RedirectTo(Message):
    """Which picture is answered instead."""

    picture_id: Id


class Redirected(Answer):
    """A picture that is answered with another."""

    picture_id: int
    to: int
    to_path: str
    by: str
