"""Pages of the site: what they weigh in a real browser, what a recipe would make of them, what to do."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated, Self

from pydantic import AfterValidator, Field, StringConstraints, field_validator, model_validator

from .common import Answer, Flag, Level, Message, Number, Whole
from .delivery import Address, HeaderName
from .recipes import RecipeSettings

MOST_ADDRESSES = 50


class Device(StrEnum):
    DESKTOP = "desktop"
    PHONE = "phone"


class Line(StrEnum):
    """What the visitor's connection is like."""

    OPEN = "open"
    HOME = "home"
    MOBILE = "mobile"
    WEAK = "weak"


class Processor(StrEnum):
    """How slow the visitor's device is, against the machine that weighs."""

    QUICK = "quick"
    MIDDLING = "middling"
    SLOW = "slow"


class WeighingKind(StrEnum):
    """``real``: in a browser, as the site is; ``predicted``: in a browser, with a recipe's results in the
    pictures' place; ``plain``: from the markup alone."""

    REAL = "real"
    PREDICTED = "predicted"
    PLAIN = "plain"


class WeighingOrigin(StrEnum):
    """Who asked for a weighing."""

    PERSON = "person"
    SCHEDULE = "schedule"
    RUN = "run"


def _cookie_or_path(value: str) -> str:
    if value.startswith("//") or (not value.startswith("/") and "://" not in value):
        raise ValueError("write an address (https://…), or a path on the site (/visit)")
    return value


PageAddress = Annotated[
    str,
    StringConstraints(min_length=1, max_length=2_000, pattern=r"^(https?://|/)[^\s\x00-\x1f]*$"),
    AfterValidator(_cookie_or_path),
]


class WhatIf(Message):
    """Weigh the page with its pictures as a recipe would make them. Nothing is written."""

    level: Level | None = Field(None, description="Instead of the recipe's own.")
    settings: RecipeSettings | None = Field(None, description="Instead of the recipe in use.")
    fit: Flag = Field(False, description="Each picture in the size that its place needs.")
    markup: Flag = Field(True, description="With the markup that serving would write.")


class Budget(Message):
    """The most that a page may weigh and take, on any device. Bytes, seconds; CLS has no unit."""

    bytes: Whole | None = Field(None, ge=0, le=10**12)
    pictures: Whole | None = Field(None, ge=0, le=10**12, description="Bytes of pictures.")
    requests: Whole | None = Field(None, ge=0, le=10**6)
    fcp: Number | None = Field(None, ge=0, le=3_600)
    lcp: Number | None = Field(None, ge=0, le=3_600)
    cls: Number | None = Field(None, ge=0, le=1_000)
    load: Number | None = Field(None, ge=0, le=3_600)


class HeaderLine(Message):
    name: HeaderName
    value: Annotated[str, StringConstraints(max_length=4_000, pattern=r"^[^\x00-\x1f\x7f]*$")]


class Secrets(Message):
    """What a page asks for before it shows itself. Kept sealed; never shown again, never logged. Sent to the
    page's own host alone."""

    cookies: list[HeaderLine] = Field(default_factory=list, max_length=50)
    headers: list[HeaderLine] = Field(default_factory=list, max_length=50)


class WeighRequest(Message):
    """Which pages to weigh, and how."""

    addresses: list[PageAddress] = Field(default_factory=list, max_length=MOST_ADDRESSES)
    sitemap: Address | None = Field(None, description="A sitemap, or a plain list, of pages of one site.")
    devices: list[Device] = Field(
        default_factory=lambda: [Device.DESKTOP, Device.PHONE], min_length=1, max_length=2
    )
    line: Line | None = Field(None, description="Instead of the device's usual one.")
    processor: Processor | None = Field(None, description="Instead of the device's usual one.")
    passes: Whole = Field(3, ge=1, le=10, description="So often each; medians are told.")
    plain: Flag = Field(False, description="Without a browser, from the markup alone.")
    what_if: list[WhatIf] = Field(default_factory=list, max_length=4)
    budget: Budget | None = Field(None, description="For this once; else the page's own counts.")

    @field_validator("devices")
    @classmethod
    def _each_once(cls, devices: list[Device]) -> list[Device]:
        return list(dict.fromkeys(devices))

    @model_validator(mode="after")
    def _names_a_page(self) -> Self:
        if not self.addresses and self.sitemap is None:
            raise ValueError("name a page, or a sitemap")
        if self.plain and self.what_if:
            raise ValueError("what a recipe would do is shown in a browser, not from the markup alone")
        return self


class WeighReport(Answer):
    """How far a weighing of one or more pages is."""

    pages: int = 0
    weighed: int = 0
    at: str = Field("", description="What is being weighed just now.")
    weighings: list[int] = Field(default_factory=list)
    notes: list[str] = Field(default_factory=list, description="Left out, and why.")


class Spread(Answer):
    """Of several passes the median, the least and the most."""

    median: float
    low: float
    high: float


class KindWeight(Answer):
    """``pictures``, ``scripts``, ``styles``, ``fonts``, ``page``, ``media``, ``data``, ``other``."""

    name: str
    requests: int
    bytes: int


class Box(Answer):
    """A place on the page in CSS pixels, from its top left corner."""

    left: float
    top: float
    width: float
    height: float


class SeenQuality(Answer):
    """A picture's score as it is seen: what was served against its original, both at the shown size and
    density. The worst place is in parts of width and height, 0 to 1."""

    score: float
    worst: float
    left: float
    top: float


class PageWords(Answer):
    """What a page says of a picture and near it. ``alternative``: null where the ``<img>`` has no such
    attribute; ``language``: of that part of the page, as it states it."""

    alternative: str | None = None
    heading: str = ""
    caption: str = ""
    link: str = ""
    language: str = ""


