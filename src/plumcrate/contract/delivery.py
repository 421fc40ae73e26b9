"""How a library's files are served to visitors, and what pages say of them."""

from __future__ import annotations

import re
from datetime import date, datetime
from enum import StrEnum
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints

from .common import Answer, Flag, Message, Whole


def _with_a_host(address: str) -> str:
    try:
        parts = urlsplit(address)
        fit = bool(parts.hostname) and parts.port != 0
    except ValueError:
        fit = False
    if not fit:
        raise ValueError("the address names no host, or its port makes no sense")
    return address


#: The address of a folder or a server.
Address = Annotated[
    str,
    StringConstraints(pattern=r"^https?://[^\s\x00-\x1f]+$", max_length=500),
    AfterValidator(_with_a_host),
]
#: A pattern for paths: ``*`` stands for anything within a folder, ``**`` for folders too.
Pattern = Annotated[str, StringConstraints(min_length=1, max_length=300)]
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}\Z", re.ASCII)
#: RFC 9110, section 5.6.2.
_TOKEN = r"^[!#$%&'*+.^_`|~0-9A-Za-z-]+$"
HeaderName = Annotated[str, StringConstraints(pattern=_TOKEN, max_length=80)]


def _written(value: object) -> object:
    """A date is written as one: a number of days or seconds is none."""
    if not isinstance(value, date) and not (isinstance(value, str) and _DAY.match(value)):
        raise ValueError("a date is written as 2026-11-26")
    return value


class Placeholder(StrEnum):
    """What stands where a picture will be, until it has come."""

    NONE = "none"
    COLOUR = "colour"
    PREVIEW = "preview"


class WrittenTexts(StrEnum):
    """Which alternative texts are written into pages: none, those that a page lacks, or also over what its
    author wrote."""

    NONE = "none"
    MISSING = "missing"
    ALL = "all"


class Markup(Message):
    """What is said of the library's pictures in the site's pages. Nothing is said twice: what a page says
    already, stays."""

    rewrite: Flag = Field(True, description="Whether pages are rewritten at all.")
    elements: Flag = Field(
        False,
        description="Put <picture> around pictures, with a <source> for each kind of copy. "
        "Without it nothing is put around: the server, or this service, chooses the format by what "
        "the browser accepts.",
    )
    sizes: Flag = Field(
        True, description="Offer the derived sizes (srcset, sizes) where the page states width and height."
    )
    dimensions: Flag = Field(
        False,
        description="State width and height. The site's styles need img { height: auto } where they limit "
        "widths.",
    )
    backgrounds: Flag = Field(True, description="Offer copies in style attributes (image-set).")
    lazy: Flag = Field(
        True, description="Load pictures late (loading, decoding) where the page states width and height."
    )
    eager: Whole = Field(
        2,
        ge=0,
        le=100,
        description="How many pictures at the top of a page load at once. The first has priority.",
    )
    eager_files: list[Pattern] = Field(
        default_factory=list, max_length=100, description="Patterns of files that load at once, wherever."
    )
    placeholder: Placeholder = Placeholder.NONE
    alternatives: WrittenTexts = Field(
        WrittenTexts.MISSING, description="Alternative texts of the page's language, from the descriptions."
    )
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
    """What a page needs to know of one file: as it is shown, upright, in pixels.

    ``copies``: those that are lighter than the file, the lightest first; ``save_data``: leaner ones, for who
    asks for less data. ``sizes``: the picture's other files
    of the same format and shape, no wider than this one but for sizes of the library. ``colour`` is
    ``#rrggbb``; ``preview`` a ``data:`` address of less than 200 bytes."""

    path: str
    media_type: str
    bytes: int
    width: int
    height: int
    transparent: bool = False
    copies: list[PageCopy] = Field(default_factory=list)
    save_data: list[PageCopy] = Field(default_factory=list)
    sizes: list[PageFile] = Field(default_factory=list)
    colour: str | None = None
    preview: str | None = None
    alternatives: dict[str, str] = Field(
        default_factory=dict,
        description="Alternative texts by language, the library's first language first; empty where the "
        "picture is decorative.",
    )


