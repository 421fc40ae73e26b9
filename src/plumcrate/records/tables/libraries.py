"""Libraries, the pictures and files in them, and what is kept of their originals."""

from __future__ import annotations

import hashlib
from datetime import date, datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from plumcrate.contract.pictures import FileRole, FileState, Purpose

from .base import Base, new_id, now


class Library(Base):
    __tablename__ = "libraries"

    id: Mapped[int] = new_id()
    slug: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    root: Mapped[str] = mapped_column(unique=True)
    patterns: Mapped[list[str]]
    automation: Mapped[dict[str, Any]] = mapped_column(default=dict)
    delivery: Mapped[dict[str, Any]] = mapped_column(default=dict)
    hook_secret: Mapped[bytes | None]  # sealed
    allowance: Mapped[dict[str, Any]] = mapped_column(default=dict)
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)
    descriptions: Mapped[dict[str, Any]] = mapped_column(default=dict)
    #: What its folder bears from the first change to the hand-back; ``identified_at`` says whether it does.
    identity: Mapped[str] = mapped_column(server_default=text("gen_random_uuid()::text"))
    identified_at: Mapped[datetime | None]
    device: Mapped[str | None]
    dormant: Mapped[bool] = mapped_column(default=False)  # handed back: nothing is treated by itself
    days_seen: Mapped[int] = mapped_column(default=0)  # never goes back, whatever the clock says
    day_seen: Mapped[date | None]
    surveyed_at: Mapped[datetime | None]
    next_survey_at: Mapped[datetime | None]
    next_run_at: Mapped[datetime | None]
    next_report_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = now()


class Installation(Base):
    """One row: the identity file that the state folder bears."""

    __tablename__ = "installation"

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, default=1, autoincrement=False)
    state_identity: Mapped[str]
    identified_at: Mapped[datetime | None]


class RecipeVersion(Base):
    """A library's recipe, as it was saved; the newest version is the one in use."""

    __tablename__ = "recipes"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    version: Mapped[int]
    settings: Mapped[dict[str, Any]]
    by: Mapped[str]
    created_at: Mapped[datetime] = now()

    __table_args__ = (UniqueConstraint("library_id", "version"),)


class Picture(Base):
    """One asset: the original and its renditions. The sums are kept up by ``refresh_pictures``."""

    __tablename__ = "pictures"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    path: Mapped[str]
    folder: Mapped[str]
    name: Mapped[str]
    format: Mapped[str | None]
    width: Mapped[int] = mapped_column(default=0)
    height: Mapped[int] = mapped_column(default=0)
    state: Mapped[str] = mapped_column(default=FileState.NEW)
    reason: Mapped[str | None]
    original_id: Mapped[int | None]
    files: Mapped[int] = mapped_column(default=0)
    bytes_before: Mapped[int] = mapped_column(default=0)
    bytes_now: Mapped[int] = mapped_column(default=0)
    bytes_lightest: Mapped[int] = mapped_column(default=0)
    score: Mapped[float | None]
    worst: Mapped[float | None]
    override: Mapped[str | None]  # a level of its own, or "leave"
    touches: Mapped[list[Any] | None]  # touch-ups, in order; null for none
    touched_by: Mapped[str] = mapped_column(default="")
    touched_at: Mapped[datetime | None]
    focus: Mapped[list[Any] | None]  # set by hand, in parts of the original's width and height

    @property
    def touched(self) -> bool:
        """Whether it has touch-ups."""
        return self.touches is not None

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        Index("ix_pictures_library_id_state", "library_id", "state"),
        Index("ix_pictures_library_id_folder", "library_id", "folder"),
        Index("ix_pictures_library_id_worst", "library_id", "worst", "id"),
        Index("ix_pictures_saved", "library_id", text("(bytes_before - bytes_now)"), "id"),
        Index("ix_pictures_size", "library_id", "bytes_now", "id"),
    )


def _told_apart(*facts: object) -> str:
    return hashlib.sha256(":".join(map(str, facts)).encode()).hexdigest()[:24]


