"""Reads what the pictures' own metadata says, for suggestions: a job, in children, and only of files that
changed since."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import structlog
from sqlalchemy import func, or_, select
from sqlalchemy.dialects.postgresql import insert

from plumcrate.contract.jobs import WordsReport
from plumcrate.contract.pictures import FileState
from plumcrate.jobs.long_work import Follow
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.tables import EmbeddedTexts, File, Picture
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.storage.errors import NotThere, StorageError

log = structlog.get_logger()

#: Metadata stands at a file's beginning; a file that is longer is not read further.
_WINDOW, _BATCH = 1 << 20, 64


@dataclass(frozen=True, slots=True)
class _Due:
    picture_id: int
    path: str
    original: bytes | None
    mtime_ns: int
    size: int


def read_words(keeper: Keeper, sandbox: Sandbox, follow: Follow, *, at_a_time: int) -> WordsReport:
    """Reads the original of every picture that was not read yet, or not as it is now.

    A file that cannot be read is passed over and tried again another time. Raises NotThere, and Stopped.
    """
    database, library_id = keeper.database, keeper.library_id
    report = WordsReport(pictures=_count(database, library_id))
    with keeper.store.visit(), ThreadPoolExecutor(at_a_time) as pool:
        for batch in _due(database, library_id):
            found = list(pool.map(lambda one: _texts(keeper, sandbox, one), batch))
            rows = [
                {
                    "library_id": library_id,
                    "picture_id": one.picture_id,
                    "texts": texts,
                    "mtime_ns": one.mtime_ns,
                    "size": one.size,
                }
                for one, texts in zip(batch, found, strict=True)
                if texts is not None
            ]
            report.looked_at += len(batch)
            report.unreadable += len(batch) - len(rows)
            report.with_words += sum(bool(row["texts"]) for row in rows)
            if rows:
                upsert = insert(EmbeddedTexts)
                new = {name: upsert.excluded[name] for name in ("texts", "mtime_ns", "size")}
                with database.begin() as session:
                    session.execute(
                        upsert.on_conflict_do_update(index_elements=["picture_id"], set_=new), rows
                    )
            follow.report(report)
    log.info("read what pictures say of themselves", library_id=library_id, **report.model_dump())
    return report


_ORIGINAL = File.id == Picture.original_id
_READ = EmbeddedTexts.picture_id == Picture.id


def _count(database: Database, library_id: int) -> int:
    with database.begin() as session:
        there = Picture.library_id == library_id, Picture.state != FileState.GONE
        return session.scalar(select(func.count(Picture.id)).where(*there)) or 0


def _due(database: Database, library_id: int) -> Iterator[list[_Due]]:
    """What was treated is told by its original bytes, which never change."""
    last = 0
    unread = or_(
        EmbeddedTexts.picture_id.is_(None),
        EmbeddedTexts.mtime_ns != File.mtime_ns_before,
        EmbeddedTexts.size != File.size_before,
    )
    while True:
        with database.begin() as session:
            rows = session.execute(
                select(Picture.id, File.path, File.before_sha256, File.mtime_ns_before, File.size_before)
                .join(File, _ORIGINAL)
                .outerjoin(EmbeddedTexts, _READ)
                .where(
                    Picture.library_id == library_id,
                    Picture.state != FileState.GONE,
                    Picture.id > last,
                    unread,
                )
                .order_by(Picture.id)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1].id
        yield [_Due(*row) for row in rows]


def _texts(keeper: Keeper, sandbox: Sandbox, one: _Due) -> list[tuple[str, str]] | None:
    """None for what cannot be read now."""
    try:
        if one.original is None:
            return sandbox.texts(keeper.store.read(one.path, _WINDOW))
        with keeper.backups.open(one.original) as backup:
            return sandbox.texts(backup.read(_WINDOW))
    except NotThere:
        raise
    except (StorageError, OSError, SandboxError) as error:
        log.info("a picture's words could not be read", path=one.path, reason=str(error))
        return None
