"""Pages of a library's site, weighed."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from .base import Base, new_id, now


class SitePage(Base):
    """A page of a library's site. ``secrets`` is sealed: what signs in to it.

    It is weighed after the runs that finish later than ``after_runs_since``, after none where that is null.
    """

    __tablename__ = "site_pages"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    address: Mapped[str]
    budget: Mapped[dict[str, Any] | None]
    schedule: Mapped[str | None]
    after_runs_since: Mapped[datetime | None]
    secrets: Mapped[bytes | None]
    next_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = now()

    __table_args__ = (UniqueConstraint("library_id", "address"),)


class Weighing(Base):
    """A page, weighed once. ``report`` holds readings, findings and notes as the contract has them."""

    __tablename__ = "weighings"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    page_id: Mapped[int] = mapped_column(ForeignKey("site_pages.id", ondelete="CASCADE"))
    kind: Mapped[str]
    what_if: Mapped[dict[str, Any] | None]
    recipe_version: Mapped[int | None]
    origin: Mapped[str]
    run_id: Mapped[int | None] = mapped_column(ForeignKey("runs.id", ondelete="SET NULL"))
    by: Mapped[str] = mapped_column(default="")
    budget: Mapped[dict[str, Any] | None]
    code: Mapped[str | None]
    fault: Mapped[str | None]
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)
    at: Mapped[datetime] = now()
    shots: Mapped[list[Shot]] = relationship(
        back_populates="weighing", cascade="all, delete-orphan", order_by="Shot.id"
    )

    __table_args__ = (Index("ix_weighings_page_id_id", "page_id", "id"),)


class Shot(Base):
    """A picture of a page, as WebP."""

    __tablename__ = "shots"

    id: Mapped[int] = new_id()
    weighing_id: Mapped[int] = mapped_column(ForeignKey("weighings.id", ondelete="CASCADE"), index=True)
    device: Mapped[str]
    part: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    scale: Mapped[float]
    data: Mapped[bytes] = mapped_column(deferred=True)
    weighing: Mapped[Weighing] = relationship(back_populates="shots")


class NeededSize(Base):
    """A size that a place on a page needs of a picture, noted for the sizes to come."""

    __tablename__ = "needed_sizes"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), index=True)
    width: Mapped[int]
    height: Mapped[int]
    page: Mapped[str]
    at: Mapped[datetime] = now()

    __table_args__ = (UniqueConstraint("library_id", "picture_id", "width", "height"),)
