"""What the findings about a page need to know of the records."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import func, select

from plumcrate.contract.pictures import FileState
from plumcrate.contract.weighing import Reading
from plumcrate.pages.findings import AvailableSize, FindingContext, OnRecord
from plumcrate.previews.page_facts import MEDIA_TYPES
from plumcrate.records.database import Database
from plumcrate.records.queries.descriptions import described_among
from plumcrate.records.queries.pages import cut_for, page_files
from plumcrate.records.tables import Derived, File, Result

from .mapping import Mapped

#: What share of its bytes a picture is expected to keep, until a library has treated some of its own.
_UNKNOWN, _ENOUGH = 0.5, 20


class Grounds:
    """Gathers for one library."""

    def __init__(self, database: Database, library_id: int) -> None:
        self._database, self._library_id = database, library_id

    def of(
        self,
        reading: Reading,
        mapped: Mapping[str, Mapped],
        hashes: Mapping[str, bytes],
        looked: dict[str, Any],
        measured: dict[str, Any],
    ) -> FindingContext:
        """``hashes``: of what was served, by address; ``measured``: a pass whose times count."""
        records = {}
        with self._database.begin() as session:
            ours = {address: one for address, one in mapped.items() if one.library_id == self._library_id}
            paths = [one.file.path for one in ours.values()]
            facts = page_files(session, self._library_id, paths, MEDIA_TYPES)
            old = set(
                session.scalars(
                    select(Result.sha256).where(
                        Result.library_id == self._library_id, Result.sha256.in_(list(hashes.values()))
                    )
                )
            )
            expected = self._expected(session)
            described = described_among(session, {one.file.picture_id for one in ours.values()})
            for picture in reading.pictures:
                one = ours.get(picture.address)
                if one is None or one.file.path not in facts:
                    continue
                _, file = facts[one.file.path]
                place = round(picture.box.width), round(picture.box.height)
                cut = cut_for(session, one.file.picture_id, *place, MEDIA_TYPES) if all(place) else []
                usable = {size.path: size for size in (file, *file.sizes, *cut)}
                sizes = tuple(
                    AvailableSize(
                        size.path,
                        size.width,
                        size.height,
                        min([size.bytes, *(copy.bytes for copy in size.copies)]),
                    )
                    for size in usable.values()
                )
                copy = file.copies[0] if file.copies else None
                records[picture.number] = OnRecord(
                    one.file.path,
                    one.file.picture_id,
                    one.file.size_now,
                    untreated=one.file.state == FileState.NEW and one.file.treated_at is None,
                    lightest=(copy.media_type.rpartition("/")[2], copy.bytes) if copy is not None else None,
                    sizes=sizes,
                    foreign=_foreign(one, hashes.get(picture.address), old),
                    described=one.file.picture_id in described,
                )
        return FindingContext(
            records,
            begun={row["asked"].partition("#")[0]: row["begun"] for row in reversed(measured["exchanges"])},
            varies={row["asked"].partition("#")[0]: row["varies"] for row in looked["exchanges"]},
            failed=_failed(looked["exchanges"], reading),
            expected=expected,
        )

    def _expected(self, session: Any) -> float:
        lightest = select(func.min(Derived.size)).where(Derived.file_id == File.id, Derived.stands_in)
        files, before, after = session.execute(
            select(
                func.count(),
                func.coalesce(func.sum(File.size_before), 0),
                func.coalesce(func.sum(func.least(File.size_now, lightest.scalar_subquery())), 0),
            ).where(File.library_id == self._library_id, File.state == FileState.LIGHTER)
        ).one()
        return float(after / before) if files >= _ENOUGH and before else _UNKNOWN


def _foreign(one: Mapped, served: bytes | None, results: set[bytes]) -> bool:
    """Whether what was served is nothing that we, or the site before us, put there."""
    if served is None or one.file.sha256 is None or one.file.treated_at is None:
        return False
    known = {one.file.sha256, one.file.before_sha256, *(row.sha256 for row in one.file.derived)}
    return served not in known and served not in results


def _failed(exchanges: list[dict[str, Any]], reading: Reading) -> dict[str, str]:
    shown = {picture.address.partition("#")[0] for picture in reading.pictures}
    failed = {}
    for row in exchanges:
        address = row["asked"].partition("#")[0]
        if address not in shown:
            continue
        if row["status"] >= 400:
            failed[address] = f"the site answers {row['status']}"
        elif row["failed"] and "ABORTED" not in row["failed"] and "BLOCKED" not in row["failed"]:
            failed[address] = row["failed"].removeprefix("net::")
    return failed
