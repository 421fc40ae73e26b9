"""How much of a library may be treated in a month."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from .common import Answer, Message, Whole


class AllowanceUnit(StrEnum):
    MEGAPIXELS = "megapixels"
    FILES = "files"


class AllowanceSettings(Message):
    """What one month allows. A file counts once in a month, however often it is treated."""

    unit: AllowanceUnit = AllowanceUnit.MEGAPIXELS
    amount: Whole | None = Field(None, ge=1, le=1_000_000_000, description="None: no limit.")


class AllowanceMonth(Answer):
    """What was used in a month."""

    month: str = Field(description="Such as 2026-11.")
    files: int
    megapixels: float


class Allowance(Answer):
    """A library's allowance, and what is left of it. Months are those of the library's time zone."""

    library: str
    unit: AllowanceUnit
    amount: int | None
    used: float = Field(description="In the allowance's unit, in this month.")
    left: float | None = Field(description="None where there is no limit.")
    month: str
    resets_at: datetime
    time_zone: str
    files_waiting: int = Field(description="Files of runs that wait for more allowance.")
    notice: str | None = Field(None, description="In plain words, once four fifths are used.")
    months: list[AllowanceMonth] = Field(description="The latest first, this one among them.")
