"""What is to be done, and who does it."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from plumcrate.contract.jobs import JobState
from plumcrate.contract.runs import ItemState, RunOrigin, RunState

from .base import Base, new_id, now


class Job(Base):
    """One piece of long work on a library: a survey, a check, a forecast, a proof, a pruning.

    ``request`` is what was asked for, ``report`` what has come of it so far; each kind has its own, see
    :mod:`plumcrate.contract.jobs`. Of a kind one is open at a time in a library, but of weighings any number.
    """

    __tablename__ = "jobs"

    id: Mapped[int] = new_id()
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    state: Mapped[str] = mapped_column(default=JobState.WAITING)
    reason: Mapped[str | None]
    request: Mapped[dict[str, Any]] = mapped_column(default=dict)
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)
    by: Mapped[str] = mapped_column(default="")
    queued_id: Mapped[int | None]
    created_at: Mapped[datetime] = now()
    started_at: Mapped[datetime | None]
    finished_at: Mapped[datetime | None]

    __table_args__ = (
        Index(
            "uq_jobs_open",
            "library_id",
            "kind",
            unique=True,
            postgresql_where=text("state IN ('waiting', 'running') AND kind <> 'weighing'"),
        ),
    )


class Run(Base):
    """The counters are kept up in the transaction that ends an item."""

    __tablename__ = "runs"

    id: Mapped[int] = new_id()
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
    created_at: Mapped[datetime] = now()
    finished_at: Mapped[datetime | None]

    __table_args__ = (
        Index("ix_runs_open", "state", postgresql_where=text("state IN ('running', 'paused')")),
    )


_FINISHED = text("finished_at IS NOT NULL")


class Item(Base):
    """One file of a run. Half a million are made at once, so what refers to them is kept small."""

    __tablename__ = "run_items"

    id: Mapped[int] = new_id()
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
    admitted: Mapped[bool] = mapped_column(default=False)  # let through: it goes to its end
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
        Index(
            "ix_run_items_admitted", "run_id", "id", postgresql_where=text("state = 'waiting' AND admitted")
        ),
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


class HookDelivery(Base):
    """Webhooks that were taken in, so that none is taken twice."""

    __tablename__ = "hook_deliveries"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    hook_id: Mapped[str] = mapped_column(primary_key=True)
    received_at: Mapped[datetime] = now()


class Arrival(Base):
    """A path that was told to have changed and has not been looked at yet. ``whole``: who told says that
    nobody writes there any more."""

    __tablename__ = "arrivals"

    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True)
    path: Mapped[str] = mapped_column(primary_key=True)
    mode: Mapped[str]
    size: Mapped[int | None]
    mtime_ns: Mapped[int | None]
    whole: Mapped[bool] = mapped_column(default=False)
    changed_at: Mapped[datetime] = now()


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
    held_back: Mapped[str | None]  # by what its bulk work is, in plain words
    heard_at: Mapped[datetime] = now()


class ResumableUpload(Base):
    """An upload that comes in pieces. ``sha256``: of the whole, where it was said; ``replaces``: an
    `If-Match` that lists the file in whose place it is to be put; ``runs`` that were started for it when it
    had ended."""

    __tablename__ = "resumable_uploads"

    id: Mapped[str] = mapped_column(primary_key=True)
    library_id: Mapped[int] = mapped_column(ForeignKey("libraries.id", ondelete="CASCADE"), index=True)
    path: Mapped[str]
    length: Mapped[int]
    mode: Mapped[str]
    sha256: Mapped[bytes | None]
    by: Mapped[str] = mapped_column(default="")
    replaces: Mapped[str | None]
    created_at: Mapped[datetime] = now()
    ended_at: Mapped[datetime | None]
    runs: Mapped[list[int]] = mapped_column(JSONB, default=list)
