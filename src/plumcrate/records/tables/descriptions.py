"""What pictures say: their texts by language, what is known of them elsewhere, and what was changed."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, Text, text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import Mapped, mapped_column

from .base import Base, new_id, now


class Description(Base):
    """The texts of one picture in one language. ``fold`` is the alternative text without case and
    punctuation, hashed; ``faults`` are those that a text has by itself."""

    __tablename__ = "descriptions"

    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True)
    language: Mapped[str] = mapped_column(primary_key=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    alternative: Mapped[str] = mapped_column(default="")
    title: Mapped[str] = mapped_column(default="")
    caption: Mapped[str] = mapped_column(default="")
    credit: Mapped[str] = mapped_column(default="")
    decorative: Mapped[bool] = mapped_column(default=False)
    fold: Mapped[str | None]
    faults: Mapped[list[str]] = mapped_column(ARRAY(Text), server_default=text("'{}'"))
    version: Mapped[int] = mapped_column(default=1)
    by: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime] = now()

    __table_args__ = (Index("ix_descriptions_fold", "library_id", "language", "fold"),)


class DescriptionChange(Base):
    """One change of one or many descriptions, which can be undone."""

    __tablename__ = "description_changes"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    language: Mapped[str]
    what: Mapped[str]
    pictures: Mapped[int] = mapped_column(default=0)
    by: Mapped[str]
    at: Mapped[datetime] = now()
    undone_at: Mapped[datetime | None]


class ChangedDescription(Base):
    """What a change did to one picture: its texts before and after."""

    __tablename__ = "changed_descriptions"

    change_id: Mapped[int] = mapped_column(
        ForeignKey("description_changes.id", ondelete="CASCADE"), primary_key=True
    )
    picture_id: Mapped[int] = mapped_column(
        ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    before: Mapped[dict[str, Any]]
    after: Mapped[dict[str, Any]]


class EmbeddedTexts(Base):
    """What a picture's own metadata says: a list of field, text and source. ``mtime_ns`` and ``size`` are of
    the file when it was read."""

    __tablename__ = "embedded_texts"

    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    texts: Mapped[list[Any]]
    mtime_ns: Mapped[int]
    size: Mapped[int]


class PageUse(Base):
    """That a weighed page shows a picture, and what the page says of it there. ``number`` tells several
    places on one page apart; ``alternative`` is null where the ``<img>`` has no such attribute."""

    __tablename__ = "page_uses"

    page_id: Mapped[int] = mapped_column(ForeignKey("site_pages.id", ondelete="CASCADE"), primary_key=True)
    picture_id: Mapped[int] = mapped_column(
        ForeignKey("pictures.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    number: Mapped[int] = mapped_column(primary_key=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    language: Mapped[str] = mapped_column(default="")
    alternative: Mapped[str | None]
    heading: Mapped[str] = mapped_column(default="")
    caption: Mapped[str] = mapped_column(default="")
    link: Mapped[str] = mapped_column(default="")


class SearchTerm(Base):
    """What people search a site for, and how often."""

    __tablename__ = "search_terms"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    term: Mapped[str] = mapped_column(primary_key=True)
    count: Mapped[int]
    words: Mapped[list[str]] = mapped_column(ARRAY(Text))

    __table_args__ = (Index("ix_search_terms_words", "words", postgresql_using="gin"),)
