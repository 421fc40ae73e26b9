"""What every noun shares: levels, pages of results, problems (RFC 9457)."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import Annotated, Any, Generic, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

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


def build_models() -> None:
    """Builds every model's validator. They are built when first used, which keeps a client's import short; a
    service needs all of them, and building one before those that hold it is quickest."""
    waiting: list[type[BaseModel]] = [Message, Answer]
    while waiting:
        model = waiting.pop()
        waiting += model.__subclasses__()
        model.model_config["defer_build"] = False
        model.model_rebuild(force=not model.__pydantic_complete__)


class Answer(BaseModel):
    """Base of what the service answers. Fields that a reader does not know are passed over, so that a
    service may say more than its older clients understand."""

    model_config = ConfigDict(
        extra="ignore",
        from_attributes=True,
        json_schema_serialization_defaults_required=True,
        defer_build=True,
    )


class Message(BaseModel):
    """Base of what is sent to the service. Unknown fields are an error, so that a typo is noticed.

    Settings are sent and answered in the same words; a client reads them as tolerantly as an :class:`Answer`.
    """

    model_config = ConfigDict(
        extra="forbid",
        from_attributes=True,
        json_schema_serialization_defaults_required=True,
        defer_build=True,
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
        if any(character in _ODD or "\ud800" <= character <= "\udfff" for character in value):
            raise ValueError("text holds a control character or is not valid Unicode")
    elif isinstance(value, dict):
        for name, below in value.items():
            _refuse_odd_text(name)
            _refuse_odd_text(below)
    elif isinstance(value, list | tuple):
        for below in value:
            _refuse_odd_text(below)


class CopyFormat(StrEnum):
    """Formats of copies, the lightest last."""

    WEBP = "webp"
    AVIF = "avif"


def _as_set(formats: list[CopyFormat]) -> list[CopyFormat]:
    return [format for format in CopyFormat if format in formats]


#: A set of formats, in their usual order whatever the order given.
Copies = Annotated[list[CopyFormat], AfterValidator(_as_set)]


class Level(StrEnum):
    """How much a picture may change: pixel for pixel (exact) to strong (lean)."""

    EXACT = "exact"
    GALLERY = "gallery"
    EVERYDAY = "everyday"
    LEAN = "lean"


class Page(Answer, Generic[T]):
    """One page of a list: a sequence of its rows. ``total`` counts all that matched when the first page was
    asked for."""

    rows: list[T]
    total: int
    cursor: str | None = Field(
        None, description="Sent back as `after` it fetches the following page; null on the last."
    )

    def __iter__(self) -> Iterator[T]:  # type: ignore[override]
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def __getitem__(self, place: int) -> T:
        return self.rows[place]


class Problem(BaseModel):
    """RFC 9457 problem details. ``type`` is stable; ``detail`` says what to do."""

    model_config = ConfigDict(extra="allow")

    type: str
    title: str
    status: int
    detail: str = ""
    instance: str | None = Field(None, description="Of the request, which the service's log names too.")
