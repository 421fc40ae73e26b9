"""What every noun shares: levels, pages of results, problems (RFC 9457)."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, Field, model_validator

T = TypeVar("T")
#: The control characters of ASCII but line feed and tabulator.
_ODD = frozenset(map(chr, (*range(9), *range(11, 32), 127)))

#: True or false, and nothing that could be taken for it.
Flag = Annotated[bool, Field(strict=True)]
#: Numbers as they are written in JSON: neither true nor "1" is one.
Whole = Annotated[int, Field(strict=True)]
Number = Annotated[float, Field(strict=True)]
#: A number that a record may have.
Id = Annotated[int, Field(strict=True, ge=1, le=2**63 - 1)]


class Message(BaseModel):
    """Base of all models. Unknown fields in a request are an error, so that a typo is noticed."""

    model_config = ConfigDict(
        extra="forbid", from_attributes=True, json_schema_serialization_defaults_required=True
    )

    @model_validator(mode="before")
    @classmethod
    def _text_is_text(cls, values: Any) -> Any:
        """No NUL, other control character or lone surrogate in any text, however deep."""
        if isinstance(values, dict):
            for name, value in values.items():
                _refuse_odd_text(name)
                _refuse_odd_text(value)
        return values


def _refuse_odd_text(value: Any) -> None:
    if isinstance(value, str):
        if any(sign in _ODD or "\ud800" <= sign <= "\udfff" for sign in value):
            raise ValueError("text holds a control character or is not valid Unicode")
    elif isinstance(value, dict):
        for name, below in value.items():
            _refuse_odd_text(name)
            _refuse_odd_text(below)
    elif isinstance(value, list | tuple):
        for below in value:
            _refuse_odd_text(below)


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
