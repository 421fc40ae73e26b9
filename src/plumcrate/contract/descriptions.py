"""What pictures say to those who do not see them: alternative texts, titles, captions, credits."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from .common import Answer, Flag, Id, Message, Whole


def _as_written(tag: str) -> str:
    """RFC 5646, section 2.1.1: languages small, scripts with a capital, regions in capitals."""
    first, *rest = tag.lower().split("-")
    cases = {2: str.upper, 4: str.title}
    return "-".join([first, *(cases.get(len(part), str)(part) for part in rest)])


#: A language by its tag (RFC 5646): en, de-CH, zh-Hant.
Language = Annotated[
    str,
    StringConstraints(pattern=r"^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8}){0,4}$", max_length=35),
    AfterValidator(_as_written),
]


class TextField(StrEnum):
    """A text that a picture has in each language."""

    ALTERNATIVE = "alternative"
    TITLE = "title"
    CAPTION = "caption"
    CREDIT = "credit"


class DescriptionRule(StrEnum):
    """What may be wanting of an alternative text."""

    MISSING = "missing"
    DOUBLED = "doubled"
    FILE_NAME = "file-name"
    TOO_LONG = "too-long"
    OPENING = "opening"
    STUFFED = "stuffed"
    LANGUAGE = "language"


class TextSource(StrEnum):
    """Where a suggestion comes from."""

    IPTC_CAPTION = "iptc-caption"
    IPTC_HEADLINE = "iptc-headline"
    IPTC_TITLE = "iptc-title"
    IPTC_CREDIT = "iptc-credit"
    IPTC_PLACE = "iptc-place"
    EXIF_CAPTION = "exif-caption"
    XMP_ALTERNATIVE = "xmp-alternative"
    XMP_CAPTION = "xmp-caption"
    XMP_HEADLINE = "xmp-headline"
    XMP_TITLE = "xmp-title"
    XMP_CREDIT = "xmp-credit"
    XMP_PLACE = "xmp-place"
    PAGE_ALTERNATIVE = "page-alternative"
    PAGE_CAPTION = "page-caption"
    PAGE_HEADING = "page-heading"
    PAGE_LINK = "page-link"
    FILE_NAME = "file-name"


class Texts(Message):
    """The texts of one picture in one language. ``decorative``: it says nothing, and is passed over by those
    who do not see it; it then has no alternative text."""

    alternative: str = Field("", max_length=2_000)
    title: str = Field("", max_length=500)
    caption: str = Field("", max_length=5_000)
    credit: str = Field("", max_length=500)
    decorative: Flag = False

    @model_validator(mode="after")
    def _one_or_the_other(self) -> Self:
        if self.decorative and self.alternative.strip():
            raise ValueError("a decorative picture has no alternative text: empty it, or say it is not one")
        return self


class DescriptionSettings(Message):
    """How a library's pictures are described. The first language is the one that is translated from."""

    languages: list[Language] = Field(default_factory=lambda: ["en"], min_length=1, max_length=50)
    rules: list[DescriptionRule] = Field(
        default_factory=lambda: list(DescriptionRule), description="Rules that are switched on."
    )
    longest: Whole = Field(125, ge=20, le=2_000, description="Characters; a longer text is too long.")


class DescriptionFault(Answer):
    """What is wanting, and why that matters."""

    rule: DescriptionRule
    text: str


class Suggestion(Answer):
    """A text that somebody wrote elsewhere. ``where``: on which page it stands, where it is from one."""

    field: TextField
    text: str
    source: TextSource
    where: str = ""


class PageUse(Answer):
    """A weighed page that shows the picture. ``alternative``: what the page itself says; null where its
    ``<img>`` has no such attribute."""

    page_id: int
    address: str
    language: str
    alternative: str | None


class SearchTerm(Answer):
    """What people search for, and how often."""

    term: str
    count: int


class Description(Answer):
    """The texts of one picture in one language, and what is known beside them.

    ``version`` counts its changes; 0: nobody described it yet.
    """

    picture_id: int
    library: str
    path: str
    original_id: int
    bytes_now: int
    width: int
    height: int
    language: str
    alternative: str
    title: str
    caption: str
    credit: str
    decorative: Flag
    version: int
    by: str
    at: datetime | None
    faults: list[DescriptionFault]
    suggestions: list[Suggestion]
    uses: list[PageUse]
    terms: list[SearchTerm] = Field(description="Search terms that have a word in common with what is known.")


