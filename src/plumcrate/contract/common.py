"""What every noun shares: levels, pages of results, problems (RFC 9457)."""

from __future__ import annotations

from enum import StrEnum
from typing import Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field

T = TypeVar("T")


class Message(BaseModel):
    """Base of all models. Unknown fields in a request are an error, so that a typo is noticed."""

    model_config = ConfigDict(
        extra="forbid", from_attributes=True, json_schema_serialization_defaults_required=True
    )


class Level(StrEnum):
    """How much a picture may change: pixel for pixel (exact) to strong (lean)."""

    EXACT = "exact"
    GALLERY = "gallery"
    EVERYDAY = "everyday"
    LEAN = "lean"


class Page(Message, Generic[T]):
    """One page of a list. ``total`` counts all that match; ``next`` fetches the following page."""

    rows: list[T]
    total: int
    next: int | None = Field(None, description="The offset of the following page; null on the last.")


class Problem(BaseModel):
    """RFC 9457 problem details. ``type`` is stable; ``detail`` says what to do."""

    model_config = ConfigDict(extra="allow")

    type: str
    title: str
    status: int
    detail: str = ""
