"""Making each file belong to its picture: what a new file's name and size say, and who its relatives are.

Works on a few folders at a time, with those in which their originals may lie by the library's patterns, so
that memory does not grow with the library.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.records.queries.sums import drop_empty, refresh_pictures
from plumcrate.records.tables import File, MappedRendition, Picture
from plumcrate.storage.grouping import PixelSize, conventions_of, group, homes_of

_BATCH = 2_000


def settle_families(
    session: Session,
    library_id: int,
    patterns: Sequence[str],
    folders: Iterable[str],
    arrivals: list[dict[str, Any]],
    touched: Iterable[int] = (),
) -> dict[str, int]:
    """Adds new files, and makes every file in some folders belong to the right picture.

    ``arrivals`` are values of new file rows, in these folders. ``touched`` are pictures whose files were
    changed otherwise. The sums of all pictures concerned are brought up to date. Returns the picture of
    each arrival's path.
    """
    judged = set(folders)
    conventions = conventions_of(patterns)
    context = judged | {home for folder in judged for home in homes_of(folder, conventions)}
    rows = session.execute(
        select(File.id, File.path, File.folder, File.width, File.height, File.role, File.picture_id).where(
            File.library_id == library_id,
            File.folder.in_(context),
            File.state != FileState.GONE,
            File.size_name.is_(
                None
            ),  # what was made for a size stays with its picture, whatever it is called
        )
    ).all()
    sizes = {row.path: PixelSize(row.width, row.height) for row in rows}
    sizes |= {values["path"]: PixelSize(values["width"], values["height"]) for values in arrivals}
    told = _told(session, library_id, judged)
    sizes |= _sizes_of(session, library_id, set(told.values()) - sizes.keys())
    renditions = group(sizes, patterns, told)
    ours = [row for row in rows if row.folder in judged]
    homes = {renditions.get(path, path) for path in (*(row.path for row in ours), *_paths(arrivals))}
    pictures = _pictures(session, library_id, homes)
    concerned = set(touched)
    for values in arrivals:
        path = values["path"]
        values["library_id"] = library_id
        values["role"] = FileRole.RENDITION if path in renditions else FileRole.ORIGINAL
        values["picture_id"] = pictures[renditions.get(path, path)]
        concerned.add(values["picture_id"])
    for batch in _batches(arrivals):
        # A survey and an arrival may find the same file at the same time: one row is enough.
        session.execute(insert(File).on_conflict_do_nothing(), batch)
    moves = []
    for row in ours:
        wanted = FileRole.RENDITION if row.path in renditions else FileRole.ORIGINAL
        home = pictures[renditions.get(row.path, row.path)]
        if (row.role, row.picture_id) != (wanted, home):
            moves.append({"id": row.id, "role": str(wanted), "picture_id": home})
            concerned |= {row.picture_id, home}
    for batch in _batches(moves):
        session.execute(update(File), batch)
    refresh_pictures(session, sorted(concerned))
    drop_empty(session, sorted(concerned))
    return {path: pictures[renditions.get(path, path)] for path in _paths(arrivals)}


def _told(session: Session, library_id: int, folders: set[str]) -> dict[str, str]:
    """What the site says of files in some folders: the original of each."""
    query = select(MappedRendition.path, MappedRendition.original).where(
        MappedRendition.library_id == library_id, MappedRendition.folder.in_(folders)
    )
    return dict(session.execute(query).all())


def _sizes_of(session: Session, library_id: int, paths: set[str]) -> dict[str, PixelSize]:
    """Of files on record, by path."""
    found: dict[str, PixelSize] = {}
    wanted = sorted(paths)
    for start in range(0, len(wanted), _BATCH):
        query = select(File.path, File.width, File.height).where(
            File.library_id == library_id,
            File.path.in_(wanted[start : start + _BATCH]),
            File.state != FileState.GONE,
            File.size_name.is_(None),
        )
        found |= {path: PixelSize(width, height) for path, width, height in session.execute(query)}
    return found


def _paths(arrivals: list[dict[str, Any]]) -> list[str]:
    return [values["path"] for values in arrivals]


def _pictures(session: Session, library_id: int, homes: set[str]) -> dict[str, int]:
    """The picture of each original's path; new ones are made."""
    pictures = _known_pictures(session, library_id, homes)
    missing = homes - pictures.keys()
    for batch in _batches([_picture_row(library_id, path) for path in sorted(missing)]):
        session.execute(insert(Picture).on_conflict_do_nothing(), batch)
    return pictures | _known_pictures(session, library_id, missing)


def _known_pictures(session: Session, library_id: int, homes: set[str]) -> dict[str, int]:
    pictures: dict[str, int] = {}
    wanted = sorted(homes)
    for start in range(0, len(wanted), _BATCH):
        query = select(Picture.path, Picture.id).where(
            Picture.library_id == library_id, Picture.path.in_(wanted[start : start + _BATCH])
        )
        pictures |= dict(session.execute(query).all())
    return pictures


def _picture_row(library_id: int, path: str) -> dict[str, Any]:
    folder, _, name = path.rpartition("/")
    return {"library_id": library_id, "path": path, "folder": folder, "name": name}


def _batches(rows: list[dict[str, Any]]) -> Iterable[list[dict[str, Any]]]:
    return (rows[start : start + _BATCH] for start in range(0, len(rows), _BATCH))
