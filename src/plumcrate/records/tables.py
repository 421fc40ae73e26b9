"""The tables. A file is an original or a rendition; what we made beside one is derived from it."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    DateTime,
    ForeignKey,
    Identity,
    Index,
    LargeBinary,
    MetaData,
    Text,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

from plumcrate.contract import FileRole, FileState, ItemState, JobState, RunOrigin, RunState


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012
        int: BigInteger,
        str: Text,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB(none_as_null=True),
        list[str]: JSONB(none_as_null=True),
        list[Any]: JSONB(none_as_null=True),
        bytes: LargeBinary,
        bool: Boolean,
    }


def _id() -> Mapped[int]:
    return mapped_column(BigInteger, Identity(always=True), primary_key=True)


def _now() -> Mapped[datetime]:
    return mapped_column(server_default=func.now())


class Library(Base):
    __tablename__ = "libraries"

    id: Mapped[int] = _id()
    slug: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    root: Mapped[str] = mapped_column(unique=True)
    patterns: Mapped[list[str]]
    upkeep: Mapped[dict[str, Any]] = mapped_column(default=dict)
    delivery: Mapped[dict[str, Any]] = mapped_column(default=dict)
    hook_secret: Mapped[str | None]
    #: What its folder bears from the first change to the hand-back; ``marked_at`` says whether it does.
    mark: Mapped[str] = mapped_column(server_default=text("gen_random_uuid()::text"))
    marked_at: Mapped[datetime | None]
    device: Mapped[str | None]
    at_rest: Mapped[bool] = mapped_column(default=False)  # handed back: nothing is treated by itself
    days_seen: Mapped[int] = mapped_column(default=0)  # never goes back, whatever the clock says
    day_seen: Mapped[date | None]
    surveyed_at: Mapped[datetime | None]
    next_survey_at: Mapped[datetime | None]
    next_run_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = _now()


class Installation(Base):
    """One row: the mark that the state folder bears."""

    __tablename__ = "installation"

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, default=1, autoincrement=False)
    state_mark: Mapped[str]
    marked_at: Mapped[datetime | None]


class RecipeVersion(Base):
    """A library's recipe, as it was saved; the newest version is the one in use."""

    __tablename__ = "recipes"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    version: Mapped[int]
    settings: Mapped[dict[str, Any]]
    by: Mapped[str]
    created_at: Mapped[datetime] = _now()

    __table_args__ = (UniqueConstraint("library_id", "version"),)


class Job(Base):
    """One piece of long work on a library: a survey, a check, a forecast, a proof, a pruning.

    ``request`` is what was asked for, ``report`` what has come of it so far; each kind has its own, see
    :mod:`plumcrate.contract.jobs`. Of a kind one is open at a time in a library.
    """

    __tablename__ = "jobs"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    state: Mapped[str] = mapped_column(default=JobState.WAITING)
    reason: Mapped[str | None]
    request: Mapped[dict[str, Any]] = mapped_column(default=dict)
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)
    by: Mapped[str] = mapped_column(default="")
    queued_id: Mapped[int | None]
    created_at: Mapped[datetime] = _now()
    started_at: Mapped[datetime | None]
    finished_at: Mapped[datetime | None]

    __table_args__ = (
        Index(
            "uq_jobs_open", "library_id", "kind", unique=True,
            postgresql_where=text("state IN ('waiting', 'running')"),
        ),
    )  # fmt: skip


class Picture(Base):
    """One asset: the original and its renditions. The sums are kept up by ``refresh_pictures``."""

    __tablename__ = "pictures"

    id: Mapped[int] = _id()
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
    own: Mapped[str | None]  # a level of its own, or "leave"

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        Index("ix_pictures_library_id_state", "library_id", "state"),
        Index("ix_pictures_library_id_folder", "library_id", "folder"),
        Index("ix_pictures_library_id_worst", "library_id", "worst", "id"),
        Index("ix_pictures_saved", "library_id", text("(bytes_before - bytes_now)"), "id"),
        Index("ix_pictures_size", "library_id", "bytes_now", "id"),
    )


class File(Base):
    """``sha256`` is of the bytes we last wrote or verified; ``before_sha256`` of the original bytes.

    A treated file without ``before_sha256`` has no backup.
    """

    __tablename__ = "files"

    id: Mapped[int] = _id()
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
    seen_at: Mapped[datetime] = _now()
    size_before: Mapped[int]
    size_now: Mapped[int]
    mtime_ns: Mapped[int]
    mtime_ns_before: Mapped[int]
    sha256: Mapped[bytes | None]
    before_sha256: Mapped[bytes | None]
    score: Mapped[float | None]
    worst: Mapped[float | None]
    spot: Mapped[dict[str, Any] | None]
    level: Mapped[str | None]
    recipe: Mapped[dict[str, Any] | None]
    how: Mapped[str | None]
    treated_at: Mapped[datetime | None]
    held: Mapped[bool] = mapped_column(default=False)  # put back by a person: not treated by itself
    derived: Mapped[list[Derived]] = relationship(
        back_populates="file", cascade="all, delete-orphan", order_by="Derived.format", lazy="selectin"
    )

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        Index("ix_files_library_id_folder", "library_id", "folder"),
        Index("ix_files_original", "library_id", "before_sha256"),
    )


