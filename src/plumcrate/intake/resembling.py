"""Renditions that nobody named and no pattern fits, found by what pictures show: proposed, never acted on
until a person says yes to a folder."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import structlog
from sqlalchemy import delete, func, insert, select

from plumcrate.contract.jobs import ResemblanceReport
from plumcrate.imaging import ImagingError
from plumcrate.imaging.likeness import Fingerprint, Originals
from plumcrate.jobs.long_work import Follow
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.tables import File, ProposedRendition
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.storage.errors import NotThere, StorageError

from .proposals import counted_as_originals

log = structlog.get_logger()

_BATCH, _COMPARED = 64, 2_000


@dataclass(frozen=True, slots=True)
class _Candidate:
    id: int
    path: str
    size: int


def propose_renditions(
    keeper: Keeper, sandbox: Sandbox, follow: Follow, *, at_a_time: int, most_bytes: int
) -> ResemblanceReport:
    """Looks at every file that counts as an original, and proposes those that show the same as a larger one.

    What was proposed before is forgotten. Raises NotThere, and Stopped.
    """
    database, library_id = keeper.database, keeper.library_id
    report = ResemblanceReport(files=_count(database, library_id))
    originals, seen = Originals(), list[Fingerprint]()
    with keeper.store.visit(), ThreadPoolExecutor(at_a_time) as pool:
        for batch in _candidates(database, library_id):
            for one in pool.map(lambda file: _seen(keeper, sandbox, file, most_bytes), batch):
                if one is None:
                    report.unreadable += 1
                elif originals.add(one):
                    seen.append(one)
                else:
                    report.plain += 1
                report.looked_at += 1
            follow.report(report)
    found = []
    for number, one in enumerate(seen):
        if number % _COMPARED == 0:
            follow.report(report)  # somebody may have stopped it
        original = originals.original_of(one)
        if original is not None:
            found.append(
                {
                    "library_id": library_id,
                    "path": one.name,
                    "folder": one.name.rpartition("/")[0],
                    "original": original.name,
                }
            )
            report.found += 1
    with database.begin() as session:
        session.execute(delete(ProposedRendition).where(ProposedRendition.library_id == library_id))
        for start in range(0, len(found), _COMPARED):
            session.execute(insert(ProposedRendition), found[start : start + _COMPARED])
    follow.report(report)
    log.info("looked for renditions", library_id=library_id, **report.model_dump())
    return report


def _count(database: Database, library_id: int) -> int:
    with database.begin() as session:
        return session.scalar(select(func.count(File.id)).where(*counted_as_originals(library_id))) or 0


def _candidates(database: Database, library_id: int) -> Iterator[list[_Candidate]]:
    last = 0
    while True:
        with database.begin() as session:
            rows = session.execute(
                select(File.id, File.path, File.size_now)
                .where(*counted_as_originals(library_id), File.id > last)
                .order_by(File.id)
                .limit(_BATCH)
            ).all()
        if not rows:
            return
        last = rows[-1].id
        yield [_Candidate(*row) for row in rows]


def _seen(keeper: Keeper, sandbox: Sandbox, file: _Candidate, most_bytes: int) -> Fingerprint | None:
    if file.size > most_bytes:
        return None
    try:
        width, height, shown = sandbox.fingerprint(keeper.store.read(file.path))
    except NotThere:
        raise
    except (StorageError, ImagingError, SandboxError) as error:
        log.info("a picture could not be looked at", path=file.path, reason=str(error))
        return None
    return Fingerprint(file.path, width, height, shown)
