"""Sizes that are made of a library's pictures, and watermarks that are laid over them."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, UniqueConstraint, func
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, new_id, now


class SizeRow(Base):
    """One size of a library; ``settings`` as the contract has them."""

    __tablename__ = "sizes"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    name: Mapped[str]
    settings: Mapped[dict[str, Any]]
    by: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now()

    __table_args__ = (UniqueConstraint("library_id", "name"),)


class AskedFile(Base):
    """A file that was made for a size, and the last day on which a visitor or a weighed page loaded it."""

    __tablename__ = "asked_files"

    file_id: Mapped[int] = mapped_column(
        ForeignKey("files.id", ondelete="CASCADE"), primary_key=True, autoincrement=False
    )
    day: Mapped[date] = mapped_column(server_default=func.current_date())


class WatermarkRow(Base):
    """One watermark of a library, asked in the order of their names. ``picture`` is its file, null for
    words."""

    __tablename__ = "watermarks"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    name: Mapped[str]
    settings: Mapped[dict[str, Any]]
    picture: Mapped[bytes | None] = mapped_column(deferred=True)
    sha256: Mapped[str] = mapped_column(default="")
    width: Mapped[int] = mapped_column(default=0)
    height: Mapped[int] = mapped_column(default=0)
    by: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now()

    __table_args__ = (UniqueConstraint("library_id", "name"),)