class Result(Base):
    """Bytes that we made, for ever: by them a file of ours is known wherever it was moved.

    ``purpose`` is ``file`` for what took a file's place, else as in :class:`Derived`, with its format;
    ``original_sha256`` the original that it was made from. ``made`` holds what the file's record says of the
    treatment.
    """

    __tablename__ = "results"

    id: Mapped[int] = _id()
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

    ``stands_in``: browsers that know its format fetch it in the file's place.
    """

    __tablename__ = "derived"

    id: Mapped[int] = _id()
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
    spot: Mapped[dict[str, Any] | None]
    how: Mapped[str] = mapped_column(default="")
    file: Mapped[File] = relationship(back_populates="derived")

    __table_args__ = (
        UniqueConstraint("library_id", "path"),
        UniqueConstraint("file_id", "purpose", "format", "width", "height"),
    )


class Backup(Base):
    """One durable backup in the store, by content; several files may share it.

    ``path`` is where its bytes were found first. ``seen_at``: since when the same bytes stand in the
    library again, so that nobody needs the backup. ``born_day`` counts as :attr:`Library.days_seen`.
    """

    __tablename__ = "backups"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    sha256: Mapped[bytes]
    size: Mapped[int]
    created_at: Mapped[datetime] = _now()
    pruned_at: Mapped[datetime | None]  # being deleted
    path: Mapped[str] = mapped_column(default="")
    seen_at: Mapped[datetime | None]
    born_day: Mapped[int] = mapped_column(default=0)

    __table_args__ = (
        UniqueConstraint("library_id", "sha256"),
        Index("ix_backups_size", "library_id", "size"),
    )


class Journal(Base):
    """A change that has begun and has not ended. Recovery finishes or undoes each, by hash alone.

    ``staged`` is the hidden name that the change may use. ``detail`` is the payload of the change's class.
    ``due_at``: not before then is it settled.
    """

    __tablename__ = "journal"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    file_id: Mapped[int | None] = mapped_column(ForeignKey("files.id", ondelete="CASCADE"), index=True)
    action: Mapped[str]
    path: Mapped[str]
    staged: Mapped[str]
    before_sha256: Mapped[bytes | None]
    after_sha256: Mapped[bytes | None]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    opened_at: Mapped[datetime] = _now()
    due_at: Mapped[datetime | None]


class Ledger(Base):
    """What was done, for ever."""

    __tablename__ = "ledger"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    picture_id: Mapped[int | None] = mapped_column(index=True)
    file_id: Mapped[int | None]
    run_id: Mapped[int | None]
    at: Mapped[datetime] = _now()
    action: Mapped[str]
    path: Mapped[str]
    before_sha256: Mapped[bytes | None]
    after_sha256: Mapped[bytes | None]
    bytes_before: Mapped[int | None]
    bytes_after: Mapped[int | None]
    score: Mapped[float | None]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Purge(Base):
    """An address of which the caches have yet to be told. Rows come from triggers on files and derived
    files, whoever changes them; ``asked`` counts the changes, so that one that comes while caches are told is
    told too."""

    __tablename__ = "purges"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"))
    path: Mapped[str]
    picture_id: Mapped[int | None]
    asked: Mapped[int] = mapped_column(default=1)
    attempts: Mapped[int] = mapped_column(default=0)
    due_at: Mapped[datetime] = _now()
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
    at: Mapped[datetime] = _now()


class Run(Base):
    """The counters are kept up in the transaction that ends an item."""

    __tablename__ = "runs"

    id: Mapped[int] = _id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    origin: Mapped[str] = mapped_column(default=RunOrigin.PERSON)
    state: Mapped[str] = mapped_column(default=RunState.RUNNING)
    settings: Mapped[dict[str, Any] | None]  # the recipe it works with
    variants: Mapped[list[Any]] = mapped_column(default=list)  # the same, resolved: what items refer to
    recipe_version: Mapped[int | None]
    scope: Mapped[dict[str, Any]] = mapped_column(default=dict)
    force: Mapped[bool] = mapped_column(default=False)
    overwrite: Mapped[bool] = mapped_column(default=False)
    priority: Mapped[int] = mapped_column(default=0)
    waits_for: Mapped[str | None]
    proof: Mapped[dict[str, Any] | None]
    files: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    passed: Mapped[int] = mapped_column(default=0)
    failed: Mapped[int] = mapped_column(default=0)
    already: Mapped[int] = mapped_column(default=0)
    left_out: Mapped[int] = mapped_column(default=0)
    elsewhere: Mapped[int] = mapped_column(default=0)
    bytes_before: Mapped[int] = mapped_column(default=0)
    bytes_after: Mapped[int] = mapped_column(default=0)
    bytes_lightest: Mapped[int] = mapped_column(default=0)
    megapixels: Mapped[float] = mapped_column(default=0.0)
    megapixels_done: Mapped[float] = mapped_column(default=0.0)
    created_at: Mapped[datetime] = _now()
    finished_at: Mapped[datetime | None]

    __table_args__ = (
        Index("ix_runs_open", "state", postgresql_where=text("state IN ('running', 'paused')")),
    )


_FINISHED = text("finished_at IS NOT NULL")


class Item(Base):
    """One file of a run. Half a million are made at once, so what refers to them is kept small."""

    __tablename__ = "run_items"

    id: Mapped[int] = _id()
    run_id: Mapped[int]
    picture_id: Mapped[int]
    file_id: Mapped[int]
    path: Mapped[str]
    state: Mapped[str] = mapped_column(default=ItemState.WAITING)
    code: Mapped[str | None]
    reason: Mapped[str | None]
    job_id: Mapped[int | None]
    variant: Mapped[int] = mapped_column(default=0)
    stage: Mapped[int] = mapped_column(default=0)
    attempts: Mapped[int] = mapped_column(default=0)
    tries: Mapped[int] = mapped_column(default=0)
    not_before: Mapped[datetime | None]
    megapixels: Mapped[float] = mapped_column(default=0.0)
    bytes_before: Mapped[int | None]
    bytes_after: Mapped[int | None]
    bytes_lightest: Mapped[int | None]
    score: Mapped[float | None]
    outputs: Mapped[list[Any]] = mapped_column(default=list)
    started_at: Mapped[datetime | None]
    finished_at: Mapped[datetime | None]

    __table_args__ = (
        Index("ix_run_items_waiting", "run_id", "id", postgresql_where=text("state = 'waiting'")),
        Index(
            "ix_run_items_in_flight", "run_id", "id", postgresql_where=text("state IN ('queued', 'working')")
        ),
        Index(
            "ix_run_items_failed", "run_id", "finished_at", "id", postgresql_where=text("state = 'failed'")
        ),
        Index("ix_run_items_finished", "run_id", "finished_at", "id", postgresql_where=_FINISHED),
        Index("ix_run_items_open_file", "file_id", postgresql_where=text("finished_at IS NULL")),
    )


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


class HookDelivery(Base):
    """Webhooks that were taken in, so that none is taken twice."""

    __tablename__ = "hook_deliveries"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    hook_id: Mapped[str] = mapped_column(primary_key=True)
    received_at: Mapped[datetime] = _now()


class Arrival(Base):
    """A path that was told to have changed and has not been looked at yet."""

    __tablename__ = "arrivals"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)
    mode: Mapped[str]
    size: Mapped[int | None]
    mtime_ns: Mapped[int | None]
    changed_at: Mapped[datetime] = _now()


class LeftStore(Base):
    """The backup store of a library that was disconnected: its folder's name among the stores, and since
    when."""

    __tablename__ = "left_stores"

    slug: Mapped[str] = mapped_column(primary_key=True)
    left_at: Mapped[datetime] = _now()


class WorkerRow(Base):
    """A worker process that is alive."""

    __tablename__ = "workers"

    id: Mapped[str] = mapped_column(primary_key=True)
    host: Mapped[str]
    pid: Mapped[int]
    children: Mapped[int]
    version: Mapped[str]
    most_pixels: Mapped[int] = mapped_column(default=0)
    most_bytes: Mapped[int] = mapped_column(default=0)
    loops: Mapped[dict[str, Any]] = mapped_column(default=dict)  # how its loops fare, by name
    heard_at: Mapped[datetime] = _now()


class Person(Base):
    __tablename__ = "people"

    id: Mapped[int] = _id()
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    role: Mapped[str]
    password_hash: Mapped[str]
    created_at: Mapped[datetime] = _now()


class Session(Base):
    """A signed-in browser; only the hash of its token is kept."""

    __tablename__ = "sessions"

    token_sha256: Mapped[bytes] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id", ondelete="CASCADE"))
    expires_at: Mapped[datetime]


class Key(Base):
    """A machine's key; only its hash is kept."""

    __tablename__ = "keys"

    id: Mapped[int] = _id()
    name: Mapped[str]
    role: Mapped[str]
    secret_sha256: Mapped[bytes] = mapped_column(unique=True)
    created_at: Mapped[datetime] = _now()
    last_used_at: Mapped[datetime | None]