class File(Base):
    """``sha256`` is of the bytes we last wrote or verified; ``before_sha256`` of the original bytes.

    A treated file without ``before_sha256`` has no backup. One with ``size_name`` was made by us for a size
    of the library, or is to be made (it is gone as long as it is not there); ``slot`` tells the densities and
    widths of a size apart. ``unwanted``: the next run removes it; with ``removed_unused`` since nobody asked
    for it, and only until somebody does.
    """

    __tablename__ = "files"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    picture_id: Mapped[int] = mapped_column(ForeignKey("pictures.id", ondelete="CASCADE"), index=True)
    path: Mapped[str]
    folder: Mapped[str] = mapped_column(default="")
    role: Mapped[str] = mapped_column(default=FileRole.ORIGINAL)
    state: Mapped[str] = mapped_column(default=FileState.NEW)
    reason: Mapped[str | None]
    format: Mapped[str | None]
    width: Mapped[int] = mapped_column(default=0)
    height: Mapped[int] = mapped_column(default=0)
    transparent: Mapped[bool] = mapped_column(default=False)
    animated: Mapped[bool] = mapped_column(default=False)
    seen_at: Mapped[datetime] = now()
    size_before: Mapped[int]
    size_now: Mapped[int]
    mtime_ns: Mapped[int]
    mtime_ns_before: Mapped[int]
    sha256: Mapped[bytes | None]
    before_sha256: Mapped[bytes | None]
    score: Mapped[float | None]
    worst: Mapped[float | None]
    worst_place: Mapped[dict[str, Any] | None]
    level: Mapped[str | None]
    recipe: Mapped[dict[str, Any] | None]
    how: Mapped[str | None]
    treated_at: Mapped[datetime | None]
    held: Mapped[bool] = mapped_column(default=False)  # put back by a person: not treated by itself
    #: What stands there, in pixels, where it is not as large as the original was; null where it is.
    shown_width: Mapped[int | None]
    shown_height: Mapped[int | None]
    size_name: Mapped[str | None]
    slot: Mapped[str] = mapped_column(default="")
    unwanted: Mapped[bool] = mapped_column(default=False)
    removed_unused: Mapped[bool] = mapped_column(default=False)
    derived: Mapped[list[Derived]] = relationship(
        back_populates="file", cascade="all, delete-orphan", order_by="Derived.format", lazy="selectin"
    )

    @property
    def version(self) -> str:
        """Tells what stands there from what else may have stood there."""
        return _told_apart(self.id, self.path, self.mtime_ns, self.size_now)

    @property
    def original_version(self) -> str:
        """Tells the file as it came from what somebody might put in its place; no treatment changes it."""
        measures = f"{self.width}x{self.height}"
        return _told_apart(self.id, self.path, self.mtime_ns_before, self.size_before, measures)

    @property
    def shown(self) -> tuple[int, int]:
        """Width and height of what stands there."""
        return self.shown_width or self.width, self.shown_height or self.height

    @property
    def copies(self) -> list[Derived]:
        """The same in lighter formats, beside it."""
        return [derived for derived in self.derived if derived.purpose == Purpose.COPY]

    @property
    def leaner(self) -> list[Derived]:
        """Copies at a lower level, for who asks for less data."""
        return [derived for derived in self.derived if derived.purpose == Purpose.SAVE_DATA]

    @property
    def conversion(self) -> Derived | None:
        """The file in another format that stands, or may stand, in its place."""
        return next((derived for derived in self.derived if derived.purpose == Purpose.CONVERSION), None)

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        Index("ix_files_library_id_folder", "library_id", "folder"),
        Index("ix_files_original", "library_id", "before_sha256"),
        Index(
            "ix_files_size_name", "library_id", "size_name", postgresql_where=text("size_name IS NOT NULL")
        ),
    )


class Result(Base):
    """Bytes that we made, for ever: by them a file of ours is known wherever it was moved.

    ``purpose`` is ``file`` for what took a file's place, else as in :class:`Derived`, with its format;
    ``original_sha256`` the original that it was made from. ``made`` holds what the file's record says of the
    treatment.
    """

    __tablename__ = "results"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    sha256: Mapped[bytes]
    size: Mapped[int]
    purpose: Mapped[str]
    format: Mapped[str | None]
    original_sha256: Mapped[bytes | None]
    made: Mapped[dict[str, Any]] = mapped_column(default=dict)

    __table_args__ = (
        UniqueConstraint("library_id", "sha256"),
        Index("ix_results_size", "library_id", "size"),
    )


