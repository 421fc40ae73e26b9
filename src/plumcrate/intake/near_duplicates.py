"""Near duplicates of a library: every picture is looked at once, compared with all others, and grouped.

Nothing is done to any file. What was looked at is passed over until its original changes.
"""

from __future__ import annotations

import hashlib
from collections import Counter, OrderedDict, defaultdict
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import structlog
from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import NearDuplicatesReport
from plumcrate.contract.pictures import FileState
from plumcrate.imaging import ImagingError
from plumcrate.imaging.near_duplicates.index import Index
from plumcrate.imaging.near_duplicates.matching import matched
from plumcrate.imaging.near_duplicates.perceptual import PerceptualHash
from plumcrate.jobs.long_work import Follow
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import original_bytes
from plumcrate.records.database import Database
from plumcrate.records.tables import File, NearDuplicatePair, Picture, VisualHash
from plumcrate.sandbox.children import Sandbox, SandboxError

from .grouping import facts_of, group, hashes_of, joined, let_go, pairs_of

log = structlog.get_logger()

_BATCH, _ROWS = 32, 2_000
#: Hashes that are remembered while others are compared with them.
_REMEMBERED = 5_000
_THERE = Picture.state != FileState.GONE
_OF_PICTURE = VisualHash.picture_id == Picture.id


def find_near_duplicates(
    keeper: Keeper, sandbox: Sandbox, follow: Follow, *, at_a_time: int, most_bytes: int
) -> NearDuplicatesReport:
    """Looks at what is new or changed, compares it, and groups. Raises NotThere, and Stopped."""
    database, library_id = keeper.database, keeper.library_id
    report = NearDuplicatesReport()
    with database.begin() as session:
        there = Picture.library_id == library_id, _THERE
        report.pictures = session.scalar(select(func.count(Picture.id)).where(*there)) or 0
    with keeper.store.visit(), ThreadPoolExecutor(at_a_time) as pool:
        for batch in _due(database, library_id):
            seen = pool.map(lambda one: _seen(keeper, sandbox, one, most_bytes), batch)
            rows = [row for row in seen if row is not None]
            report.looked_at += len(batch)
            report.unreadable += len(batch) - len(rows)
            with database.begin() as session:
                _record(session, library_id, rows)
            follow.report(report)
    _compare(database, library_id, follow, report)
    _regroup(database, library_id, follow, report)
    follow.report(report)
    log.info("looked for near duplicates", library_id=library_id, **report.model_dump())
    return report


def _due(database: Database, library_id: int) -> Iterator[list[tuple[int, File]]]:
    """Pictures with their original files; what was treated is told by its original, which never changes."""
    last = 0
    changed = or_(
        VisualHash.picture_id.is_(None),
        VisualHash.mtime_ns != File.mtime_ns_before,
        VisualHash.size != File.size_before,
    )
    while True:
        with database.begin() as session:
            found = session.execute(
                select(Picture.id, File)
                .join(File, File.id == Picture.original_id)
                .outerjoin(VisualHash, _OF_PICTURE)
                .where(Picture.library_id == library_id, _THERE, Picture.id > last, changed)
                .where(File.state.not_in([FileState.GONE, FileState.UNREADABLE]))
                .order_by(Picture.id)
                .limit(_BATCH)
            ).all()
        if not found:
            return
        last = found[-1][0]
        yield [(number, file) for number, file in found]


def _seen(keeper: Keeper, sandbox: Sandbox, one: tuple[int, File], most_bytes: int) -> dict[str, Any] | None:
    """The record of what one shows; None for what cannot be looked at now."""
    picture_id, file = one
    if file.size_before > most_bytes:
        return None
    data = original_bytes(keeper, file)
    if data is None:
        return None
    try:
        width, height, shown = sandbox.perceptual_hash(data)
    except (ImagingError, SandboxError) as error:
        log.info("a picture could not be looked at", path=file.path, reason=str(error))
        return None
    return {
        "picture_id": picture_id,
        "library_id": keeper.library_id,
        "width": width,
        "height": height,
        "hash": shown,
        "content": hashlib.sha256(data).digest(),
        "mtime_ns": file.mtime_ns_before,
        "size": file.size_before,
        "compared": False,
    }


def _record(session: Session, library_id: int, rows: list[dict[str, Any]]) -> None:
    """Writes what was seen, and forgets what a picture resembled before it changed."""
    if not rows:
        return
    numbers = [row["picture_id"] for row in rows]
    # A picture may have gone while it was looked at.
    there = set(session.scalars(select(Picture.id).where(Picture.id.in_(numbers)).with_for_update(read=True)))
    pair = NearDuplicatePair
    session.execute(
        delete(pair).where(
            pair.library_id == library_id, or_(pair.first_id.in_(numbers), pair.second_id.in_(numbers))
        )
    )
    upsert = insert(VisualHash)
    new = {name: upsert.excluded[name] for name in rows[0] if name not in ("picture_id", "library_id")}
    kept = [row for row in rows if row["picture_id"] in there]
    if kept:
        session.execute(upsert.on_conflict_do_update(index_elements=["picture_id"], set_=new), kept)


