"""What pictures show, which show the same, and which are answered with another."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, now


class VisualHash(Base):
    """A picture's perceptual hash. ``mtime_ns`` and ``size`` are of its original file when it was looked at,
    ``content`` is the SHA-256 of its bytes.

    ``group_id`` is the same for pictures that show the same; ``match`` says how the picture shows what the
    group's largest does, null for that itself. ``apart``: a person said that it belongs to no group.
    """

    __tablename__ = "visual_hashes"

    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    width: Mapped[int]
    height: Mapped[int]
    hash: Mapped[bytes]
    content: Mapped[bytes]
    mtime_ns: Mapped[int]
    size: Mapped[int]
    compared: Mapped[bool] = mapped_column(default=False)
    apart: Mapped[bool] = mapped_column(default=False)
    group_id: Mapped[int | None]
    match: Mapped[dict[str, Any] | None]

    __table_args__ = (Index("ix_visual_hashes_group", "library_id", "group_id"),)


class NearDuplicatePair(Base):
    """Two pictures that show the same; ``first_id`` is the lower number."""

    __tablename__ = "near_duplicate_pairs"

    first_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True)
    second_id: Mapped[int] = mapped_column(
        ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)


class Redirect(Base):
    """Whoever asks for a picture is sent to another, since a person said so. Both keep their files."""

    __tablename__ = "redirects"

    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True)
    to_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), index=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    by: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now()