class PageFault(Message):
    """A page that left as its author wrote it, because rewriting it failed."""

    page: Annotated[str, StringConstraints(max_length=2_000)] = Field(description="Its address or path.")
    reason: Annotated[str, StringConstraints(max_length=300)]
    times: Whole = Field(1, ge=1, le=10**9)


class PageFaults(Answer):
    """Such pages since the service started: how many answers in all, and the newest of them."""

    since: datetime
    times: int
    faults: list[PageFault]


class PageFiles(Message):
    """Asks for files by their paths in the library."""

    paths: list[Annotated[str, StringConstraints(max_length=4_096)]] = Field(max_length=1_000)
    placeholder: Placeholder = Placeholder.NONE
    faults: list[PageFault] = Field(
        default_factory=list, max_length=20, description="Faults in the site since its last request."
    )


class ServerKind(StrEnum):
    """Web servers for which rules are written."""

    NGINX = "nginx"
    APACHE = "apache"
    CADDY = "caddy"


class Browser(StrEnum):
    """Kinds of browsers, by what they show."""

    OLD = "old"
    WEBP = "webp"
    AVIF = "avif"


class AskRequest(Message):
    """What to ask for as each browser: one file by its path in the library, or all pictures of a page."""

    path: Annotated[str, StringConstraints(min_length=1, max_length=4_096)] | None = None
    page: Annotated[str, StringConstraints(min_length=1, max_length=2_000)] | None = Field(
        None, description="Where the page is on the site, such as /visit."
    )
    most: Whole = Field(20, ge=1, le=100, description="So many pictures of the page at most.")


class Got(Answer):
    """What one browser received. ``status`` is 0 where nothing answered; ``fault`` says what is wrong."""

    browser: Browser
    address: str
    status: int
    media_type: str = ""
    bytes: int = 0
    headers: dict[str, str] = Field(default_factory=dict)
    cache: str | None = Field(None, description="What caches said of it (RFC 9211), in plain words.")
    fault: str | None = None


class Asked(Answer):
    """One picture as three browsers received it. ``bytes`` is what the file weighs, ``lightest`` what a
    modern browser should fetch."""

    path: str
    file_id: int | None
    bytes: int
    lightest: int
    got: list[Got]


class AskReport(Answer):
    """``notes``: what was left out, and why."""

    rows: list[Asked]
    notes: list[str] = Field(default_factory=list)

    @property
    def right(self) -> bool:
        return all(got.fault is None for row in self.rows for got in row.got)


class Purges(Answer):
    """Addresses whose caches have yet to be told, and the last thing that went wrong."""

    waiting: int
    failing: int = 0
    said: str | None = None


class Count(Message):
    """Equal requests of one day: of one path, answered with as many bytes. ``bytes`` is of one answer; of
    parts of a file it is None, and ``total`` their sum."""

    day: Annotated[date, BeforeValidator(_written)]
    path: Annotated[str, StringConstraints(min_length=1, max_length=1_000)]
    requests: Whole = Field(ge=1, le=10**12)
    bytes: Whole | None = Field(ge=0, le=10**12)
    total: Whole = Field(ge=0, le=10**18)
    bot: Flag = False


class Counts(Message):
    """What one stretch of an access log says. Stretches of one log are counted once, in their order."""

    log: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$")]
    begin: Whole = Field(ge=0, le=2**62)
    end: Whole = Field(ge=0, le=2**62)
    counts: list[Count] = Field(max_length=10_000)


class LogPosition(Answer):
    """Up to which byte a log was counted."""

    log: str
    position: int


class Sent(Answer):
    """What was sent to visitors, and what the same requests would have weighed with the files as they first
    were."""

    name: str = ""
    requests: int = 0
    bytes: int = 0
    bytes_before: int = 0


class Traffic(Answer):
    """Sums over some days; bots are counted apart and are in no other sum."""

    days: int
    total: Sent
    bots: Sent
    by_day: list[Sent]
    by_format: list[Sent]
    by_picture: list[Sent] = Field(description="Those that saved most, by path.")
