"""What rules are written from."""

from __future__ import annotations

from dataclasses import dataclass, field
from urllib.parse import quote, unquote, urlsplit

from plumcrate.imaging.formats import FORMATS


class UnfitName(Exception):
    """A folder or an address that cannot be written into a configuration; the text says which."""


@dataclass(frozen=True, slots=True)
class Moved:
    """A file that made way for its conversion, by paths in the library."""

    path: str
    to: str


@dataclass(frozen=True, slots=True)
class Ground:
    """``address``: where the site serves ``folder``; ``copies``: formats of copies, the lightest first;
    ``max_age`` in seconds."""

    name: str
    folder: str
    address: str
    copies: tuple[str, ...]
    max_age: int
    moved: tuple[Moved, ...] = field(default=())

    @property
    def prefix(self) -> str:
        """The path of the address, decoded, with slashes at both ends."""
        path = unquote(urlsplit(self.address).path).strip("/")
        return f"/{path}/" if path else "/"

    @property
    def root(self) -> str:
        """The folder with a slash at its end."""
        return self.folder.rstrip("/") + "/"

    @property
    def lasting(self) -> str:
        """What ``Cache-Control`` says."""
        return f"public, max-age={self.max_age}" if self.max_age else "public, no-cache"

    def address_of(self, path: str) -> str:
        """Where a file is on the site, ready for ``Location``."""
        return quote(self.prefix + path, safe="/-._~!&'()*+,;=:@")


def checked(text: str, what: str, odd: str = '"\\\n\r\t\0') -> str:
    """Text that can stand between double quotes. Raises :class:`UnfitName`."""
    if any(sign in odd or sign < " " for sign in text):
        raise UnfitName(f"{what} {text!r} cannot be written into a server's configuration")
    return text


def media_type(format: str) -> str:
    return FORMATS[format].media_type


def endings() -> list[str]:
    """Endings, without dots, of files that may have copies."""
    return [ending[1:] for format in FORMATS.values() if format.treated for ending in format.endings]


#: That a type is accepted, as a Perl-compatible expression over ``Accept``: it is named, and not with q=0.
def accepts(format: str) -> str:
    kind = media_type(format).replace("+", r"\+")
    return rf"(?:^|,)\s*{kind}\s*(?:;(?!\s*q\s*=\s*0(?:\.0*)?\s*(?:[;,]|$))[^,;]*)*(?:,|$)"
