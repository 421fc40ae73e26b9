"""What stands beside a file: what it is for, in which format, at which size, under which name."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from plumcrate.contract.pictures import Purpose


@dataclass(frozen=True, slots=True)
class Beside:
    """One derived file. ``width`` and ``height`` as shown; ``how`` it was made, in words; ``worst_place`` as
    records keep it.

    A copy has its file's name with the format behind it, a leaner one ``save-data`` between both; a
    conversion takes the ending's place.
    """

    purpose: Purpose
    format: str
    ending: str = ""
    width: int = 0
    height: int = 0
    how: str = ""
    worst_place: dict[str, Any] | None = field(default=None, hash=False)

    @property
    def key(self) -> tuple[str, str]:
        """A file has one of each."""
        return self.purpose, self.format

    def path(self, beside: str) -> str:
        """Its path beside a file."""
        if self.purpose is Purpose.COPY:
            return f"{beside}.{self.format}"
        if self.purpose is Purpose.SAVE_DATA:
            return f"{beside}.{self.purpose}.{self.format}"
        return str(PurePosixPath(beside).with_suffix(self.ending or f".{self.format}"))
