"""What a site says of its renditions: which file was made of which. Sent as JSON lines."""

from __future__ import annotations

from pydantic import Field

from .common import Answer, Message


class MappedRendition(Message):
    """One line: a rendition and its original, by their paths in the library. ``made_by``: how the site made
    it."""

    path: str = Field(min_length=1, max_length=4_000)
    original: str = Field(min_length=1, max_length=4_000)
    made_by: str = Field("", max_length=500)


class Mapping(Answer):
    """What is on record. ``found``: renditions that stand in the library with their original."""

    renditions: int = 0
    found: int = 0


class MappingTaken(Mapping):
    """What became of the lines that were sent."""

    taken: int = 0
    refused: int = 0
    faults: list[str] = Field(default_factory=list, description="The first twenty refused lines, and why.")