class PagePicture(Answer):
    """One picture in its place. Sizes are in pixels of the file (``natural``), in CSS pixels (``box``), and
    in those of the device that the place has (``needed``). ``path`` and the ids are those of the library's
    file, if it is one of its pictures."""

    number: int
    address: str
    how: str = Field(description="img, picture, background, poster, input or svg.")
    format: str
    bytes: int
    natural_width: int
    natural_height: int
    needed_width: int
    needed_height: int
    box: Box
    first_view: bool
    lazy: bool
    stated: bool = Field(description="Whether the page states its size before it has come.")
    preloaded: bool = False
    largest_paint: bool = False
    library: str | None = None
    path: str | None = None
    file_id: int | None = None
    picture_id: int | None = None
    form: str | None = Field(None, description="Which form of the file was served: file, copy, conversion.")
    untreated: bool = False
    seen: SeenQuality | None = None
    said: PageWords | None = Field(None, description="Of an <img>; null for others.")

    @property
    def excess(self) -> float:
        """How many times more pixels it has than its place."""
        needed = self.needed_width * self.needed_height
        return self.natural_width * self.natural_height / needed if needed else 0.0


class Shot(Answer):
    """A picture of the page; ``scale`` is its pixels for one CSS pixel."""

    id: int
    part: str
    width: int
    height: int
    scale: float


class Reading(Answer):
    """What a page weighs and takes on one device. Times are in seconds; bytes are of the whole page, as it
    was scrolled through; ``first_bytes`` until it was quiet before."""

    device: Device
    line: Line
    processor: Processor
    passes: int
    landed: str
    bytes: Spread
    first_bytes: Spread
    requests: Spread
    ttfb: Spread | None = None
    fcp: Spread | None = None
    lcp: Spread | None = None
    cls: Spread | None = None
    load: Spread | None = None
    largest_paint: str | None = None
    kinds: list[KindWeight]
    pictures: list[PagePicture]
    width: int
    height: int
    shots: list[Shot] = Field(default_factory=list)
    notes: list[str] = Field(default_factory=list)

    def of_kind(self, name: str) -> int:
        return next((kind.bytes for kind in self.kinds if kind.name == name), 0)


class PageFinding(Answer):
    """Something to win: ``bytes``, ``seconds``, or a ``jump`` less; ``action`` is what to do."""

    code: str
    device: Device
    pictures: list[int]
    text: str
    action: str
    bytes: int = 0
    seconds: float = 0.0
    jump: float = Field(0.0, description="How much less the page would jump (CLS).")


class Over(Answer):
    """A budget that is not kept."""

    device: Device
    name: str
    allowed: float
    found: float | None = Field(None, description="Null: it could not be measured.")


class Weighing(Answer):
    """One page, weighed once. A page that could not be weighed says why in ``fault``."""

    id: int
    library: str
    page_id: int
    address: str
    kind: WeighingKind
    what_if: WhatIf | None = None
    recipe_version: int | None = None
    origin: WeighingOrigin
    run_id: int | None = None
    by: str = ""
    at: datetime
    code: str | None = None
    fault: str | None = None
    readings: list[Reading] = Field(default_factory=list)
    findings: list[PageFinding] = Field(default_factory=list)
    notes: list[str] = Field(default_factory=list)
    budget: Budget | None = None
    over: list[Over] = Field(default_factory=list)

    def reading(self, device: Device) -> Reading | None:
        return next((reading for reading in self.readings if reading.device is device), None)


class Point(Answer):
    """A weighing in a page's history, on one device."""

    weighing_id: int
    at: datetime
    kind: WeighingKind
    device: Device
    bytes: int
    pictures: int
    requests: int
    lcp: float | None
    cls: float | None
    what_if: WhatIf | None = None
    run_id: int | None = None
    shot: int | None = Field(None, description="The picture of its first view, where there is one.")


class PageSettings(Message):
    """When a page is weighed by itself, and what it may weigh."""

    budget: Budget | None = None
    schedule: Annotated[str, StringConstraints(max_length=100)] | None = Field(
        None, description="Five fields as of cron, in the library's time zone."
    )
    after_runs: Flag = Field(False, description="Whenever a run over the library has finished, from now on.")
    secrets: Secrets | None = Field(None, description="Null: as they were. Empty: none.")


class SitePage(Answer):
    """A page that was weighed, or is to be. ``latest`` is its latest weighing for real, without pictures."""

    id: int
    library: str
    address: str
    budget: Budget | None = None
    schedule: str | None = None
    after_runs: bool = False
    has_secrets: bool = False
    next_at: datetime | None = None
    weighings: int = 0
    fault: str | None = None
    latest: list[Point] = Field(default_factory=list, description="One for each device.")
    first: list[Point] = Field(default_factory=list, description="The first there was, for each device.")
    predicted: list[Point] = Field(
        default_factory=list, description="What was predicted since the latest, for each device."
    )
    over: int = Field(0, description="How many budgets the latest weighing does not keep.")


class Needed(Answer):
    """A size that a place needs, noted for the sizes to come."""

    id: int
    path: str
    picture_id: int
    width: int
    height: int
    page: str
    at: datetime


class NeededRequest(Message):
    """The picture of a weighing, by its number on a device, whose place needs a size of its own."""

    device: Device
    number: Whole = Field(ge=1, le=100_000)


class TreatPage(Message):
    """Treat what a weighing found on its page: the pictures of the first view, or all."""

    everything: Flag = Field(False, description="Also what is below the first view.")
