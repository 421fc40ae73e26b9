"""What caches have to be told, and what visitors were sent."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import BigInteger, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, new_id, now


class Purge(Base):
    """An address of which the caches have yet to be told. Rows come from triggers on files and derived
    files, whoever changes them; ``asked`` counts the changes, so that one that comes while caches are told is
    told too."""

    __tablename__ = "purges"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    path: Mapped[str]
    picture_id: Mapped[int | None]
    asked: Mapped[int] = mapped_column(default=1)
    attempts: Mapped[int] = mapped_column(default=0)
    due_at: Mapped[datetime] = now()
    said: Mapped[str | None]

    __table_args__ = (UniqueConstraint("library_id", "path"), Index("ix_purges_due", "due_at"))


class SentBytes(Base):
    """What was sent of a picture on a day, in one format; ``bytes_before`` is what it would have weighed."""

    __tablename__ = "sent_bytes"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    day: Mapped[date] = mapped_column(primary_key=True)
    picture_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    format: Mapped[str] = mapped_column(primary_key=True)
    bot: Mapped[bool] = mapped_column(primary_key=True)
    requests: Mapped[int]
    bytes: Mapped[int]
    bytes_before: Mapped[int]


class CountedLog(Base):
    """Up to which byte an access log was counted; ``log`` is the number of its first line."""

    __tablename__ = "counted_logs"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    log: Mapped[str] = mapped_column(primary_key=True)
    position: Mapped[int]
    at: Mapped[datetime] = now()