def _compare(database: Database, library_id: int, follow: Follow, report: NearDuplicatesReport) -> None:
    """Compares every picture that was not, with all others."""
    with database.begin() as session:
        waiting = list(
            session.scalars(
                select(VisualHash.picture_id)
                .where(VisualHash.library_id == library_id, ~VisualHash.compared)
                .order_by(VisualHash.picture_id)
            )
        )
    if not waiting:
        return
    index = Index(_hashes(database, library_id))
    known: OrderedDict[int, PerceptualHash] = OrderedDict()
    for start in range(0, len(waiting), _BATCH):
        batch = waiting[start : start + _BATCH]
        _fetch(database, known, batch)
        asked = {number: index.candidates(known[number]) for number in batch if number in known}
        _fetch(database, known, {other for others in asked.values() for other in others})
        pairs = {
            (min(number, other), max(number, other))
            for number, others in asked.items()
            for other in others
            if other != number and other in known and matched(known[number], known[other]) is not None
        }
        with database.begin() as session:
            pairs |= _identical(session, library_id, batch)
            _record_pairs(session, library_id, pairs)
            session.execute(update(VisualHash).where(VisualHash.picture_id.in_(batch)).values(compared=True))
        while len(known) > _REMEMBERED:
            known.popitem(last=False)
        report.compared += len(batch)
        follow.report(report)


def _hashes(database: Database, library_id: int) -> Iterator[tuple[int, PerceptualHash]]:
    last = 0
    while True:
        with database.begin() as session:
            rows = session.execute(
                select(VisualHash.picture_id, VisualHash.width, VisualHash.height, VisualHash.hash)
                .where(VisualHash.library_id == library_id, VisualHash.picture_id > last)
                .order_by(VisualHash.picture_id)
                .limit(_ROWS)
            ).all()
        if not rows:
            return
        last = rows[-1].picture_id
        for number, width, height, data in rows:
            yield number, PerceptualHash.of_bytes(width, height, data)


def _fetch(database: Database, known: OrderedDict[int, PerceptualHash], numbers: Iterable[int]) -> None:
    wanted = set(numbers)
    for number in wanted & known.keys():
        known.move_to_end(number)
    missing = wanted - known.keys()
    if missing:
        with database.begin() as session:
            known |= hashes_of(session, missing)


def _identical(session: Session, library_id: int, numbers: list[int]) -> set[tuple[int, int]]:
    """Pairs of pictures with the same bytes, whatever they show: each with the first that has them."""
    mine = select(VisualHash.content).where(VisualHash.picture_id.in_(numbers))
    rows = session.execute(
        select(VisualHash.content, VisualHash.picture_id)
        .where(VisualHash.library_id == library_id, VisualHash.content.in_(mine))
        .order_by(VisualHash.picture_id)
    )
    alike: dict[bytes, list[int]] = defaultdict(list)
    for content, number in rows:
        alike[content].append(number)
    return {(first, other) for first, *others in alike.values() for other in others}


def _record_pairs(session: Session, library_id: int, pairs: set[tuple[int, int]]) -> None:
    if not pairs:
        return
    numbers = {number for pair in pairs for number in pair}
    there = set(session.scalars(select(Picture.id).where(Picture.id.in_(numbers)).with_for_update(read=True)))
    rows = [
        {"library_id": library_id, "first_id": first, "second_id": second}
        for first, second in sorted(pairs)
        if first in there and second in there
    ]
    if rows:
        session.execute(insert(NearDuplicatePair).on_conflict_do_nothing(), rows)


def _regroup(database: Database, library_id: int, follow: Follow, report: NearDuplicatesReport) -> None:
    """Makes groups of all pairs; those that are as they were are left as they are."""
    with database.begin() as session:
        facts = facts_of(session, library_id)
        groups = joined(pairs_of(session, library_id, facts))
    grouped = {number for members in groups for number in members}
    alone = [number for number, fact in facts.items() if fact.group is not None and number not in grouped]
    for start in range(0, len(alone), _ROWS):
        with database.begin() as session:
            let_go(session, alone[start : start + _ROWS])
    standing = Counter(fact.group for fact in facts.values())
    for members in groups:
        as_it_was = {facts[number].group for number in members} == {min(members)}
        if not as_it_was or standing[min(members)] != len(members):
            with database.begin() as session:
                group(session, members, facts)
            follow.report(report)
    report.groups, report.in_groups = len(groups), len(grouped)
