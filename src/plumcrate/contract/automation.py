"""How a library is kept light by itself: new files, schedules, hours, backups."""

from __future__ import annotations

import re
from datetime import datetime
from enum import StrEnum
from typing import Literal, Self
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import ConfigDict, Field, field_validator, model_validator

from .common import Answer, Flag, Message, Number, Whole
from .mapping import MappedRendition

_HOURS = re.compile(r"([01]\d|2[0-3]):[0-5]\d-([01]\d|2[0-4]):[0-5]\d\Z")


class NewFiles(StrEnum):
    """When a new or changed file is treated."""

    AT_ONCE = "at-once"
    BACKGROUND = "background"
    BY_HAND = "by-hand"


class Automation(Message):
    """What happens by itself. Schedules are five cron fields: minute, hour, day, month, weekday."""

    new_files: NewFiles = NewFiles.BY_HAND
    watch: Flag = Field(False, description="Notice new and changed files as they are written.")
    settle_seconds: Number = Field(
        2.0, ge=0.2, le=600, description="A file is taken in when it has not changed for so long."
    )
    survey_schedule: str | None = None
    run_schedule: str | None = None
    hours: list[str] = Field(
        default_factory=list,
        max_length=12,
        description="Hours in which bulk runs may work, such as 22:00-06:00; none given: always.",
    )
    time_zone: str = "UTC"
    share: Whole = Field(100, ge=10, le=100, description="Percent of the workers that bulk runs may use.")
    backups: Flag = Field(
        True, description="Without backups nothing that is not exact can be undone or made again."
    )
    keep_times: Flag = Field(False, description="Treated files keep the time of their last change.")
    keep_backups_days: Whole | None = Field(
        None, ge=1, le=36_500, description="Backups older than this are deleted, also those that are in use."
    )
    keep_orphans_days: Whole | None = Field(
        None,
        ge=1,
        le=36_500,
        description="Backups of files that were deleted or overwritten are deleted after so many days.",
    )
    backups_limit: Whole | None = Field(
        None, ge=1, description="Bytes. Treating stops, and says why, when the store has this size."
    )

    @field_validator("hours")
    @classmethod
    def _are_hours(cls, hours: list[str]) -> list[str]:
        for span in hours:
            if not _HOURS.match(span):
                raise ValueError(f"{span!r} are no hours: give begin and end, such as 22:00-06:00")
        return hours

    @model_validator(mode="after")
    def _zone_is_known(self) -> Self:
        try:
            ZoneInfo(self.time_zone)
        except (ValueError, OSError, ZoneInfoNotFoundError):
            raise ValueError(f"{self.time_zone!r} is no time zone: give one such as Europe/London") from None
        return self


class HookSecret(Answer):
    """The secret with which a site signs its webhooks; shown once."""

    url: str
    secret: str


class HookData(Message):
    model_config = ConfigDict(extra="ignore")

    paths: list[str] = Field(max_length=10_000, description="Relative to the library's folder.")
    renditions: list[MappedRendition] = Field(
        default_factory=list, max_length=1_000, description="Which of them were made of which file."
    )
    whole: Flag = Field(
        False, description="They are written to their end, or deleted: they are looked at without settling."
    )


class HookEvent(Message):
    """What a site tells: that files at some paths are new, changed or deleted."""

    model_config = ConfigDict(extra="ignore")

    type: str
    data: HookData


class HookAnswer(Answer):
    taken: int
    repeated: Flag


class UploadProgress(Answer):
    """An upload in pieces: how many of its bytes have come, and what it became once all have."""

    id: str
    path: str
    length: int
    offset: int
    expires_at: datetime
    uploaded: Uploaded | None = None


class Uploaded(Answer):
    """What became of an upload so far. ``light``: the light file is in place, its copies follow."""

    path: str
    picture_id: int
    file_id: int
    run_id: int | None
    state: Literal["light", "waiting", "done", "failed", "not-treated"]
    reason: str | None = None
    size_before: int
    size_now: int
