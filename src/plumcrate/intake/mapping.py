"""Taking in what a site says of its renditions, line by line; then every file concerned gets its picture."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from typing import Any

from pydantic import ValidationError
from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.mapping import MappedRendition, Mapping, MappingTaken
from plumcrate.contract.pictures import FileState
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.records.tables import MappedRendition as Row
from plumcrate.storage.names import fault_of

from .families import settle_families

#: So many lines are taken in one transaction, so many folders are settled in one.
_BATCH, _FOLDERS, _FAULTS = 5_000, 200, 20
_LONGEST = 10_000


def take_mapping(
    database: Database, library: Library, lines: Iterable[bytes], *, anew: bool = False
) -> MappingTaken:
    """Takes JSON lines in. ``anew``: what was said before is forgotten first.

    A line that cannot be used is refused by itself. The latest word on a path counts. A path may be on record
    or not: a file that comes later is known then.
    """
    taken = MappingTaken()
    if anew:
        with database.begin() as session:
            session.execute(delete(Row).where(Row.library_id == library.id))
    concerned: set[str] = set()
    rows = _rows(library.id, lines, taken)
    while batch := list(islice(rows, _BATCH)):
        with database.begin() as session:
            concerned |= _record(session, batch)
    _settle(database, library, concerned if not anew else _all_folders(database, library))
    with database.begin() as session:
        view = mapping_view(session, library)
    return taken.model_copy(update=view.model_dump())


def note_renditions(session: Session, library: Library, said: Sequence[MappedRendition]) -> None:
    """Takes what a site says of files as it writes them; those that are on record already are settled."""
    rows = [_row(library.id, one) for one in said if _fault_of(one) is None]
    if not rows:
        return
    _record(session, rows)
    paths = [row["path"] for row in rows]
    known = select(File.folder).where(File.library_id == library.id, File.path.in_(paths)).distinct()
    folders = list(session.scalars(known))
    if folders:
        _settle_some(session, library, folders)


def _record(session: Session, rows: Sequence[dict[str, Any]]) -> set[str]:
    """Records what was said, the latest word on each path; in which folders these are."""
    latest = {row["path"]: row for row in rows}
    statement = insert(Row).values(list(latest.values()))
    session.execute(
        statement.on_conflict_do_update(
            index_elements=[Row.library_id, Row.path],
            set_={name: statement.excluded[name] for name in ("original", "home", "made_by")},
        )
    )
    return {row["folder"] for row in latest.values()}


def mapping_view(session: Session, library: Library) -> Mapping:
    """What is on record for a library."""
    rendition, original = aliased(File), aliased(File)
    mine = Row.library_id == library.id
    stands = (
        select(func.count())
        .select_from(Row)
        .join(rendition, (rendition.library_id == Row.library_id) & (rendition.path == Row.path))
        .join(original, (original.library_id == Row.library_id) & (original.path == Row.original))
        .where(mine, rendition.state != FileState.GONE, original.state != FileState.GONE)
    )
    count = select(func.count()).select_from(Row).where(mine)
    return Mapping(renditions=session.scalar(count) or 0, found=session.scalar(stands) or 0)


def _rows(library_id: int, lines: Iterable[bytes], taken: MappingTaken) -> Iterator[dict[str, Any]]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        fault, said = _read(line)
        if said is None:
            taken.refused += 1
            if len(taken.faults) < _FAULTS:
                taken.faults.append(f"line {number}: {fault}")
            continue
        taken.taken += 1
        yield _row(library_id, said)


def _row(library_id: int, said: MappedRendition) -> dict[str, Any]:
    return {
        "library_id": library_id,
        "path": said.path,
        "folder": said.path.rpartition("/")[0],
        "original": said.original,
        "home": said.original.rpartition("/")[0],
        "made_by": said.made_by,
    }


def _read(line: bytes) -> tuple[str, MappedRendition | None]:
    if len(line) > _LONGEST:
        return f"it is longer than {_LONGEST:,} bytes", None
    try:
        said = MappedRendition.model_validate_json(line)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        return f"{'.'.join(map(str, first['loc'])) or 'JSON'}: {first['msg']}", None
    fault = _fault_of(said)
    return (fault, None) if fault is not None else ("", said)


def _fault_of(said: MappedRendition) -> str | None:
    for path in (said.path, said.original):
        fault = fault_of(path)
        if fault is not None:
            return f"{path[:80]}: {fault}"
    if said.path == said.original:
        return f"{said.path[:80]}: a file is no rendition of itself"
    return None


def _all_folders(database: Database, library: Library) -> set[str]:
    with database.begin() as session:
        return set(session.scalars(select(File.folder).where(File.library_id == library.id).distinct()))


def _settle(database: Database, library: Library, folders: set[str]) -> None:
    """Some folders at a time, so that memory does not grow with the library."""
    ordered = sorted(folders)
    for start in range(0, len(ordered), _FOLDERS):
        with database.begin() as session:
            _settle_some(session, library, ordered[start : start + _FOLDERS])


def _settle_some(session: Session, library: Library, folders: list[str]) -> None:
    # Held so that no survey settles the same folders meanwhile.
    session.execute(update(Library).where(Library.id == library.id).values(name=Library.name))
    settle_families(session, library.id, library.patterns, folders, [])
