"""People, their sign-in, keys for machines, and the service's own health."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from .common import Answer, Flag, Message


class Role(StrEnum):
    """What somebody may do: look; also treat and restore; also administer."""

    LOOK = "look"
    TREAT = "treat"
    ADMINISTER = "administer"


class SignIn(Message):
    email: str = Field(max_length=320)
    password: str = Field(max_length=1000)


class Person(Answer):
    """Who is asking; for a key, the key's name."""

    name: str
    email: str | None
    role: Role


class KeyRequest(Message):
    name: str = Field(min_length=1, max_length=120)
    role: Role = Role.TREAT


class Key(Answer):
    """A key for a machine. The key itself is shown only once, when it is made."""

    id: int
    name: str
    role: Role
    created_at: datetime
    last_used_at: datetime | None = None


class NewKey(Key):
    secret: str


class Health(Answer):
    """Whether the service can do its work."""

    version: str
    database: Flag
    workers: int = Field(description="Worker processes heard from in the last few seconds.")