class Derived(Base):
    """Something we made that stands beside a file: a copy, or a conversion.

    ``stands_in``: browsers that know its format fetch it in the file's place; not what only those get who ask
    for less data.
    """

    __tablename__ = "derived"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    file_id: Mapped[int] = mapped_column(ForeignKey("files.id", ondelete="CASCADE"), index=True)
    purpose: Mapped[str]
    format: Mapped[str]
    width: Mapped[int] = mapped_column(default=0)
    height: Mapped[int] = mapped_column(default=0)
    stands_in: Mapped[bool] = mapped_column(default=True)
    path: Mapped[str]
    size: Mapped[int]
    sha256: Mapped[bytes]
    score: Mapped[float | None]
    worst_place: Mapped[dict[str, Any] | None]
    how: Mapped[str] = mapped_column(default="")
    file: Mapped[File] = relationship(back_populates="derived")

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        UniqueConstraint("file_id", "purpose", "format", "width", "height"),
    )


class MappedRendition(Base):
    """What the site says: the file at ``path`` was made of ``original``. ``folder`` and ``home`` are
    theirs."""

    __tablename__ = "mapped_renditions"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)
    folder: Mapped[str]
    original: Mapped[str]
    home: Mapped[str]
    made_by: Mapped[str] = mapped_column(default="")

    __table_args__ = (
        Index("ix_mapped_renditions_folder", "library_id", "folder"),
        Index("ix_mapped_renditions_home", "library_id", "home"),
    )


class ProposedRendition(Base):
    """The file at ``path`` shows the same as the larger ``original``; a person has yet to say whether it was
    made of it."""

    __tablename__ = "proposed_renditions"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)
    folder: Mapped[str]
    original: Mapped[str]

    __table_args__ = (Index("ix_proposed_renditions_folder", "library_id", "folder"),)


class Backup(Base):
    """One durable backup in the store, by content; several files may share it.

    ``path`` is where its bytes were found first. ``seen_at``: since when the same bytes stand in the
    library again, so that nobody needs the backup. ``born_day`` counts as :attr:`Library.days_seen`.
    """

    __tablename__ = "backups"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    sha256: Mapped[bytes]
    size: Mapped[int]
    created_at: Mapped[datetime] = now()
    pruned_at: Mapped[datetime | None]  # being deleted
    path: Mapped[str] = mapped_column(default="")
    seen_at: Mapped[datetime | None]
    born_day: Mapped[int] = mapped_column(default=0)

    __table_args__ = (
        UniqueConstraint("library_id", "sha256"),
        Index("ix_backups_size", "library_id", "size"),
        Index("ix_backups_pruned", "library_id", postgresql_where=text("pruned_at IS NOT NULL")),
    )


class Journal(Base):
    """A change that has begun and has not ended. Recovery finishes or undoes each, by hash alone.

    ``staged`` is the hidden name that the change may use. ``detail`` is the payload of the change's class.
    ``due_at``: not before then is it settled.
    """

    __tablename__ = "journal"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    file_id: Mapped[int | None] = mapped_column(ForeignKey("files.id", ondelete="CASCADE"), index=True)
    action: Mapped[str]
    path: Mapped[str]
    staged: Mapped[str]
    before_sha256: Mapped[bytes | None]
    after_sha256: Mapped[bytes | None]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    opened_at: Mapped[datetime] = now()
    due_at: Mapped[datetime | None]


class Ledger(Base):
    """What was done, for ever."""

    __tablename__ = "ledger"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    picture_id: Mapped[int | None] = mapped_column(index=True)
    file_id: Mapped[int | None]
    run_id: Mapped[int | None]
    at: Mapped[datetime] = now()
    action: Mapped[str]
    path: Mapped[str]
    before_sha256: Mapped[bytes | None]
    after_sha256: Mapped[bytes | None]
    bytes_before: Mapped[int | None]
    bytes_after: Mapped[int | None]
    score: Mapped[float | None]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class LeftStore(Base):
    """The backup store of a library that was disconnected: its folder's name among the stores, and since
    when."""

    __tablename__ = "left_stores"

    slug: Mapped[str] = mapped_column(primary_key=True)
    left_at: Mapped[datetime] = now()


class Tally(Base):
    """Changes of totals: the sum of a noun's rows is its total. Written by the database's triggers."""

    __tablename__ = "tallies"

    library_id: Mapped[int] = mapped_column(
        ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True, index=True
    )
    noun: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[str] = mapped_column(primary_key=True)
    rows: Mapped[int] = mapped_column(default=0)
    bytes_before: Mapped[int] = mapped_column(default=0)
    bytes_now: Mapped[int] = mapped_column(default=0)
    bytes_lightest: Mapped[int] = mapped_column(default=0)
