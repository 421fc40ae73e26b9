"""A library's savings over some months, fit to be sent to who owns the site."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated

from pydantic import Field, StringConstraints

from .common import Answer, Flag, Message
from .delivery import Sent
from .savings import Slat

#: A month, such as 2026-11.
Month = Annotated[str, StringConstraints(pattern=r"^(19|20|21)\d\d-(0[1-9]|1[0-2])$")]
_Line = Annotated[str, StringConstraints(max_length=120, strip_whitespace=True)]


class ReportSettings(Message):
    """Whose report it is, and what happens to it by itself when a month is over."""

    client: _Line = Field("", description="The client's name. Without one, the library's name is used.")
    sender: _Line = Field("", description="Who sends it.")
    monthly: Flag = Field(False, description="Make a report of each past month, and keep it.")


class ReportPicture(Answer):
    """One picture that is shown. ``worst`` is what it would score were it like its worst place."""

    picture_id: int
    file_id: int
    path: str
    bytes_before: int
    bytes_now: int
    bytes_lightest: int
    worst: float | None


class PageWeight(Answer):
    """A page's first and latest weighing of the period's end, on one device."""

    address: str
    device: str
    first_at: datetime
    latest_at: datetime
    picture_bytes_first: int
    picture_bytes_latest: int
    lcp_first: float | None = Field(description="Largest contentful paint, in seconds.")
    lcp_latest: float | None


class KeptReport(Answer):
    """A report that was made by itself, and kept."""

    month: str
    made_at: datetime


class SavingsReport(Answer):
    """Savings of the files that were treated in some months and are as they were treated. Counts are of
    files, sizes in bytes; a file's lightest form is what a modern browser fetches."""

    library: str
    name: str
    client: str
    sender: str
    begins: str = Field(description="The first month.")
    ends: str = Field(description="The last month.")
    first_day: date
    last_day: date
    time_zone: str
    made_at: datetime
    pictures: int
    treated: Slat
    whole: Slat = Field(description="All files of the library, as they are now.")
    copies: int
    bytes_copies: int
    by_month: list[Slat]
    by_format: list[Slat]
    by_folder: list[Slat]
    sent: Sent = Field(description="What visitors were sent in these months.")
    sent_by_month: list[Sent]
    best: list[ReportPicture] = Field(description="The files that saved the most bytes.")
    worst: list[ReportPicture] = Field(description="The files with the lowest scores in one place.")
    pages: list[PageWeight]
    all_pictures: int = Field(0, description="Of the library, when the report was made.")
    described: int = Field(0, description="Those of them that are described, or decorative.")
