"""How a library's files are served to visitors, and what pages say of them."""

from __future__ import annotations

import re
from enum import StrEnum
from typing import Annotated

from pydantic import Field, StringConstraints

from .common import Answer, Flag, Message, Whole

#: The address of a folder or a server.
Address = Annotated[str, StringConstraints(pattern=r"^https?://[^\s\x00-\x1f]+$", max_length=500)]
#: A pattern for paths: ``*`` stands for anything within a folder, ``**`` for folders too.
Pattern = Annotated[str, StringConstraints(min_length=1, max_length=300)]
_TOKEN = re.compile(r"^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")
HeaderName = Annotated[str, StringConstraints(pattern=_TOKEN, max_length=80)]


class Placeholder(StrEnum):
    """What stands where a picture will be, until it has come."""

    NONE = "none"
    COLOUR = "colour"
    PREVIEW = "preview"


class Markup(Message):
    """What is said of the library's pictures in the site's pages. Nothing is said twice: what a page says
    already, stays."""

    pictures: Flag = Field(True, description="Put <picture> around, with a <source> for each kind of copy.")
    sizes: Flag = Field(True, description="State the derived sizes there are (srcset, sizes).")
    dimensions: Flag = Field(True, description="State width and height, so that nothing jumps.")
    backgrounds: Flag = Field(True, description="Offer copies in style attributes (image-set).")
    lazy: Flag = Field(True, description="Load pictures when they come near (loading, decoding).")
    eager: Whole = Field(
        2, ge=0, le=100, description="So many pictures at the top of a page load at once; the first first."
    )
    eager_files: list[Pattern] = Field(
        default_factory=list, max_length=100, description="Patterns of files that load at once, wherever."
    )
    placeholder: Placeholder = Placeholder.NONE
    no_pages: list[Pattern] = Field(
        default_factory=list, max_length=100, description="Patterns of paths of pages that stay as they are."
    )
    no_classes: list[Pattern] = Field(
        default_factory=list, max_length=100, description="Classes of pictures that stay as they are."
    )
    no_files: list[Pattern] = Field(
        default_factory=list, max_length=100, description="Patterns of files that stay as they are."
    )
    no_endings: list[Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9]{1,10}$")]] = Field(
        default_factory=list, max_length=20, description="Endings of files that stay as they are: gif."
    )


class Caches(Message):
    """The caches between the site and its visitors, which are told when a picture changed."""

    purge: list[Address] = Field(
        default_factory=list, max_length=8, description="Caches that take PURGE requests for addresses."
    )
    tag_header: HeaderName | None = Field(
        None, description="The header in which answers carry tags, and in which PURGE names them."
    )


class Delivery(Message):
    """Settings of serving. Nothing is served before ``public`` says so."""

    public: Flag = Field(False, description="Whether anybody may fetch the library's pictures from here.")
    max_age: Whole = Field(
        3_600,
        ge=0,
        le=31_536_000,
        description="Seconds for which caches may show a picture without asking again.",
    )
    address: Address | None = Field(
        None, description="Where the site serves the library's folder, such as https://example.org/uploads."
    )
    base: Address | None = Field(
        None,
        description="Where pages fetch copies and derived sizes instead, such as a CDN's address.",
    )
    markup: Markup = Field(default_factory=Markup)
    caches: Caches = Field(default_factory=Caches)


class PageCopy(Answer):
    """A copy, or a file itself, as a page names it."""

    path: str
    media_type: str
    bytes: int


class PageFile(Answer):
    """What a page needs to know of one file: as it is shown, upright, in pixels. ``copies``: those that are
    lighter than the file, the lightest first. ``sizes``: the picture's other files of the same format and
    shape. ``colour`` is ``#rrggbb``; ``preview`` a ``data:`` address of less than 200 bytes."""

    path: str
    media_type: str
    bytes: int
    width: int
    height: int
    transparent: bool = False
    copies: list[PageCopy] = Field(default_factory=list)
    sizes: list[PageFile] = Field(default_factory=list)
    colour: str | None = None
    preview: str | None = None


class PageFiles(Message):
    """Asks for files by their paths in the library."""

    paths: list[Annotated[str, StringConstraints(max_length=4_096)]] = Field(max_length=1_000)
    placeholder: Placeholder = Placeholder.NONE