class DescriptionFilter(Message):
    """Pictures whose descriptions fit all that is given."""

    wanting: list[DescriptionRule] = Field(default_factory=list, description="Any of these.")
    folder: str | None = Field(None, max_length=2_000)
    search: str | None = Field(None, max_length=2_000, description="Any part of the path or of a text.")
    page_id: Id | None = Field(None, description="Shown on this weighed page.")
    used: Flag | None = Field(None, description="Shown on any weighed page, or on none.")


class PageDescriptions(Answer):
    """What a weighed page says of its pictures. ``without``: no ``alt`` attribute; ``known``: those of them
    that are described here; ``alike``: the page says of another picture the same."""

    page_id: int
    address: str
    pictures: int
    without: int
    known: int
    alike: int = 0


class DescriptionsSummary(Answer):
    """How far a library is described in one language. Counts are of pictures."""

    language: str
    pictures: int
    described: int
    decorative: int
    wanting: dict[DescriptionRule, int] = Field(description="Only of rules that are switched on.")
    pages: list[PageDescriptions]
    read: int = Field(description="Pictures whose own metadata was read for suggestions.")


class Accepting(Message):
    """Take the first suggestion there is, by the order of sources."""

    do: Literal["accept"]
    field: TextField = TextField.ALTERNATIVE
    sources: list[TextSource] = Field(min_length=1, max_length=len(TextSource))
    only_empty: Flag = True


class Replacing(Message):
    """Find a text and put another in its place, as it is written: no patterns."""

    do: Literal["replace"]
    field: TextField = TextField.ALTERNATIVE
    find: str = Field(min_length=1, max_length=500)
    replacement: str = Field("", max_length=500)
    match_case: Flag = False
    whole_words: Flag = False


class Filling(Message):
    """Fill in a pattern: {title}, {caption}, {credit}, {place}, {name}, {folder}, {n}."""

    do: Literal["fill"]
    field: TextField = TextField.ALTERNATIVE
    pattern: str = Field(min_length=1, max_length=500)
    only_empty: Flag = True


class Marking(Message):
    """Say that pictures are decorative, which empties their alternative texts, or that they are not."""

    do: Literal["mark"]
    decorative: Flag


BulkDeed = Annotated[Accepting | Replacing | Filling | Marking, Field(discriminator="do")]


class BulkRequest(Message):
    """One change to many descriptions: to these pictures, or to all that a filter finds."""

    language: Language
    pictures: list[Id] | None = Field(None, max_length=100_000)
    which: DescriptionFilter | None = None
    deed: BulkDeed
    preview: Flag = Field(True, description="Only tell what would change.")

    @model_validator(mode="after")
    def _one_kind(self) -> Self:
        if (self.pictures is None) == (self.which is None):
            raise ValueError("give pictures or which")
        return self


class ChangedText(Answer):
    """One text, before and after."""

    picture_id: int
    path: str
    field: TextField | Literal["decorative"]
    before: str
    after: str


class BulkResult(Answer):
    """What changed, or would. ``examples``: the first of them; ``change``: its number, to undo it."""

    changed: int
    unchanged: int
    examples: list[ChangedText]
    change: int | None = None


class DescriptionChange(Answer):
    """A change of one or many descriptions, by one person at one time."""

    id: int
    language: str
    what: str
    pictures: int
    by: str
    at: datetime
    undone_at: datetime | None


class Undone(Answer):
    """``kept``: descriptions that somebody changed again since; they stay as they are."""

    undone: int
    kept: int


class ImportFault(Answer):
    """A line, or a unit, that was not taken, and why."""

    line: int
    text: str


class ImportResult(Answer):
    """What an import changed, or would. ``faults``: the first of ``refused``."""

    rows: int = 0
    changed: int = 0
    unchanged: int = 0
    refused: int = 0
    faults: list[ImportFault] = Field(default_factory=list)
    examples: list[ChangedText] = Field(default_factory=list)
    notes: list[str] = Field(default_factory=list)
    changes: list[int] = Field(default_factory=list, description="To undo them: one for each language.")


class TermsTaken(Answer):
    """How many search terms are kept, and lines that were not taken."""

    terms: int
    refused: int = 0
    faults: list[ImportFault] = Field(default_factory=list)
