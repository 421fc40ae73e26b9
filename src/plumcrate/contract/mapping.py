"""What a site says of its renditions: which file was made of which. Sent as JSON lines."""

from __future__ import annotations

from pydantic import Field

from .common import Answer, Flag, Message


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


class ProposedRendition(Answer):
    """A file and the larger one that shows the same; a number is null when its file has gone since."""

    path: str
    original: str
    file_id: int | None = None
    original_id: int | None = None


class FolderProposal(Answer):
    """Files of one folder that show the same as a larger file, and seem to be made of it.

    ``others``: files there that count as originals and resemble none."""

    folder: str
    renditions: int = 0
    others: int = 0
    examples: list[ProposedRendition] = Field(default_factory=list, description="The first six.")


class ProposalAnswer(Message):
    """What a person says of a folder's proposals: all of them are renditions, or none is."""

    folder: str = Field(max_length=4_000)
    accept: Flag
