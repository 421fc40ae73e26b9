"""Folders of the service's machine that may be connected."""

from __future__ import annotations

from pydantic import Field

from .common import Answer, Flag


class OfferedFolder(Answer):
    """A folder by its absolute path."""

    name: str
    path: str


class FolderView(Answer):
    """What is in a folder, looked at for a moment; without a path: the folders that are offered.

    ``refusal``: why it cannot be connected, in words; null where it can.
    """

    path: str | None
    parent: str | None = None
    folders: list[OfferedFolder] = Field(default_factory=list, description="The first 500, by name.")
    pictures: int = Field(0, description="Files below it that look like pictures by their names.")
    bytes: int = 0
    more: Flag = Field(False, description="There is more below it than could be counted in a moment.")
    examples: list[str] = Field(default_factory=list, description="Paths of up to six of the pictures.")
    guess: str | None = Field(None, description="What seems to have made these folders, and what that means.")
    refusal: str | None = None
