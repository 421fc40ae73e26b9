"""What rules are written from."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from urllib.parse import quote, unquote, urlsplit

from plumcrate.contract.pictures import Purpose
from plumcrate.imaging.formats import FORMATS

#: A longer name, in bytes, is left out of the rules: a server reads its configuration in pieces of 4 kB, and
#: a byte may need four characters there.
_LONGEST = 900
#: So many names that were left out are listed in the rules.
_LISTED = 20


class UnfitName(Exception):
    """A folder or an address that cannot be written into a configuration; the text says which."""


@dataclass(frozen=True, slots=True)
class Moved:
    """A file that made way for its conversion, by paths in the library; ``always``: one that stands where it
    was, and that a person has answered with another."""

    path: str
    to: str
    always: bool = False


@dataclass(frozen=True, slots=True)
class RulesContext:
    """``address``: where the site serves ``folder``; ``copies``: formats of copies, the lightest first;
    ``max_age`` in seconds; ``save_data``: whether there are copies for who asks for less data."""

    name: str
    folder: str
    address: str
    copies: tuple[str, ...]
    max_age: int
    moved: tuple[Moved, ...] = field(default=())
    save_data: bool = False

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

    @property
    def vary(self) -> str:
        """What ``Vary`` says: whatever stands between must know what answers depend on."""
        return "Accept, Save-Data" if self.save_data else "Accept"

    @property
    def sayable(self) -> list[Moved]:
        """Moved files whose names a configuration can hold."""
        return [moved for moved in self.moved if _sayable(moved.path) and _sayable(moved.to)]

    @property
    def left_out(self) -> str:
        """Comment lines about the moved files that are not in the rules; empty when all are."""
        odd = [moved.path for moved in self.moved if not (_sayable(moved.path) and _sayable(moved.to))]
        if not odd:
            return ""
        lines = [f"# Not redirected, because a configuration cannot hold the name ({len(odd):,} in all):"]
        lines += [f"#   {json.dumps(path)[:200]}" for path in odd[:_LISTED]]
        return "\n".join(lines) + "\n"

    def address_of(self, path: str) -> str:
        """Where a file is on the site, ready for ``Location``."""
        return quote(self.prefix + path, safe="/-._~!&'()*+,;=:@")


def _sayable(path: str) -> bool:
    return len(path.encode()) <= _LONGEST and not any(
        character < " " or character == "\x7f" for character in path
    )


def checked(text: str, what: str, odd: str = '"\\\n\r\t\0') -> str:
    """Text that can stand between double quotes. Raises :class:`UnfitName`."""
    if any(character in odd or character < " " for character in text):
        raise UnfitName(f"{what} {text!r} cannot be written into a server's configuration")
    return text


def literal(text: str) -> str:
    """A regular expression for just this text, in the language that PCRE and RE2 share; it can stand between
    double quotes in any configuration."""
    return "".join(_literal(character) for character in text)


def _literal(character: str) -> str:
    if character.isalnum() or character in "/_-~, " or character > "\x7f":
        return character
    return f"\\{character}" if character == "." else f"\\x{ord(character):02x}"


def media_type(format: str) -> str:
    return FORMATS[format].media_type


def endings() -> list[str]:
    """Endings, without dots, of files that may have copies."""
    pictures = [format for format in FORMATS.values() if format.treated and format.pixels]
    return [ending[1:] for format in pictures for ending in format.endings]


def picture() -> str:
    """A regular expression (PCRE, RE2) for paths of pictures within the library, no part of them hidden."""
    return rf"(?:[^/.][^/]*/)*[^/.][^/]*\.(?i:{'|'.join(endings())})"


def accepts(format: str) -> str:
    """That a type is accepted, as a Perl-compatible expression over ``Accept``: it is named, and not with
    q=0."""
    kind = media_type(format).replace("+", r"\+")
    return rf"(?:^|,)\s*{kind}\s*(?:;(?!\s*q\s*=\s*0(?:\.0*)?\s*(?:[;,]|$))[^,;]*)*(?:,|$)"


#: What ends the name of a copy for who asks for less data, before its format's ending.
LEANER = f".{Purpose.SAVE_DATA}"
#: That a request asks for less data, as a Perl-compatible expression over ``Save-Data``.
ASKS_FOR_LESS = r"(?:^|;)\s*on\s*(?:;|$)"


def copy(formats: Sequence[str]) -> str:
    """A regular expression for what is behind a picture's name in the name of a copy."""
    return rf"(?:\{LEANER})?\.(?:{'|'.join(formats) or 'avif'})"
