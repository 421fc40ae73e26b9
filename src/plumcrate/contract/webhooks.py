"""What a library tells to the outside, signed by the Standard Webhooks scheme."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from .common import Answer, Message
from .delivery import Address


class EventType(StrEnum):
    """What may be told."""

    FILES_CHANGED = "files.changed"
    DESCRIPTIONS_CHANGED = "descriptions.changed"
    ALLOWANCE_NEARLY_USED = "allowance.nearly-used"
    ALLOWANCE_USED = "allowance.used"
    REPORT_READY = "report.ready"
    TRIAL = "webhook.trial"


#: What is told unless it was chosen otherwise: all but what only a program wants to hear.
_FOR_PROGRAMS = (EventType.FILES_CHANGED, EventType.DESCRIPTIONS_CHANGED)
USUAL_EVENTS: list[EventType] = [event for event in EventType if event not in _FOR_PROGRAMS]


class WebhookSettings(Message):
    """Where it is told. Trials are always told."""

    address: Address | None = Field(None, description="None: nothing is told.")
    events: list[EventType] = Field(default_factory=USUAL_EVENTS.copy, max_length=len(EventType))


class SentMessage(Answer):
    """A message, and how it fared."""

    id: str
    type: EventType
    at: datetime
    sent_at: datetime | None
    next_at: datetime | None = Field(None, description="When it is tried again.")
    attempts: int
    said: str | None = Field(None, description="Why it was not taken, in plain words.")


class Webhook(Answer):
    """A library's webhook; its secret is told once, when it is made."""

    address: str | None
    events: list[EventType]
    has_secret: bool
    messages: list[SentMessage] = Field(description="The latest first.")


class WebhookSecret(Answer):
    """With what messages are signed; shown once."""

    secret: str
