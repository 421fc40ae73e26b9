"""What a library may use in a month, and what is told of it to the outside."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, new_id, now


class AllowanceUse(Base):
    """A file counts once in a month of its library's time zone: from when its picture is let through,
    ``counted`` once it was treated. What was let through and never treated is given back."""

    __tablename__ = "allowance_uses"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    month: Mapped[date] = mapped_column(primary_key=True)
    file_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    pixels: Mapped[int]
    counted: Mapped[bool] = mapped_column(default=False)
    at: Mapped[datetime] = now()

    __table_args__ = (
        Index("ix_allowance_uses_open", "library_id", "file_id", postgresql_where=text("NOT counted")),
    )


class AllowanceNotice(Base):
    """Somebody was told, once, that so much of an allowance is used: ``threshold`` names the share and what
    it is of."""

    __tablename__ = "allowance_notices"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    month: Mapped[date] = mapped_column(primary_key=True)
    threshold: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = now()


class Webhook(Base):
    """An address that a library tells what came to pass. ``refused_since``: the first refusal since it took
    something; ``stopped_at``: nothing is sent any more, but a trial."""

    __tablename__ = "webhooks"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    address: Mapped[str]
    events: Mapped[list[str]]
    secret: Mapped[bytes | None]  # sealed
    created_at: Mapped[datetime] = now()
    refused_since: Mapped[datetime | None]
    stopped_at: Mapped[datetime | None]


class OutgoingMessage(Base):
    """Something to be told to a webhook; ``sent_at`` once it was taken, ``given_up`` when it never will
    be."""

    __tablename__ = "outgoing_messages"

    id: Mapped[int] = new_id()
    webhook_id: Mapped[int] = mapped_column(ForeignKey("webhooks.id", ondelete="CASCADE"))
    message_id: Mapped[str]  # the message's own name, by which it is known again
    type: Mapped[str]
    data: Mapped[dict[str, Any]] = mapped_column(default=dict)
    attempts: Mapped[int] = mapped_column(default=0)
    created_at: Mapped[datetime] = now()
    due_at: Mapped[datetime] = now()
    sent_at: Mapped[datetime | None]
    given_up: Mapped[bool] = mapped_column(default=False)
    said: Mapped[str | None]
    trace: Mapped[str | None]  # the request that it comes from

    __table_args__ = (
        Index("ix_outgoing_messages_webhook_id_id", "webhook_id", "id"),
        UniqueConstraint("webhook_id", "message_id"),
        Index(
            "ix_outgoing_messages_due", "due_at", postgresql_where=text("sent_at IS NULL AND NOT given_up")
        ),
    )


class KeptReport(Base):
    """The report of a month that was over, as it was made."""

    __tablename__ = "kept_reports"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    month: Mapped[str] = mapped_column(primary_key=True)
    made_at: Mapped[datetime] = now()
    pdf: Mapped[bytes] = mapped_column(deferred=True)
    csv: Mapped[bytes] = mapped_column(deferred=True)
