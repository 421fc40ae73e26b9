"""How a library's files are served to visitors."""

from __future__ import annotations

from pydantic import Field

from .common import Flag, Message, Whole


class Delivery(Message):
    """Settings of serving. Nothing is served before ``public`` says so."""

    public: Flag = Field(False, description="Whether anybody may fetch the library's pictures from here.")
    max_age: Whole = Field(
        3_600,
        ge=0,
        le=31_536_000,
        description="Seconds for which caches may show a picture without asking again.",
    )
    address: str | None = Field(
        None,
        pattern=r"^https?://[^\s\x00-\x1f]+$",
        max_length=500,
        description="Where the site serves the library's folder, such as https://example.org/uploads.",
    )
